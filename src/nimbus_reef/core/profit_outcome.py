"""
Did a change of a whole do what it promised: profit of a campaign, an ad group or a family before and after.

A budget, a bidding strategy, ads paused in favour of others: what these move cannot be told from the clicks of one row.
What the whole left after ads is compared with the days before, beside the control. Everything is a day's.
Formulas: “Did it work” in docs/calculations.md.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Final

from nimbus_reef.core.control import Control
from nimbus_reef.core.outcome import LOOKS, range_around

CONVERSION_DRIFT: Final = 0.08
"""By about so much conversion drifts by itself within a month."""


@dataclass(frozen=True, slots=True)
class WholeFigures:
    """What a whole did in so many days: clicks, spend and sales in units, orders."""

    days: int
    clicks: float
    spend: float
    orders: float
    sales: float

    def profit(self, margin: float) -> float:
        """What it left a day after ads."""
        return (self.sales * margin - self.spend) / self.days

    def variance(self, margin: float) -> float:
        """How far chance moves that: orders and clicks come one by one."""
        order = (self.sales / self.orders if self.orders else 0.0) * margin
        click = self.spend / self.clicks if self.clicks else 0.0
        return (order**2 * (self.orders + 0.5) + click**2 * (self.clicks + 0.5)) / self.days**2

    def longer(self, days: int) -> WholeFigures:
        """The same over more days, if all goes on as it did."""
        by = days / self.days
        return WholeFigures(days, self.clicks * by, self.spend * by, self.orders * by, self.sales * by)


@dataclass(frozen=True, slots=True)
class ProfitOutcome:
    """Profit a day that a change brought, its standard deviation; before (as the control moved) and after."""

    profit: float
    spread: float
    before: float
    after: float

    @property
    def range(self) -> tuple[float, float]:
        """The 80 % range."""
        return range_around(self.profit, self.spread)

    def less(self, profit: float, spread: float) -> ProfitOutcome:
        """Without what other changes of the same day brought, which are judged by themselves."""
        return replace(self, profit=self.profit - profit, spread=math.hypot(self.spread, spread))


def of_whole(before: WholeFigures, after: WholeFigures, margin: float, control: Control) -> ProfitOutcome:
    """
    What a change of a whole brought.

    References
    ----------
    docs/calculations.md, “Did it work”, wholes.
    """
    growth = control.growth
    expected, seen = before.profit(margin) * growth, after.profit(margin)
    variance = (
        before.variance(margin) * growth**2
        + after.variance(margin)
        + expected**2 * (control.variance + control.drift**2)
        + (CONVERSION_DRIFT * margin * before.sales / before.days * growth) ** 2
    )
    return ProfitOutcome(seen - expected, math.sqrt(variance), expected, seen)


def whole_decided_after(
    before: WholeFigures, after: WholeFigures, margin: float, control: Control, promised: float
) -> int | None:
    """After how many days the promise is likely to be told from nothing; None where not within twelve weeks."""
    for days in LOOKS:
        if days > after.days:
            then = of_whole(before, after.longer(days), margin, control.later(days / after.days))
            if promised >= 2 * then.spread:
                return days
    return None
