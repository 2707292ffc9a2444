"""How metrics ran: lines of a trend, smoothed or not, and the days a keyword worked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.analysis.wording import level
from nimbus_reef.core import past_bids
from nimbus_reef.core.metrics import METRICS, Unit, in_units, ratio, with_ratios
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table

_FIRST: Final = ("spend", "sales", "acos", "ctr", "cvr", "cpc", "aov", "impressions", "clicks", "orders")
TRENDED: Final = (*_FIRST, *(each.key for each in METRICS.values() if each.trends and each.key not in _FIRST))
SMOOTH: Final = {"": 1, "7": 7, "14": 14}


@dataclass(frozen=True, slots=True)
class Course:
    """
    One metric of a trend: its days, in the unit that is written, None where there is none; beside: what they are
    compared with, and its name.
    """

    key: str
    label: str
    values: tuple[float | None, ...]
    now: str
    beside: tuple[str, tuple[float | None, ...]] | None = None


def trend_lines(
    days: pl.DataFrame, metrics: Sequence[str], smooth: int, figures: Figures, window: Window, target_acos: float
) -> list[Course]:
    """
    Metrics by day; what they come to is told of the window. Smoothing: a ratio of the sums of the last days, never a
    mean of ratios; a sum's mean over them. Beside the price of a click stands what it may cost, of two weeks at least.
    """
    money = days.with_columns(in_units())
    rolled = money.with_columns(pl.col(MEASURES).cast(pl.Float64).rolling_mean(smooth, min_samples=1))
    inside = money.filter(pl.col("day").is_between(window.first, window.last))
    lines = []
    for key in metrics:
        metric = METRICS[key]
        if metric.is_ratio:
            below = pl.col(metric.denominator)
            values = rolled.select(pl.when(below > 0).then(pl.col(metric.numerator) / below)).to_series()
        else:
            values = rolled[key]
        scale = 100 if metric.unit is Unit.RATE else 1
        unit = " %" if metric.unit is Unit.RATE else f" {figures.symbol}" if metric.unit is Unit.MONEY else ""
        sums = {name: float(inside[name].sum()) for name in MEASURES}
        whole = metric.value(sums)
        if not metric.is_ratio:
            whole = ratio(sums[key], len(inside))
        lines.append(
            Course(
                key,
                f"{metric.label}{unit}",
                tuple(None if v is None else round(v * scale, 4) for v in values),
                level(metric, whole, figures) + ("" if metric.is_ratio or whole is None else " a day"),
                _may_cost(days, max(smooth, WORTH_DAYS), target_acos) if key == "cpc" else None,
            )
        )
    return lines


WORTH_DAYS: Final = 14


def _may_cost(days: pl.DataFrame, smooth: int, target_acos: float) -> tuple[str, tuple[float | None, ...]]:
    """What a click might cost on each day: target × revenue per click of the days up to it; days in micro-units."""
    sums = days.select(pl.col("sales", "clicks").cast(pl.Float64).rolling_sum(smooth, min_samples=1))
    worth = sums.select(METRICS["rpc"].expr() * target_acos).to_series()
    return f"may cost, {smooth} days", tuple(None if value is None else round(value, 4) for value in worth)


@dataclass(frozen=True, slots=True)
class Worked:
    """
    A stretch of two weeks of a keyword: whether it met its target, and the bid then; again: that bid as it is typed,
    where it worked and is not the bid of today.
    """

    days: str
    bid: str
    orders: str
    acos: str
    worked: bool
    known: bool
    again: str = ""


@dataclass(frozen=True, slots=True)
class BestDay:
    """A day of a keyword on which it sold within target."""

    day: str
    bid: str
    clicks: str
    orders: str
    acos: str


def best_days(days: pl.DataFrame, target_acos: float, figures: Figures, most: int = 6) -> list[BestDay]:
    """The days within target, most orders first, then least spend; days as in `stretches`."""
    good = days.filter(pl.col("orders") > 0, pl.col("spend") <= target_acos * pl.col("sales"))
    return [
        BestDay(
            figures.day(row["day"]),
            figures.money(row["bid"] / MICRO, 2) if row["bid"] is not None else "–",
            figures.count(row["clicks"]),
            figures.count(row["orders"]),
            figures.rate(ratio(row["spend"], row["sales"]), 0),
        )
        for row in good.sort(["orders", "spend", "day"], descending=[True, False, True]).head(most).to_dicts()
    ]


def stretches(days: pl.DataFrame, target_acos: float, figures: Figures) -> list[Worked]:
    """
    The 14-day blocks of a keyword, newest first. days: day, clicks, orders, spend, sales and
    bid (micro) in order. Worked: at least 3 orders within the target.
    """
    rows = days.select("day", "clicks", "orders", "spend", "sales", "bid").rows()
    now = next((bid / MICRO for *_, bid in reversed(rows) if bid is not None), None)
    found = []
    for end in range(len(rows), past_bids.BLOCK_DAYS - 1, -past_bids.BLOCK_DAYS):
        part = rows[end - past_bids.BLOCK_DAYS : end]
        past_blocks = past_bids.blocks(
            [
                past_bids.Day(clicks, orders, spend / MICRO, sales / MICRO, None if bid is None else bid / MICRO)
                for _, clicks, orders, spend, sales, bid in part
            ]
        )
        if not past_blocks:
            continue
        block = past_blocks[0]
        worked = past_bids.best_working([block], target_acos) is not None
        again = worked and now is not None and abs(block.bid - now) > past_bids.NEAR * now
        found.append(
            Worked(
                f"{figures.day(part[0][0])} – {figures.day(part[-1][0])}",
                figures.money(block.bid, 2),
                figures.count(block.orders),
                figures.rate(ratio(block.spend, block.sales), 0) if block.sales else "no sales",
                worked,
                block.orders >= past_bids.BLOCK_ORDERS,
                figures.number(block.bid) if again else "",
            )
        )
    return found


def shown_days(days: pl.DataFrame) -> list[date]:
    """The days of a trend."""
    found: list[date] = days["day"].to_list()
    return found


def trend_export(days: pl.DataFrame, bids: Sequence[float | None]) -> Table:
    """Every day of a trend as a file, never smoothed; with the bid of a keyword."""
    ratios = [key for key in TRENDED if METRICS[key].is_ratio]
    rated = with_ratios(days.select("day", *MEASURES), ratios).with_columns(in_units())
    own = [pl.Series("bid", bids, dtype=pl.Float64)] if bids else []
    money = dict.fromkeys((*(key for key in TRENDED if METRICS[key].unit is Unit.MONEY), "bid"), "0.00")
    rates = {key: "0.00%" if key == "ctr" else "0.0%" for key in ratios if METRICS[key].unit is Unit.RATE}
    return Table("trend", rated.drop("no_sales").with_columns(own), money | rates)
