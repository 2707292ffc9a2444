"""
Did a pause or a negative keep its spend away: what came back on the same searches elsewhere.

Formulas: “Did it work” in docs/calculations.md.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Final

from nimbus_reef.core.control import Control
from nimbus_reef.core.evidence import interval
from nimbus_reef.core.outcome import LOOKS, ClickWorth, OutcomeVerdict, range_around

HALF: Final = 0.5
"""The part of its spend that has to stay away."""


@dataclass(frozen=True, slots=True)
class StoppedSides:
    """
    clicks_before, spend_before: of what was stopped, on so many days on which it was live. elsewhere_before and
    elsewhere_after: clicks of the same searches under all other targets, without what changes of their own bids did.
    """

    days_before: int
    clicks_before: float
    spend_before: float
    elsewhere_before: float
    days_after: int
    elsewhere_after: float


@dataclass(frozen=True, slots=True)
class StoppedOutcome:
    """
    share: the part of its clicks that stayed away, 0 to 1, and its standard deviation; clicks: those expected a day
    without the change; back: those that came back (below 0 where the same searches brought fewer elsewhere, too);
    promised: spend a day.
    """

    share: float
    spread: float
    clicks: float
    back: float
    promised: float

    @property
    def range(self) -> tuple[float, float]:
        """The 80 % range of the part that stayed away."""
        return range_around(self.share, self.spread)

    @property
    def verdict(self) -> OutcomeVerdict:
        """Kept where more than half stayed away for sure."""
        low, high = self.range
        if low > HALF:
            return OutcomeVerdict.KEPT
        return OutcomeVerdict.DID_NOT if high < HALF else OutcomeVerdict.TOO_EARLY

    @property
    def spend(self) -> tuple[float, float]:
        """Spend a day that stayed away, and its standard deviation."""
        return self.promised * self.share, self.promised * self.spread


def of_stopped(sides: StoppedSides, control: Control) -> StoppedOutcome:
    """What stayed away of something that had clicks before."""
    d0, growth, drift = sides.days_before, control.growth, control.drift
    expected = sides.clicks_before / d0 * growth
    usual = growth * sides.elsewhere_before / d0
    back = sides.elsewhere_after / sides.days_after - usual
    counted = (
        (sides.elsewhere_before + 0.5) * (growth / d0) ** 2
        + (sides.elsewhere_after + 0.5) / sides.days_after**2
        + (drift * usual) ** 2
    )
    own = (growth / d0) ** 2 * sides.clicks_before / expected**2 + control.variance + drift**2
    variance = counted / expected**2 + (back / expected) ** 2 * own
    # More than all of it cannot stay away: a figure beyond that is chance, and no better proof.
    share = min(max(1 - back / expected, 0.0), 1.0)
    return StoppedOutcome(share, math.sqrt(variance), expected, back, sides.spend_before / d0)


def stopped_decided_after(sides: StoppedSides, control: Control) -> int | None:
    """After how many days the share is likely to be told from a half, if all goes on as it did."""
    for days in LOOKS:
        if days <= sides.days_after:
            continue
        longer = days / sides.days_after
        then = StoppedSides(
            sides.days_before,
            sides.clicks_before,
            sides.spend_before,
            sides.elsewhere_before,
            days,
            sides.elsewhere_after * longer,
        )
        if of_stopped(then, control.later(longer)).verdict is not OutcomeVerdict.TOO_EARLY:
            return days
    return None


def sales_it_may_have_cost(outcome: StoppedOutcome, worth: ClickWorth) -> tuple[float, float, float]:
    """Sales a day that went with the clicks that stayed away: low, middle and high by what clicks brought before."""
    away = outcome.clicks * outcome.share * worth.order_value
    low, high = interval(worth.a, worth.b)
    return away * low, away * worth.conversion, away * high
