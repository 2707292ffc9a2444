"""Which reports of which days are missing, and which still mature and are fetched again."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import date, timedelta
from enum import StrEnum
from typing import Final

from nimbus_reef.core.windows import Window

MOST_DAYS: Final = 60
"""A report spans at most so many days; more are several reports."""


class Refetch(StrEnum):
    """Which days of a report are worth asking for."""

    GAPS = "every day that is missing, and those that mature"
    NEWEST = "the days after the newest one"
    WHOLE = "all of it, every time"


REFETCH: Final = {
    "catalog": Refetch.WHOLE,
    "boosts": Refetch.WHOLE,
    "campaigns": Refetch.NEWEST,
    "ad_groups": Refetch.NEWEST,
    "targets": Refetch.NEWEST,
    "product_ads": Refetch.NEWEST,
    "listings": Refetch.NEWEST,
    "changes": Refetch.NEWEST,
    "query_funnel": Refetch.NEWEST,
}
"""Of settings, days without a row are no gap; what is not here counts by day."""


def wanted(kind: str, loaded: Collection[date], offered: Window, maturing_days: int) -> list[Window]:
    """
    The days of a report to ask for, in order. loaded: days that are loaded, or were asked for and had nothing; offered:
    the days that the marketplace has, up to yesterday there.
    """
    rule = REFETCH.get(kind, Refetch.GAPS)
    if rule is Refetch.WHOLE:
        return [Window(offered.last, offered.last)]
    if rule is Refetch.NEWEST:
        newest = max((day for day in loaded if day <= offered.last), default=None)
        first = offered.first if newest is None else newest + timedelta(days=1)
        return _cut(Window(first, offered.last)) if first <= offered.last else []
    matures = offered.last - timedelta(days=maturing_days)
    every = (offered.first + timedelta(days=number) for number in range(offered.days))
    return [part for span in _spans(day for day in every if day > matures or day not in loaded) for part in _cut(span)]


def _spans(days: Iterable[date]) -> list[Window]:
    """Days in order as spans without a gap."""
    found: list[Window] = []
    for day in days:
        if found and found[-1].last + timedelta(days=1) == day:
            found[-1] = Window(found[-1].first, day)
        else:
            found.append(Window(day, day))
    return found


def _cut(span: Window) -> list[Window]:
    """A span in parts of at most `MOST_DAYS`."""
    firsts = [span.first + timedelta(days=begun) for begun in range(0, span.days, MOST_DAYS)]
    return [Window(first, min(span.last, first + timedelta(days=MOST_DAYS - 1))) for first in firsts]
