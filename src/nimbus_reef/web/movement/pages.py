"""What Movement's views share, and the drift list: class and judgement of each row in words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.movement import MOVED
from nimbus_reef.core.metrics import Metric, Unit
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.movers import judgement, tone_of
from nimbus_reef.web.kit.tables import Head

MOST_DRAWN: Final = 60


def level(metric: Metric, value: float | None, figures: Figures) -> str:
    """A metric as it is written in running text."""
    if value is None:
        return "–"
    if metric.unit is Unit.RATE:
        return figures.rate(value, 2 if metric.key == "ctr" else 1)
    if metric.unit is Unit.MONEY:
        return figures.money(value, 2 if metric.is_ratio else 0)
    return figures.number(value, 2) if metric.unit is Unit.FACTOR else figures.count(value)


@dataclass(frozen=True, slots=True)
class DriftLine:
    """One row of the list beside the chart."""

    key: str
    name: str
    where: str
    sku: str
    spend: str
    spend_change: str
    sales: str
    sales_change: str
    acos: str
    acos_change: str
    words: str
    tone: str
    thin: bool
    profit: str


def drift_heads(symbol: str) -> tuple[Head, ...]:
    """The heads of the list beside the chart."""
    profit = "margin × change of sales − change of spend, per 30 days"
    return (
        Head("by effect on profit", css="first"),
        Head("profit", profit),
        Head(f"spend {symbol}"),
        Head(f"sales {symbol}"),
        Head("ACOS %"),
    )


def drift_lines(rows: pl.DataFrame, figures: Figures) -> list[DriftLine]:
    """The list: figures per 30 days, class and judgement in words."""
    lines = []
    for row in rows.to_dicts():
        now, then = row["acos1"], row["acos0"]
        points = None if now is None or then is None else (now - then) * 100
        lines.append(
            DriftLine(
                row["key"],
                row["name"],
                row["where"] or "",
                row["sku"] or "",
                figures.count(row["spend1"] * row["per1"]),
                _signed(row["spend_change"], figures),
                figures.count(row["sales1"] * row["per1"]),
                _signed(row["sales_change"], figures),
                figures.percent(now, 0) if now is not None else "no sales" if row["spend1"] else "–",
                "" if points is None else f"{figures.signed(points, 0)} pt",
                judgement(row, figures),
                tone_of(row),
                row["thin"],
                figures.change(row["profit"]),
            )
        )
    return lines


def _signed(value: float, figures: Figures) -> str:
    return figures.signed(value, 0)


def drift_export(rows: pl.DataFrame) -> Table:
    """Every row's movement as a file, money per 30 days."""
    sums = [pl.col(f"{name}{when}") * pl.col(f"per{when}") for name in ("spend", "sales") for when in (0, 1)]
    return Table("movement", rows.select(*MOVED, *sums), {"acos0": "0.0%", "acos1": "0.0%", "marginal": "0%"})
