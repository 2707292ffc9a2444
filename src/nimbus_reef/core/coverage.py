"""Which days of a report kind are held, missing, or held before their sales had matured."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from enum import StrEnum

from nimbus_reef.core.windows import Window


class DayState(StrEnum):
    """
    What the record has of a day. In part: one of several ad formats is not there; as one sum: its
    figures are known only together with those of other days.
    """

    HELD = "loaded"
    PART = "loaded in part"
    EARLY = "loaded before it matured"
    MATURING = "maturing"
    MISSING = "missing"
    SUM = "loaded as one sum"


@dataclass(frozen=True, slots=True)
class Span:
    """
    What a batch speaks for: its label (product, brand, display, all), days, and day of loading.

    block: the days are known only together. without: days of it that another batch has taken over
    or that were undone.
    """

    label: str
    days: Window
    loaded: date
    without: frozenset[date] = frozenset()
    block: bool = False

    def covers(self, day: date) -> bool:
        """True when the batch says what happened on that day, be it nothing."""
        return self.days.first <= day <= self.days.last and day not in self.without


def standing(spoken: Sequence[Span]) -> list[Span]:
    """
    What still stands of spans in the order of their loading.

    A later span of the same label, or of all, takes over the days it covers; a block that it
    touches is gone whole. Spans of another label stand beside it.
    """
    found: list[Span] = []
    for new in spoken:
        kept = []
        for old in found:
            apart = old.days.last < new.days.first or new.days.last < old.days.first
            if apart or new.label not in ("all", old.label):
                kept.append(old)
            elif not old.block:
                first, last = max(old.days.first, new.days.first), min(old.days.last, new.days.last)
                taken = {first + timedelta(days=n) for n in range((last - first).days + 1)} - new.without
                without = old.without | taken
                if len(without) < old.days.days:
                    kept.append(replace(old, without=without))
        found = [*kept, new]
    return found


@dataclass(frozen=True, slots=True)
class Stretch:
    """Neighbouring days in the same state."""

    state: DayState
    days: Window


def labels_in_use(spans: Iterable[Span]) -> frozenset[str]:
    """The ad formats that an account loads apart; `all` covers each of them."""
    return frozenset(span.label for span in spans if span.label != "all")


def _whole(day: date, spans: Sequence[Span], labels: frozenset[str]) -> bool:
    """True when for every label in use a batch covers the day, or one labelled `all`."""
    covering = {span.label for span in spans if span.covers(day)}
    return bool(covering) and ("all" in covering or labels <= covering)


def inside(spans: Iterable[Span], window: Window) -> list[Span]:
    """What a window's figures may come from: days, and blocks that it holds whole."""
    return [span for span in spans if not span.block or _holds(window, span.days)]


def cut(spans: Iterable[Span], window: Window) -> list[Window]:
    """Blocks of which the window holds only a part, oldest first, each once."""
    touched = {
        span.days
        for span in spans
        if span.block
        and not _holds(window, span.days)
        and span.days.first <= window.last
        and window.first <= span.days.last
    }
    return sorted(touched)


def _holds(window: Window, days: Window) -> bool:
    return window.first <= days.first and days.last <= window.last


def held_days(window: Window, spans: Sequence[Span], labels: frozenset[str]) -> int:
    """How many days of the window are held for every ad format in use."""
    counted = inside(spans, window)
    if not counted:
        return 0
    return sum(_whole(window.first + timedelta(days=n), counted, labels) for n in range(window.days))


def state_of(
    day: date, spans: Sequence[Span], labels: frozenset[str], newest: date, maturing_days: int, *, matures: bool
) -> DayState:
    """
    The state of one day.

    A day is held when for every label in use a batch covers it, or one labelled `all`.
    matures: the kind has sales that attribution keeps adding to, for `maturing_days`.
    """
    covering = [span for span in spans if span.covers(day)]
    if not covering:
        return DayState.MISSING
    if all(span.block for span in covering):
        return DayState.SUM
    if not _whole(day, covering, labels):
        return DayState.PART
    if not matures:
        return DayState.HELD
    if day > newest - timedelta(days=maturing_days):
        return DayState.MATURING
    last_loaded = min(
        max(span.loaded for span in covering if span.label == label) for label in {span.label for span in covering}
    )
    return DayState.EARLY if last_loaded <= day + timedelta(days=maturing_days) else DayState.HELD


def stretches(
    window: Window, spans: Sequence[Span], labels: frozenset[str], newest: date, maturing_days: int, *, matures: bool
) -> list[Stretch]:
    """The window as stretches of days with one state, oldest first. Each report total is a stretch of its own."""
    found: list[Stretch] = []
    begins = {span.days.first for span in spans if span.block}
    for number in range(window.days):
        day = window.first + timedelta(days=number)
        state = state_of(day, spans, labels, newest, maturing_days, matures=matures)
        if found and found[-1].state is state and not (state is DayState.SUM and day in begins):
            found[-1] = Stretch(state, Window(found[-1].days.first, day))
        else:
            found.append(Stretch(state, Window(day, day)))
    return found
