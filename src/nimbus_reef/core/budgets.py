"""
Budgets: who never spends theirs, who has none left, what to move.

Formulas: "Hours" in docs/calculations.md (budgets to move).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
KEPT_QUANTILE: Final = 0.95
LEAST_BUDGET: Final = 1.0
_CENTS: Final = 100


@dataclass(frozen=True, slots=True)
class IdleLimits:
    """A campaign is idle that spends below this part of its budget on at least this part of the days."""

    below: float = 0.60
    days: float = 0.90


STANDARD: Final = IdleLimits()


@dataclass(frozen=True, slots=True)
class Usage:
    """
    How campaigns use their budgets, an entry a campaign: idle, below 60 % of it on at least 90 % of the days (of the
    limits); spare, what it can give
    away: down to its 95th percentile day (linear), and to one unit at least; usual_share, the part that a middling day
    spends.
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
    A campaign's budget in units, and what of it is spare. missed: spend per dry day that the budget cut off; fine: its
    cost of sale is within target by evidence; acos: what its sales cost.
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
    Budgets moved from campaigns that never spend theirs to those that run dry and are fine, best cost of sale first.

    Each gets up to what it misses on a dry day. Cents are counted whole, so that what is given is exactly what is
    taken.

    Parameters
    ----------
    campaigns : Spending
        Money in units.
    total : money in units, optional
        What the sum becomes; it stays where none is given. What a larger one brings is given out too, a smaller one is
        taken from the idle first and not given.
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
