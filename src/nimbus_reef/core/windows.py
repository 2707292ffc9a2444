"""Closed ranges of days in the account's own time zone, and what they are compared with."""

from __future__ import annotations

import calendar
import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any, Final

from nimbus_reef.errors import BadInput

EARLIEST, LATEST = date(1990, 1, 1), date(2199, 12, 31)
"""No report is of days outside; within them every window has one before it."""
NAMED: Final[Mapping[str, str]] = {
    **{f"last-{days}": f"last {days} days" for days in (7, 14, 30, 60, 90)},
    "this-quarter": "this quarter",
    "last-12-months": "last 12 months",
}
"""Windows that count back from the newest complete day, by their form in an address."""
SAME_WEEKDAYS_LAST_YEAR = 364


@dataclass(frozen=True, slots=True, order=True)
class Window:
    """The days from `first` to `last`, both included."""

    first: date
    last: date

    def __post_init__(self) -> None:
        if self.last < self.first:
            raise BadInput(
                f"The window ends on {self.last}, before it begins on {self.first}.", remedy="Swap the two dates."
            )

    @property
    def days(self) -> int:
        """How many days the window holds."""
        return (self.last - self.first).days + 1

    def shifted(self, days: int) -> Window:
        """The same length, that many days later (earlier when negative)."""
        step = timedelta(days=days)
        return Window(self.first + step, self.last + step)


def is_calendar_month(window: Window) -> bool:
    """True when the window is exactly one calendar month."""
    first, last = window.first, window.last
    length = calendar.monthrange(first.year, first.month)[1]
    return first.day == 1 and last == first.replace(day=length)


def month(year: int, number: int) -> Window:
    """A calendar month."""
    return Window(date(year, number, 1), date(year, number, calendar.monthrange(year, number)[1]))


def month_of(day: date) -> Window:
    """The calendar month that a day lies in."""
    return month(day.year, day.month)


def preceding(window: Window) -> Window:
    """The same number of days right before; a calendar month against the month before."""
    if is_calendar_month(window):
        before = window.first - timedelta(days=1)
        return month(before.year, before.month)
    return window.shifted(-window.days)


def last_year(window: Window) -> Window:
    """The same weekdays a year before: 364 days back."""
    return window.shifted(-SAME_WEEKDAYS_LAST_YEAR)


def last_days(n: int, newest: date, maturing_days: int) -> Window:
    """
    The newest n days that have matured.

    `newest` is the newest day held; sales of the newest `maturing_days` days are
    still being added, so the window ends before them.
    """
    end = newest - timedelta(days=maturing_days)
    return Window(end - timedelta(days=n - 1), end)


def maturing(window: Window, newest: date, maturing_days: int, loaded: date | None = None) -> int:
    """
    How many days of the window still gain sales.

    loaded: when the newest days were, where they are one sum: it may be of days long past.
    """
    first_unripe = newest - timedelta(days=maturing_days - 1)
    if loaded is not None:
        first_unripe = max(first_unripe, loaded - timedelta(days=maturing_days))
    return max(0, (window.last - max(window.first, first_unripe)).days + 1)


def parse(text: str, newest: date, maturing_days: int) -> Window:
    """
    A window from its form in a URL.

    `last-30`, `this-quarter`, `last-12-months`, `2026-10` (a month) or `2026-09-17..2026-10-16` (any range).
    """
    found = _said(text, newest, maturing_days)
    if found is None or found.first < EARLIEST or found.last > LATEST:
        raise BadInput(
            f"“{text}” is not a window.", remedy="Use last-30, a month such as 2026-10, or 2026-09-17..2026-10-16."
        )
    return found


def _said(text: str, newest: date, maturing_days: int) -> Window | None:
    try:
        if match := re.fullmatch(r"last-(\d{1,3})", text):
            return last_days(max(1, int(match[1])), newest, maturing_days)
        if text in ("this-quarter", "last-12-months"):
            last = newest - timedelta(days=maturing_days)
            first = last.replace(month=last.month - (last.month - 1) % 3, day=1)
            return Window(first if text == "this-quarter" else last_days(365, newest, maturing_days).first, last)
        if match := re.fullmatch(r"(\d{4})-(\d{2})", text):
            return month(int(match[1]), int(match[2]))
        if match := re.fullmatch(r"(\d{4}-\d{2}-\d{2})\.\.(\d{4}-\d{2}-\d{2})", text):
            return Window(date.fromisoformat(match[1]), date.fromisoformat(match[2]))
    except ValueError:
        pass
    return None


ALIKE_DAYS = 3
"""Days by which two sums may differ in length and still be compared."""


def block_before(window: Window, blocks: Iterable[Window]) -> Window | None:
    """The sum right before one, of about its length; None where none is held."""
    alike = [
        block
        for block in blocks
        if block.last == window.first - timedelta(days=1) and abs(block.days - window.days) <= ALIKE_DAYS
    ]
    return min(alike, key=lambda block: abs(block.days - window.days), default=None)


def compared(text: str, window: Window, newest: date, blocks: Collection[Window] = ()) -> Window | None:
    """
    The window to compare with: `preceding`, `last-year`, `none` or any range.

    blocks: sums of several days that are held. What precedes one of them is the sum before it.
    """
    if text == "none":
        return None
    if text == "preceding":
        before = block_before(window, blocks) if window in blocks else None
        return before or preceding(window)
    if text == "last-year":
        return last_year(window)
    return parse(text, newest, 0)


MONTH_DAYS: Final = 30
"""Whatever is said a month is said per so many days."""


def month_factor(days: float) -> float:
    """What a sum of so many days is multiplied by to be per 30 days."""
    return MONTH_DAYS / days


def per_month(total: Any, days: Any) -> Any:
    """A sum of so many days (a number or an expression) per 30 days."""
    return total * MONTH_DAYS / days


def per_day(monthly: float) -> float:
    """What is said for 30 days, a day."""
    return monthly / MONTH_DAYS
