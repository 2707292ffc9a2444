"""
Did a change of a price do what it promised: its effect on profit, and the verdict.

A bid, an adjustment or a boost moves clicks and what a click costs. Both are compared before and after, with targets
that nothing touched as control. What a click is worth comes from both periods together, for a price does not change it.
Everything is a day's. Formulas: “Did it work” in docs/calculations.md.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Final

from nimbus_reef.core.control import Control
from nimbus_reef.core.evidence import probability_over
from nimbus_reef.core.response import ClickResponse

WIDTH: Final = 1.2816
"""Standard deviations to each end of an 80 % range."""
FIRST_DAYS: Final = 14
"""The least mature days that are judged after anything but another price."""
LAST_DAYS: Final = 84
LOOKS: Final = (21, 28, 42, 56, 84)
"""Days after a change at which it may be looked at again."""
ROWS_DIFFER: Final = 0.4
"""By so much single rows answer a bid otherwise than the account as a whole."""
SURE: Final = 0.90
SHARED: Final = 1.44
"""Squared errors in a sum are larger by this, for changes share their control."""


class OutcomeVerdict(StrEnum):
    """Whether a change kept its promise. NONE: it promised nothing that could be judged."""

    KEPT = "kept"
    DID_NOT = "did not"
    TOO_EARLY = "too early"
    NONE = "no verdict"


def range_around(mean: float, spread: float) -> tuple[float, float]:
    """The 80 % range of a figure with its standard deviation."""
    return mean - WIDTH * spread, mean + WIDTH * spread


@dataclass(frozen=True, slots=True)
class Sides:
    """What a thing did before and after its change: days, clicks, spend (units of currency); and the orders after."""

    days_before: int
    clicks_before: float
    spend_before: float
    days_after: int
    clicks_after: float
    spend_after: float
    orders_after: float

    @property
    def compared(self) -> bool:
        """Whether there was a click before: without one a price is judged as a new target."""
        return self.clicks_before > 0

    @property
    def counted_orders(self) -> float:
        """Orders after the change, at most one a click."""
        return min(self.orders_after, self.clicks_after)


@dataclass(frozen=True, slots=True)
class ClickWorth:
    """
    What clicks were known to bring when the change was accepted: a, b, the posterior of conversion; order_value and
    margin (before ads, a fraction; the target ACOS where none is known).
    """

    a: float
    b: float
    order_value: float
    margin: float

    @property
    def profit_of_order(self) -> float:
        """What an order leaves before ads."""
        return self.order_value * self.margin

    @property
    def conversion(self) -> float:
        """Its mean."""
        return self.a / (self.a + self.b)

    @property
    def value(self) -> float:
        """What a click leaves before its price."""
        return self.conversion * self.profit_of_order

    @property
    def value_spread(self) -> float:
        """Its standard error."""
        q = self.conversion
        return self.profit_of_order * math.sqrt(q * (1 - q) / (self.a + self.b + 1))

    def after(self, sides: Sides) -> ClickWorth:
        """The same with the clicks and orders after the change."""
        orders = sides.counted_orders
        return replace(self, a=self.a + orders, b=self.b + sides.clicks_after - orders)


@dataclass(frozen=True, slots=True)
class Weighed:
    """The change of clicks as a logarithm: what was expected, what was seen, and both together, each with variance."""

    expected: tuple[float, float]
    seen: tuple[float, float]

    @property
    def weight(self) -> float:
        """How much the expected change counts in the mean of both."""
        (_, usual), (_, own) = self.expected, self.seen
        return own / (usual + own) if usual + own > 0 else 1.0

    @property
    def mean(self) -> float:
        """Both together."""
        return self.weight * self.expected[0] + (1 - self.weight) * self.seen[0]

    @property
    def variance(self) -> float:
        """Of the mean."""
        (_, usual), (_, own) = self.expected, self.seen
        return usual * own / (usual + own) if usual + own > 0 else 0.0


@dataclass(frozen=True, slots=True)
class PriceOutcome:
    """
    What another price did. profit and spread: profit a day, and its standard deviation; clicks: its change of clicks;
    paid: the price of a click before (moved as the control's) and after; level: clicks a day without the change; worth:
    of a click; slope: by how much profit moves with e, which all changes of a sum share.
    """

    profit: float
    spread: float
    clicks: Weighed
    paid: tuple[float, float]
    level: float
    worth: ClickWorth
    slope: float

    @property
    def range(self) -> tuple[float, float]:
        """The 80 % range of profit a day."""
        return range_around(self.profit, self.spread)

    @property
    def extra_sales(self) -> float:
        """Sales a day that the change of clicks brought."""
        gained = self.level * (math.exp(self.clicks.mean) - 1)
        return gained * self.worth.conversion * self.worth.order_value


def promised_profit(sides: Sides, worth: ClickWorth, x: float, response: ClickResponse) -> float:
    """Profit a day that a price of x times the old one promises, with the days before as the audit saw them."""
    if not sides.compared or x <= 0:
        return 0.0
    paid = sides.spend_before / sides.clicks_before
    gain = math.pow(x, response.e) * (worth.value - paid * math.pow(x, response.p)) - (worth.value - paid)
    return sides.clicks_before / sides.days_before * gain


def of_price(sides: Sides, worth: ClickWorth, x: float, response: ClickResponse, control: Control) -> PriceOutcome:
    """
    The effect of a price that became x times what it was. sides: with clicks before; worth: as at acceptance.

    References
    ----------
    docs/calculations.md, “Did it work”, steps 1 to 4.
    """
    worth = worth.after(sides)
    before = sides.spend_before / sides.clicks_before * control.price
    after = sides.spend_after / sides.clicks_after if sides.clicks_after else before * x**response.p
    clicks = _weighed(sides, x, response, control)
    level = (sides.clicks_before + sides.clicks_after * math.exp(-clicks.mean)) / (sides.days_before + sides.days_after)
    kept = level * math.exp(clicks.mean)
    value = worth.value
    profit = kept * (value - after) - level * (value - before)
    variance = (
        (kept * (value - after)) ** 2 * clicks.variance
        + ((kept - level) * worth.value_spread) ** 2
        + profit**2 / max(1.0, sides.clicks_before + sides.clicks_after)
    )
    slope = kept * (value - after) * math.log(x) * clicks.weight
    return PriceOutcome(profit, math.sqrt(variance), clicks, (before, after), level, worth, slope)


def _weighed(sides: Sides, x: float, response: ClickResponse, control: Control) -> Weighed:
    """What clicks usually do at such a price, and what they did beside the control."""
    usual = (response.e * math.log(x), (ROWS_DIFFER**2 + response.spread**2) * math.log(x) ** 2)
    before, after = sides.clicks_before + 0.5, sides.clicks_after + 0.5
    seen = math.log(after / sides.days_after / (before / sides.days_before * control.growth))
    return Weighed(usual, (seen, 1 / before + 1 / after + control.variance + control.drift**2))


def by_range(found: tuple[float, float], promised: float) -> OutcomeVerdict:
    """Whether the 80 % range of what came keeps a promise of profit a day; no verdict where it promised none."""
    if promised <= 0:
        return OutcomeVerdict.NONE
    low, high = found
    if low > 0:
        return OutcomeVerdict.KEPT
    return OutcomeVerdict.DID_NOT if high < promised / 2 else OutcomeVerdict.TOO_EARLY


def chance_over(sides: Sides, worth: ClickWorth, limit: float) -> float:
    """
    The chance that clicks after the change cost more than a part of the sales they bring. limit: the margin (it loses
    money) or the target ACOS. One half where there was no click: nothing is known.
    """
    if not sides.clicks_after:
        return 0.5
    own = worth.after(sides)
    needed = sides.spend_after / sides.clicks_after / (worth.order_value * limit) if worth.order_value * limit else 1.0
    return 1.0 if needed >= 1 else float(probability_over(needed, own.a, own.b))


def verdict_by_chance(chance: float) -> OutcomeVerdict:
    """Of a new target by the chance that it loses money, of a raise within the target by that of being above it."""
    if chance <= 1 - SURE:
        return OutcomeVerdict.KEPT
    return OutcomeVerdict.DID_NOT if chance >= SURE else OutcomeVerdict.TOO_EARLY


def later(sides: Sides, worth: ClickWorth, days: int) -> Sides:
    """The same so many days after the change, if all goes on as it did; orders by what clicks are known to bring."""
    longer = days / sides.days_after
    conversion = worth.after(sides).conversion
    added = (longer - 1) * sides.clicks_after * conversion
    return replace(
        sides,
        days_after=days,
        clicks_after=sides.clicks_after * longer,
        spend_after=sides.spend_after * longer,
        orders_after=sides.counted_orders + added,
    )


def price_decided_after(
    sides: Sides, worth: ClickWorth, x: float, response: ClickResponse, control: Control, promised: float
) -> int | None:
    """After how many days the promise is likely to be told from nothing; None where not within twelve weeks."""
    for days in _looks(sides):
        seen = of_price(later(sides, worth, days), worth, x, response, control.later(days / sides.days_after))
        if promised >= 2 * seen.spread:
            return days
    return None


def chance_decided_after(sides: Sides, worth: ClickWorth, limit: float) -> int | None:
    """The same of what is judged by a chance."""
    for days in _looks(sides):
        then = later(sides, worth, days)
        if verdict_by_chance(chance_over(then, worth, limit)) is not OutcomeVerdict.TOO_EARLY:
            return days
    return None


def _looks(sides: Sides) -> list[int]:
    return [days for days in LOOKS if days > sides.days_after]


@dataclass(frozen=True, slots=True)
class OutcomeSum:
    """Several changes of a kind together, a day: what came of what was promised, and the half-width of its range."""

    changes: int
    promised: float
    result: float
    half_width: float

    @property
    def range(self) -> tuple[float, float]:
        """The 80 % range of the result."""
        return self.result - self.half_width, self.result + self.half_width

    @property
    def verdict(self) -> OutcomeVerdict:
        """As of a single change."""
        return by_range(self.range, self.promised)


@dataclass(frozen=True, slots=True)
class SumPart:
    """One change in a sum: promised and came, its standard deviation, and how it moves with e; all a day's."""

    promised: float
    result: float
    spread: float
    slope: float = 0.0


def summed(parts: Sequence[SumPart], response: ClickResponse) -> OutcomeSum:
    """Changes together. A wrong e is wrong for all of them alike, so its part of the error adds up."""
    own = SHARED * math.fsum(each.spread**2 for each in parts)
    alike = response.spread * math.fsum(each.slope for each in parts)
    return OutcomeSum(
        len(parts),
        math.fsum(each.promised for each in parts),
        math.fsum(each.result for each in parts),
        WIDTH * math.sqrt(own + alike**2),
    )
