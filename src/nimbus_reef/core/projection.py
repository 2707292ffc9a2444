"""
What a change is likely to do to spend and sales in a month, as a range.

A pause or a negative takes the row's spend away, and what its posterior conversion
would have sold. A bid moves clicks and the price of a click by powers of it: see
`core.response`. Money is in units of currency.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

from nimbus_reef.core.evidence import interval
from nimbus_reef.core.response import USUAL, ClickResponse
from nimbus_reef.core.windows import month_factor, per_month


@dataclass(frozen=True, slots=True)
class Basis:
    """What a row did in `days` days, and the Beta posterior of its conversion."""

    days: int
    clicks: int
    spend: float
    sales: float
    a: float
    b: float
    aov: float


@dataclass(frozen=True, slots=True)
class Range:
    """A middle figure and the ends of its 80 % range, low ≤ middle ≤ high."""

    low: float
    middle: float
    high: float


@dataclass(frozen=True, slots=True)
class Projected:
    """The change of spend and of sales in 30 days; known: whether reports tell what comes of it at all."""

    spend: Range
    sales: Range
    known: bool = True


NOTHING = Projected(Range(0, 0, 0), Range(0, 0, 0))
"""It changes neither."""
UNKNOWN = Projected(Range(0, 0, 0), Range(0, 0, 0), known=False)
"""Spend and sales change by an unknown amount."""


def _ordered(values: Iterable[float], middle: float) -> Range:
    ends = [*values, middle]
    return Range(min(ends), middle, max(ends))


def expected_sales(basis: Basis) -> Range:
    """Monthly sales of the row by its posterior, not by the luck it had."""
    monthly = month_factor(basis.days) * basis.clicks * basis.aov
    low, high = interval(basis.a, basis.b)
    return Range(monthly * low, monthly * basis.a / (basis.a + basis.b), monthly * high)


def stopped(basis: Basis) -> Projected:
    """Pausing the row, or keeping it away with a negative."""
    spend = per_month(basis.spend, basis.days)
    sales = expected_sales(basis)
    return Projected(Range(-spend, -spend, -spend), Range(-sales.high, -sales.middle, -sales.low))


def bid_moved(basis: Basis, old_bid: float, new_bid: float, response: ClickResponse = USUAL) -> Projected:
    """Moving the bid to x times what it was: clicks by x^e, their price by x^p; the range spans that of e."""
    if old_bid <= 0:
        return UNKNOWN
    ratio = new_bid / old_bid
    spend = per_month(basis.spend, basis.days)
    sales = expected_sales(basis)
    gains = [ratio**power - 1 for power in response.powers]
    return Projected(
        _ordered(
            (spend * (ratio ** (response.p + power) - 1) for power in response.powers),
            spend * (ratio**response.of_spend - 1),
        ),
        _ordered((level * gain for gain in gains for level in (sales.low, sales.high)), sales.middle * gains[1]),
    )


def part_of(whole: Projected, share: float) -> Projected:
    """A share (0 … 1) of a projection."""

    def cut(each: Range) -> Range:
        return Range(each.low * share, each.middle * share, each.high * share)

    return Projected(cut(whole.spend), cut(whole.sales), whole.known)


def total(parts: Iterable[Projected]) -> Projected:
    """
    The sum of the changes whose effect is known; half-widths add in quadrature on each side, as for independent rows.
    Unknown where none is known.
    """
    projecteds = list(parts)
    listed = [each for each in projecteds if each.known]

    def add(ranges: list[Range]) -> Range:
        middle = math.fsum(each.middle for each in ranges)
        below = math.hypot(*(each.middle - each.low for each in ranges))
        above = math.hypot(*(each.high - each.middle for each in ranges))
        return Range(middle - below, middle, middle + above)

    if not listed:
        return UNKNOWN if projecteds else NOTHING
    return Projected(add([each.spend for each in listed]), add([each.sales for each in listed]))
