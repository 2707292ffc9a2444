"""Which days of a report kind are held, missing, or held before their sales had matured."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from enum import StrEnum

from nimbus_reef.core.windows import Window


class State(StrEnum):
    """What the record has of a day. In part: one of several ad formats is not there."""

    HELD = "held"
    PART = "held in part"
    EARLY = "loaded before it matured"
    MATURING = "maturing"
    MISSING = "missing"


@dataclass(frozen=True, slots=True)
class Span:
    """A batch that stands: its label (product, brand, display, all), days, and day of loading."""

    label: str
    days: Window
    loaded: date
    without: frozenset[date] = frozenset()

    def covers(self, day: date) -> bool:
        """True when the batch says what happened on that day, be it nothing."""
        return self.days.first <= day <= self.days.last and day not in self.without


@dataclass(frozen=True, slots=True)
class Stretch:
    """Neighbouring days in the same state."""

    state: State
    days: Window


def labels_in_use(spans: Iterable[Span]) -> frozenset[str]:
    """The ad formats that an account loads apart; `all` covers each of them."""
    return frozenset(span.label for span in spans if span.label != "all")


def _whole(day: date, spans: Sequence[Span], labels: frozenset[str]) -> bool:
    """True when for every label in use a batch covers the day, or one labelled `all`."""
    covering = {span.label for span in spans if span.covers(day)}
    return bool(covering) and ("all" in covering or labels <= covering)


def held_days(window: Window, spans: Sequence[Span], labels: frozenset[str]) -> int:
    """How many days of the window are held for every ad format in use."""
    if not spans:
        return 0
    return sum(_whole(window.first + timedelta(days=n), spans, labels) for n in range(window.days))


def state_of(
    day: date,
    spans: Sequence[Span],
    labels: frozenset[str],
    newest: date,
    maturing_days: int,
    *,
    matures: bool,
) -> State:
    """
    The state of one day.

    A day is held when for every label in use a batch covers it, or one labelled `all`.
    matures: the kind has sales that attribution keeps adding to, for `maturing_days`.
    """
    covering = [span for span in spans if span.covers(day)]
    if not covering:
        return State.MISSING
    if not _whole(day, covering, labels):
        return State.PART
    if not matures:
        return State.HELD
    if day > newest - timedelta(days=maturing_days):
        return State.MATURING
    last_loaded = min(
        max(span.loaded for span in covering if span.label == label)
        for label in {span.label for span in covering}
    )
    return State.EARLY if last_loaded <= day + timedelta(days=maturing_days) else State.HELD


def stretches(
    window: Window,
    spans: Sequence[Span],
    labels: frozenset[str],
    newest: date,
    maturing_days: int,
    *,
    matures: bool,
) -> list[Stretch]:
    """The days of the window in their states, neighbours of one state together, oldest first."""
    found: list[Stretch] = []
    for number in range(window.days):
        day = window.first + timedelta(days=number)
        state = state_of(day, spans, labels, newest, maturing_days, matures=matures)
        if found and found[-1].state is state:
            found[-1] = Stretch(state, Window(found[-1].days.first, day))
        else:
            found.append(Stretch(state, Window(day, day)))
    return found
