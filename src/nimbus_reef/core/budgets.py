"""
Budgets: who never spends theirs, who has none left, what to move; and the highest bid that boosts can come to.

Formulas: "Hours" in docs/calculations.md (budgets to move, highest bid).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import numpy.typing as npt

from nimbus_reef.core.model import Placement
from nimbus_reef.core.placements import ADJUSTABLE

Floats = npt.NDArray[np.float64]
KEPT_QUANTILE: Final = 0.95
LEAST_BUDGET: Final = 1.0
MOST_BOOST: Final = 900
_CENTS: Final = 100
HOURS: Final = 24


@dataclass(frozen=True, slots=True)
class IdleLimits:
    """A campaign is idle that spends below this part of its budget on at least this part of the days."""

    below: float = 0.60
    days: float = 0.90


STANDARD: Final = IdleLimits()


@dataclass(frozen=True, slots=True)
class Usage:
    """
    How campaigns use their budgets, an entry a campaign: idle, below 60 % of it on at least 90 % of the days (of the limits); spare, what it can give
    away: down to its 95th percentile day (linear), and to one unit at least; usual_share, the part that a middling day spends.
    """

    idle: npt.NDArray[np.bool_]
    spare: Floats
    usual_share: Floats


def usage(budgets: Floats, spent: Floats, limits: IdleLimits = STANDARD) -> Usage:
    """budgets: units a day, one a campaign; spent: campaign × day, units."""
    if not spent.size:
        nothing = np.zeros(len(budgets))
        return Usage(np.zeros(len(budgets), dtype=bool), nothing, nothing)
    low = (spent < limits.below * budgets[:, None]).sum(axis=1)
    idle = (low >= limits.days * spent.shape[1]) & (budgets > 0)
    kept = np.maximum(LEAST_BUDGET, np.quantile(spent, KEPT_QUANTILE, axis=1))
    share = np.divide(np.median(spent, axis=1), budgets, out=np.zeros(len(budgets)), where=budgets > 0)
    return Usage(idle, np.where(idle, np.maximum(0.0, budgets - kept), 0.0), share)


@dataclass(frozen=True, slots=True)
class Spending:
    """
    A campaign's budget in units, and what of it is spare. missed: spend per dry day that the budget cut off; fine: its cost of sale is
    within target by evidence; acos: what its sales cost.
    """

    campaign: str
    budget: float
    spare: float = 0.0
    missed: float = 0.0
    fine: bool = False
    acos: float | None = None


@dataclass(frozen=True, slots=True)
class Budget:
    """A campaign's budget now and proposed, in units."""

    campaign: str
    old: float
    new: float

    @property
    def change(self) -> float:
        """What it gains or gives."""
        return round(self.new - self.old, 2)


def moves(campaigns: Sequence[Spending], total: float | None = None) -> tuple[Budget, ...]:
    """
    Budgets moved from campaigns that never spend theirs to those that run dry and are fine, best cost of sale first, each up
    to what it misses on a dry day. Their sum stays, or becomes `total` (units): what a larger total brings is given out too, a
    smaller one is taken from the idle first and not given.

    Cents are counted whole, so that what is given is exactly what is taken.
    """
    cents = {each.campaign: round(each.budget * _CENTS) for each in campaigns}
    spare = {each.campaign: int(each.spare * _CENTS + 1e-6) for each in campaigns if each.spare > 0}
    thirsty = sorted(
        (each for each in campaigns if each.missed > 0 and each.fine and each.campaign not in spare),
        key=lambda each: (each.acos is None, each.acos or 0.0, each.campaign),
    )
    more = 0 if total is None else round(total * _CENTS) - sum(cents.values())
    pool = max(0, sum(spare.values()) + more)
    given: dict[str, int] = {}
    for each in thirsty:
        part = min(pool, -(-round(each.missed * _CENTS * 1000) // 1000))
        if part:
            given[each.campaign] = part
            pool -= part
    taken = _taken(spare, sum(given.values()) - more)
    after = {**{name: -value for name, value in taken.items()}, **given}
    return tuple(
        Budget(each.campaign, each.budget, (cents[each.campaign] + after[each.campaign]) / _CENTS)
        for each in campaigns
        if after.get(each.campaign)
    )


def _taken(spare: Mapping[str, int], wanted: int) -> dict[str, int]:
    """What each gives of the wanted cents, the largest spare first."""
    taken: dict[str, int] = {}
    for name, cents in sorted(spare.items(), key=lambda each: (-each[1], each[0])):
        part = min(cents, max(0, wanted))
        if part:
            taken[name] = part
            wanted -= part
    return taken


@dataclass(frozen=True, slots=True)
class Boost:
    """
    A raise: what ("budget" or "bid"), per cent, ISO weekdays (none: every day), hours from and to (excluded). condition: counts
    as met.
    """

    name: str
    what: str
    percent: float
    weekdays: tuple[int, ...] = ()
    from_hour: int = 0
    to_hour: int = HOURS
    condition: str = ""

    def holds(self, weekday: int, hour: int) -> bool:
        """Whether it is in force in an hour of an ISO weekday."""
        return weekday in (self.weekdays or range(1, 8)) and self.from_hour <= hour < self.to_hour


def boost_problem(boost: Boost) -> str | None:
    """Why a boost cannot be planned; None when it can."""
    if boost.what not in ("budget", "bid"):
        return "raises a budget or a bid"
    if boost.percent < 0:
        return "can only raise; lower the base bid instead, and boost the hours in which it is to stay"
    if not 1 <= boost.percent <= MOST_BOOST or boost.percent != int(boost.percent):
        return f"raises by a whole number of per cent from 1 to {MOST_BOOST}"
    if not 0 <= boost.from_hour < boost.to_hour <= HOURS:
        return "needs hours that end after they begin, from 0 to 24"
    if any(day not in range(1, 8) for day in boost.weekdays):
        return "needs weekdays from 1 (Monday) to 7"
    return None


def lower_base(percent: float, bid: float) -> tuple[float, int]:
    """
    What a lowering that boosts cannot do comes to: the lower base bid, and the per cent by which it is to be raised in all
    other hours to stay what it was.
    """
    lowered = bid * (1 + percent / 100)
    return lowered, round((bid / lowered - 1) * 100) if lowered > 0 else MOST_BOOST


def highest_bids(
    bid: float,
    adjustments: Mapping[Placement, float],
    boosts: Sequence[Boost],
    raising: Mapping[Placement, float],
    weekday: int,
) -> dict[Placement, list[float]]:
    """
    The real highest bid by placement and hour of a weekday, in units: bid × (1 + adjustment + boosts) × (1 + u).

    Adjustments and boosts add, overlapping boosts too; they do not multiply. raising: u, how far the marketplace may raise a bid
    there by itself; nothing where it may not.
    """
    found = {}
    for placement in ADJUSTABLE:
        added = adjustments.get(placement, 0.0)
        u = raising.get(placement, 0.0)
        found[placement] = [
            bid
            * (
                1
                + added
                + sum(
                    each.percent / 100 for each in boosts if each.what == "bid" and each.holds(weekday, hour)
                )
            )
            * (1 + u)
            for hour in range(HOURS)
        ]
    return found
