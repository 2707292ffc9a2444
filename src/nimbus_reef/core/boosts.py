"""
Boosts: scheduled raises of a campaign's budget or bids, and what they come to where several hold at once.

Formulas: "Hours" in docs/calculations.md (highest bid).
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Final, NamedTuple

MOST_BOOST: Final = 900
HOURS: Final = 24
WEEK: Final = range(1, 8)
_DAY_NUMBER: Final = re.compile(r"[0-9]{1,2}")
BID: Final = "bid"
BUDGET: Final = "budget"


class BoostHour(NamedTuple):
    """An hour of an ISO weekday; day: a date on it, None for any on which no dated boost holds."""

    weekday: int
    hour: int
    day: date | None


@dataclass(frozen=True, slots=True)
class Boost:
    """
    A raise: what ("budget" or "bid"), per cent, ISO weekdays (none: every day), hours from and to (excluded), first and
    last day (None: open). condition: counts as met.
    """

    name: str
    what: str
    percent: float
    weekdays: tuple[int, ...] = ()
    from_hour: int = 0
    to_hour: int = HOURS
    condition: str = ""
    first: date | None = None
    last: date | None = None

    def holds(self, moment: BoostHour) -> bool:
        """Whether it is in force then."""
        at = moment.weekday in (self.weekdays or WEEK) and self.from_hour <= moment.hour < self.to_hour
        if self.first is None and self.last is None:
            return at
        if moment.day is None:
            return False
        return at and (self.first or date.min) <= moment.day <= (self.last or date.max)


def problem(boost: Boost) -> str | None:
    """Why a boost cannot be planned; None when it can."""
    if boost.what not in (BUDGET, BID):
        return "raises a budget or a bid"
    if boost.percent < 0:
        return "can only raise; lower the base bid instead, and boost the hours in which it is to stay"
    if not 1 <= boost.percent <= MOST_BOOST or boost.percent != int(boost.percent):
        return f"raises by a whole number of per cent from 1 to {MOST_BOOST}"
    if not 0 <= boost.from_hour < boost.to_hour <= HOURS:
        return "needs hours that end after they begin, from 0 to 24"
    if any(day not in WEEK for day in boost.weekdays):
        return "needs weekdays from 1 (Monday) to 7"
    if boost.first and boost.last and boost.last < boost.first:
        return "ends before it begins"
    return None


def raised(boosts: Sequence[Boost], what: str, moment: BoostHour) -> float:
    """By what part a budget or bids are raised then: boosts that hold at once add up."""
    return sum(each.percent / 100 for each in boosts if each.what == what and each.holds(moment))


def highest(boosts: Sequence[Boost], what: str, weekday: int, hour: int) -> float:
    """
    The most by which a budget or bids are raised in an hour of a weekday, on whichever day most boosts of it hold at
    once.
    """
    return max(raised(boosts, what, BoostHour(weekday, hour, day)) for day in _days(boosts, weekday))


def moments(boosts: Sequence[Boost]) -> list[BoostHour]:
    """One moment of every stretch in which the same boosts hold."""
    hours = sorted({0, *(hour for each in boosts for hour in (each.from_hour, each.to_hour) if hour < HOURS)})
    return [BoostHour(weekday, hour, day) for weekday in WEEK for day in _days(boosts, weekday) for hour in hours]


def _days(boosts: Sequence[Boost], weekday: int) -> list[date | None]:
    """Days of a weekday on which other boosts hold than on the one before; None: on which no dated one does."""
    edges = {each.first for each in boosts if each.first} | {
        each.last + timedelta(days=1) for each in boosts if each.last and each.last < date.max
    }
    if any(each.first is None and each.last is not None for each in boosts):
        edges.add(date(2000, 1, 1))
    return [None, *sorted(_next(edge, weekday) for edge in edges)]


def _next(day: date, weekday: int) -> date:
    return day + timedelta(days=(weekday - day.isoweekday()) % 7)


_DATES: Final = re.compile(r"(\d{4}-\d\d-\d\d)?\.\.(\d{4}-\d\d-\d\d)?")
_WHILE: Final = "while "


def when_written(boost: Boost) -> str:
    """On which days a boost holds, as the change sheet has it: ISO weekdays, dates, a condition."""
    parts = [" ".join(str(day) for day in boost.weekdays)]
    if boost.first or boost.last:
        parts.append(f"{boost.first or ''}..{boost.last or ''}")
    if boost.condition:
        parts.append(f"{_WHILE}{boost.condition}")
    return "; ".join(part for part in parts if part)


def weekdays_of(text: str) -> tuple[int, ...]:
    """ISO numbers of days with spaces between them; what is no number of one or two digits is passed over."""
    return tuple(int(day) for day in text.split() if _DAY_NUMBER.fullmatch(day))


def from_sheet(what: str, percent: float, days: str, from_hour: str, to_hour: str) -> Boost:
    """A boost as the change sheet has it; what stands in `days` is read as `when_written` writes it."""
    weekdays: tuple[int, ...] = ()
    first = last = None
    condition = ""
    for part in filter(None, (each.strip() for each in days.split(";"))):
        if dates := _DATES.fullmatch(part):
            first, last = (date.fromisoformat(text) if text else None for text in dates.groups())
        elif part.startswith(_WHILE):
            condition = part.removeprefix(_WHILE)
        else:
            weekdays = weekdays_of(part)
    return Boost("planned", what, percent, weekdays, int(from_hour or 0), int(to_hour or HOURS), condition, first, last)


def lower_base(percent: float, bid: float) -> tuple[float, int]:
    """
    What a lowering that boosts cannot do comes to: the lower base bid, and the per cent by which it is to be raised in
    all other hours to stay what it was.
    """
    lowered = bid * (1 + percent / 100)
    return lowered, round((bid / lowered - 1) * 100) if lowered > 0 else MOST_BOOST
