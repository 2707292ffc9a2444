"""
What another price of a click does to a scope, and what a target ACOS takes: price, conversion and order value.

ACOS = price of a click ÷ (conversion × order value). Formulas: "Target solver" in docs/calculations.md. Money is in
units of currency, rates are fractions.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Final

from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.response import ClickResponse

MISFIT: Final = 0.02
"""A typed figure further than this from the scope's own is not from this scope."""
TRIED: Final = (0.6, 1.5)
"""Prices, in parts of today's, that lie near anything tried."""
NO_MARGIN: Final = 0.2
"""Above this share of sales without a margin, profit is unknown."""


class Figure(StrEnum):
    """One of the four that belong together."""

    ACOS = "acos"
    PRICE = "cpc"
    CONVERSION = "cvr"
    ORDER = "aov"


@dataclass(frozen=True, slots=True)
class ScopeSums:
    """What a scope did, per 30 days. margin: weighed by sales, None where it is not known."""

    clicks: float
    orders: float
    spend: float
    sales: float
    margin: float | None = None

    @property
    def solvable(self) -> bool:
        """Whether it has spend and sales to start from."""
        return self.spend > 0 and self.sales > 0 and self.clicks > 0

    @property
    def price(self) -> float:
        """Of a click; the scope has clicks."""
        return self.spend / self.clicks

    @property
    def acos(self) -> float:
        """Of a scope with sales."""
        return self.spend / self.sales

    @property
    def figures(self) -> dict[Figure, float | None]:
        """The four figures as they are now."""
        return {
            Figure.ACOS: ratio(self.spend, self.sales),
            Figure.PRICE: ratio(self.spend, self.clicks),
            Figure.CONVERSION: ratio(self.orders, self.clicks),
            Figure.ORDER: ratio(self.sales, self.orders),
        }


@dataclass(frozen=True, slots=True)
class Outcome:
    """
    A scope at another price of a click, per 30 days. factor: that price in parts of today's; bids: the factor of bids
    that brings it; profit None where the margin is not known.
    """

    factor: float
    bids: float
    sales: float
    spend: float
    acos: float
    profit: float | None


def at_price(now: ScopeSums, factor: float, response: ClickResponse, e: float | None = None) -> Outcome:
    """
    What the scope does where a click costs `factor` times today's price.

    Parameters
    ----------
    now : ScopeSums
        With spend and sales.
    factor : ratio
        κ, above 0.
    response : ClickResponse
    e : number, optional
        Another answer of clicks, for the ends of a range.

    References
    ----------
    docs/calculations.md, “Target solver”.
    """
    e = response.e if e is None else e
    sales = now.sales * factor ** (e / response.p)
    spend = now.spend * factor ** ((e + response.p) / response.p)
    profit = None if now.margin is None else now.margin * sales - spend
    return Outcome(factor, factor ** (1 / response.p), sales, spend, now.acos * factor, profit)


def between(now: ScopeSums, factor: float, response: ClickResponse) -> tuple[Outcome, Outcome]:
    """`at_price` at both ends of the 80 % range of how clicks answer."""
    low, _, high = response.powers
    return at_price(now, factor, response, low), at_price(now, factor, response, high)


def factor_for(now: ScopeSums, acos: float) -> float:
    """The price, in parts of today's, at which the scope's ACOS is this one."""
    return acos * now.sales / now.spend


def peak(now: ScopeSums, response: ClickResponse) -> float | None:
    """The ACOS at which the scope's profit peaks; None without a margin, or where clicks do not answer bids."""
    return now.margin * response.peak if now.margin is not None and response.peak > 0 else None


def solved(now: Mapping[Figure, float], target: float, fixed: Figure, value: float) -> dict[Figure, float]:
    """
    With one figure fixed, what each of the others has to be, alone, for the target.

    Parameters
    ----------
    now : figure → number
        Price, conversion and order value of the scope, all above 0.
    target : fraction
        Target ACOS in force.
    fixed : Figure
    value : number
        What it is fixed at. An ACOS takes the place of the target.

    Returns
    -------
    figure → number
        The fixed one as given. ACOS: what it comes out at with the fixed figure and the others as now; the others: what
        meets the target where the rest stay.

    References
    ----------
    docs/calculations.md, “Target solver”.
    """
    at = {**now, fixed: value}
    price, conversion, order = at[Figure.PRICE], at[Figure.CONVERSION], at[Figure.ORDER]
    acos = value if fixed is Figure.ACOS else target
    needed = {
        Figure.ACOS: price / (conversion * order),
        Figure.PRICE: acos * conversion * order,
        Figure.CONVERSION: price / (order * acos),
        Figure.ORDER: price / (conversion * acos),
    }
    return {**needed, fixed: value}


def equal_effort(now: Mapping[Figure, float], target: float) -> tuple[float, float]:
    """Conversion and price that meet the target where both move by the same ratio."""
    acos = now[Figure.PRICE] / (now[Figure.CONVERSION] * now[Figure.ORDER])
    part = (acos / target) ** 0.5
    return now[Figure.CONVERSION] * part, now[Figure.PRICE] / part


def misfits(own: Mapping[Figure, float], typed: Mapping[Figure, float]) -> list[Figure]:
    """Figures typed by hand that are not this scope's: more than 2 % from its own."""
    return [figure for figure, value in typed.items() if abs(value / own[figure] - 1) > MISFIT]
