"""
Ratios of the trade, always made from summed measures and never averaged.

A ratio whose denominator is 0 is null: never 0, never infinite. ACOS with spend
and no sales is null with the flag `no_sales`, which sorts as the worst.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, Final

import polars as pl

from nimbus_reef.core.model import MEASURES, MICRO


class Unit(StrEnum):
    """How a figure is written."""

    COUNT = "count"
    MONEY = "money"
    RATE = "rate"
    FACTOR = "factor"


class Better(StrEnum):
    """Which way is good."""

    HIGHER = "higher"
    LOWER = "lower"
    NEITHER = "neither"


@dataclass(frozen=True, slots=True)
class Metric:
    """
    A figure that can be shown, filtered and sorted.

    Measures are added up; ratios are `numerator / denominator` of what they add up to, money in units of currency.
    label: the trade's name, everywhere; long_name: in full; definition: its formula. digits: its decimals in a column.
    enough: the measures, and the least of each, that it takes to judge it among peers; none where there are no peers.
    proportion: a share of trials, else a quotient.
    leaves: it is a column of the tables that leave as files; trends: it is offered as a trend.
    """

    key: str
    label: str
    unit: Unit
    better: Better
    definition: str
    numerator: str = ""
    denominator: str = ""
    long_name: str = ""
    digits: int = 0
    enough: tuple[tuple[str, int], ...] = ()
    proportion: bool = False
    leaves: bool = True
    trends: bool = True

    @property
    def is_ratio(self) -> bool:
        """True when the figure is a quotient of two measures."""
        return bool(self.denominator)

    def value(self, sums: Mapping[str, float]) -> float | None:
        """The figure of summed measures, money in units; None on a zero base."""
        if not self.is_ratio:
            return sums[self.key]
        return ratio(sums[self.numerator], sums[self.denominator])

    def expr(self, of: str = "") -> pl.Expr:
        """
        The figure from columns of summed measures, money in units; null on a zero base. of: what their names begin
        with.
        """
        if not self.is_ratio:
            return _in_units(f"{of}{self.key}")
        part, whole = pl.col(f"{of}{self.numerator}"), pl.col(f"{of}{self.denominator}")
        quotient = part.cast(pl.Float64) / whole
        # Units last: the quotient of two integers is rounded once, so 500/5 is 100 exactly.
        if is_money(self.numerator) and not is_money(self.denominator):
            quotient = quotient / MICRO
        return pl.when(whole != 0).then(quotient).alias(self.key)


def _in_units(measure: str) -> pl.Expr:
    column = pl.col(measure)
    return column / MICRO if is_money(measure) else column


_ADS: Final = (
    Metric("impressions", "impressions", Unit.COUNT, Better.HIGHER, "how often ads were shown"),
    Metric("clicks", "clicks", Unit.COUNT, Better.HIGHER, "how often ads were clicked"),
    Metric("spend", "spend", Unit.MONEY, Better.NEITHER, "cost of the clicks"),
    Metric("orders", "orders", Unit.COUNT, Better.HIGHER, "orders attributed to ads"),
    Metric("units", "units", Unit.COUNT, Better.HIGHER, "units in those orders", trends=False),
    Metric("sales", "sales", Unit.MONEY, Better.HIGHER, "sales attributed to ads"),
)
_TRADE: Final = (
    Metric("sessions", "sessions", Unit.COUNT, Better.HIGHER, "visits to product pages, with ads and without"),
    Metric("total_orders", "total orders", Unit.COUNT, Better.HIGHER, "all orders, with ads and without"),
    Metric("total_units", "total units", Unit.COUNT, Better.HIGHER, "all units, with ads and without"),
    Metric("total_sales", "total sales", Unit.MONEY, Better.HIGHER, "all sales, with ads and without"),
)
_PATH: Final = tuple(
    Metric(f"{who}_{stage}", f"{whose} {words}", Unit.COUNT, Better.NEITHER, f"{words} of a query, {whose}")
    for who, whose in (("market", "the market’s"), ("own", "your"))
    for stage, words in (
        ("impressions", "impressions"),
        ("clicks", "clicks"),
        ("cart_adds", "cart adds"),
        ("purchases", "purchases"),
    )
)
_CARTS: Final = (
    Metric("cart_adds", "cart adds", Unit.COUNT, Better.HIGHER, "how often a product was added to a cart"),
    Metric("purchases", "purchases", Unit.COUNT, Better.HIGHER, "cart adds that were bought"),
)
MEASURE_OF: Final[Mapping[str, Metric]] = {each.key: each for each in (*_ADS, *_TRADE, *_CARTS, *_PATH)}
"""
Whatever is counted and can be added up, in whole numbers, money in micro-units; what a new report counts is one entry
more.
"""


def ratio(part: float, whole: float | None) -> float | None:
    """A quotient of two sums; None on a base of zero, or none."""
    return part / whole if whole else None


def is_money(measure: str) -> bool:
    """True for measures that are kept in micro-units."""
    known = MEASURE_OF.get(measure)
    return known is not None and known.unit is Unit.MONEY


def in_units(measures: Iterable[str] = MEASURES, suffix: str = "") -> list[pl.Expr]:
    """Those of the measures that are money, in units in place of micro-units; suffix: of the columns' names."""
    return [(pl.col(f"{name}{suffix}") / MICRO).alias(f"{name}{suffix}") for name in measures if is_money(name)]


