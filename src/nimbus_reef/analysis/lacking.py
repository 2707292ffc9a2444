"""What a view has no figures for: which report would bring them, and which days are held instead."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Final

from nimbus_reef.core.coverage import inside, labels_in_use
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading.facts import Facts

_OFFERED_DAYS: Final = 30
WHENEVER: Final = ("listings", "keyword_ranks", "phrase_lists", "rivals")
"""Reports that are always read from their newest load."""
_EVER: Final = Window(date.min, date.max)


@dataclass(frozen=True, slots=True)
class HeldReports:
    """Days of a report that are held elsewhere, and the newest of them to look at instead."""

    kind: str
    days: Window
    look_at: Window


@dataclass(frozen=True, slots=True)
class Lack:
    """
    A window without figures. kinds: reports of which any one would do, the better first; held: those
    of them that hold other days; cut: sums of which the window holds only a part.
    """

    window: Window
    kinds: tuple[str, ...]
    loaded: tuple[HeldReports, ...]
    cut: tuple[tuple[str, Window], ...]


def lacking(facts: Facts, account: Account, window: Window, kinds: Sequence[str]) -> Lack | None:
    """
    What is missing where none of the reports holds a day of the window; else None. Pages do not mature: of those any
    day will do.
    """
    spans = facts.spans(account.id)
    if any(
        facts.held_days(account.id, kind, window)
        or facts.versions(account.id, kind, window)
        or (kind in WHENEVER and facts.versions(account.id, kind, _EVER))
        for kind in kinds
    ):
        return None
    cut = facts.cut(account.id, window)
    return Lack(
        window,
        tuple(kinds),
        tuple(stored for kind in kinds if (stored := _held(facts, account, kind)) is not None),
        tuple((kind, block) for kind in kinds if kind in spans for block in cut.get(kind, [])),
    )


def _held(facts: Facts, account: Account, kind: str) -> HeldReports | None:
    spans = facts.spans(account.id).get(kind, [])
    if not spans:
        return None
    first, last = min(span.days.first for span in spans), max(span.days.last for span in spans)
    newest = max(spans, key=lambda span: (span.days.last, -span.days.days))
    look_at = newest.days
    if not newest.block:
        look_at = Window(max(first, last - timedelta(days=_OFFERED_DAYS - 1)), last)
    return HeldReports(kind, Window(first, last), look_at)


def days_missing(facts: Facts, account: Account, kind: str, window: Window) -> int:
    """How many days of the window a report that holds some of it lacks."""
    spans = facts.spans(account.id).get(kind, [])
    if not inside(spans, window) or not labels_in_use(spans) <= {span.label for span in spans}:
        return 0
    return window.days - facts.held_days(account.id, kind, window)