def sums_in_units(row: Mapping[str, Any], measures: Iterable[str] = MEASURES) -> dict[str, float]:
    """The measures of one summed row, money in units."""
    return {name: row[name] / MICRO if is_money(name) else float(row[name]) for name in measures}


_RATIOS: Final = (
    Metric(
        "ctr",
        "CTR",
        Unit.RATE,
        Better.HIGHER,
        "clicks ÷ impressions",
        "clicks",
        "impressions",
        long_name="click-through rate",
        digits=1,
        enough=(("impressions", 1_000),),
        proportion=True,
    ),
    Metric(
        "cvr",
        "CVR",
        Unit.RATE,
        Better.HIGHER,
        "orders ÷ clicks",
        "orders",
        "clicks",
        long_name="conversion rate",
        digits=1,
        enough=(("clicks", 100),),
        proportion=True,
    ),
    Metric(
        "cpc",
        "CPC",
        Unit.MONEY,
        Better.LOWER,
        "spend ÷ clicks",
        "spend",
        "clicks",
        long_name="cost per click",
        digits=2,
        enough=(("clicks", 100),),
    ),
    Metric(
        "aov",
        "AOV",
        Unit.MONEY,
        Better.HIGHER,
        "sales ÷ orders",
        "sales",
        "orders",
        long_name="average order value",
        digits=2,
        enough=(("orders", 10),),
    ),
    Metric(
        "rpc",
        "RPC",
        Unit.MONEY,
        Better.HIGHER,
        "sales ÷ clicks",
        "sales",
        "clicks",
        long_name="revenue per click",
        digits=2,
        trends=False,
    ),
    Metric(
        "acos",
        "ACOS",
        Unit.RATE,
        Better.LOWER,
        "spend ÷ sales",
        "spend",
        "sales",
        long_name="advertising cost of sale",
        enough=(("orders", 10),),
    ),
    Metric(
        "roas",
        "ROAS",
        Unit.FACTOR,
        Better.HIGHER,
        "sales ÷ spend",
        "sales",
        "spend",
        long_name="return on ad spend",
        digits=2,
        leaves=False,
    ),
)
SHOP_METRICS: Final = (
    Metric(
        "cart_rate",
        "cart rate",
        Unit.RATE,
        Better.HIGHER,
        "cart adds ÷ clicks",
        "cart_adds",
        "clicks",
        long_name="cart adds per click",
        digits=1,
        enough=(("clicks", 100),),
        proportion=True,
    ),
    Metric(
        "purchase_rate",
        "purchase rate",
        Unit.RATE,
        Better.HIGHER,
        "purchases ÷ cart adds",
        "purchases",
        "cart_adds",
        long_name="purchases per cart add",
        digits=1,
        enough=(("cart_adds", 30),),
        proportion=True,
    ),
)
"""Of the shopper's path, which reports of ads do not tell."""
TACOS: Final = Metric(
    "tacos",
    "TACOS",
    Unit.RATE,
    Better.LOWER,
    "spend ÷ total sales",
    "spend",
    "total_sales",
    long_name="total advertising cost of sale",
    digits=1,
)
"""Of ads and all trade together."""
METRICS: Mapping[str, Metric] = {metric.key: metric for metric in (*_ADS, *_RATIOS)}
RATIOS = tuple(metric.key for metric in _RATIOS)


_TARGET_PARTS: Final = 10_000
"""A target is a decimal of four places, so that limits are compared in whole numbers."""


def within_target(target: str = "target_acos") -> pl.Expr:
    """True where spend ≤ target × sales (micro-units), compared in integers: at the limit is within."""
    parts = (pl.col(target) * _TARGET_PARTS).round().cast(pl.Int128)
    return pl.col("spend").cast(pl.Int128) * _TARGET_PARTS <= parts * pl.col("sales").cast(pl.Int128)


def met_target(spend: float, sales: float, target: float) -> bool:
    """The same of one row in units of money."""
    micro = (round(spend * MICRO), round(sales * MICRO))
    return micro[0] * _TARGET_PARTS <= round(target * _TARGET_PARTS) * micro[1]


def no_sales() -> pl.Expr:
    """True where money was spent and nothing sold: ACOS is endless."""
    return ((pl.col("spend") > 0) & (pl.col("sales") == 0)).alias("no_sales")


def with_ratios(frame: pl.DataFrame, keys: Iterable[str] = RATIOS) -> pl.DataFrame:
    """Adds ratio columns and `no_sales` to a frame of summed measures (money in micro-units)."""
    return frame.with_columns(*(METRICS[key].expr() for key in keys), no_sales())


def summed(frame: pl.DataFrame, by: list[str]) -> pl.DataFrame:
    """Sums whatever measures there are per group, as exact integers; an empty `by` gives one row."""
    present = [pl.col(measure).sum().cast(pl.Int64) for measure in MEASURE_OF if measure in frame.columns]
    return frame.group_by(by).agg(present) if by else frame.select(present)


def acos_rank() -> pl.Expr:
    """ACOS for sorting: endless (spend, no sales) is worst, nothing spent is not ranked."""
    return pl.when(pl.col("no_sales")).then(float("inf")).otherwise(pl.col("acos"))


@dataclass(frozen=True, slots=True)
class Difference:
    """Now against then: absolute, and relative where there is a base other than 0."""

    absolute: float | None
    relative: float | None


def difference(now: float | None, then: float | None) -> Difference:
    """The change of one figure; relative is None ("new") when the base is 0."""
    if now is None or then is None:
        return Difference(None, None)
    return Difference(now - then, (now - then) / then if then else None)
