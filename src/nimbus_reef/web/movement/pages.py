"""What Movement's views share, and the drift list: class and judgement of each row in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

from nimbus_reef.analysis.movement import MOVED
from nimbus_reef.analysis.tables import Field
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.lists import ListedRows
from nimbus_reef.web.kit.movers import judgement, tone_of
from nimbus_reef.web.kit.tables import Head, heads_of

MOST_DRAWN: Final = 60


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
    cells: tuple[str, ...]


def drift_heads(of: ListedRows, columns: Sequence[str], figures: Figures) -> tuple[Head, ...]:
    """The heads of the list beside the chart; columns: metrics that are shown besides."""
    keys = ("name", "profit", "spend", "sales", "acos", *(key for key in columns if key not in _ALWAYS))
    name, profit, *rest = heads_of({key: of.fields[key] for key in keys}, of.found.sort, figures)
    told = "Margin × change of sales − change of spend, per 30 days"
    return (replace(name, label="by effect on profit"), replace(profit, label="profit", definition=told), *rest)


_ALWAYS: Final = ("spend", "sales", "acos")


def drift_lines(
    rows: pl.DataFrame, columns: Sequence[str], known: Mapping[str, Field], figures: Figures
) -> list[DriftLine]:
    """The list: figures per 30 days, class and judgement in words; columns: metrics that are shown besides."""
    lines = []
    besides = [known[key] for key in columns if key not in _ALWAYS]
    more = rows.select(each.expr.alias(each.key) for each in besides).rows() if besides else [()] * len(rows)
    for row, values in zip(rows.to_dicts(), more, strict=True):
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
                tuple(figures.cell(value, each.digits or 0) for value, each in zip(values, besides, strict=True)),
            )
        )
    return lines


def _signed(value: float, figures: Figures) -> str:
    return figures.signed(value, 0)


def drift_export(rows: pl.DataFrame) -> Table:
    """Every row's movement as a file, money per 30 days."""
    sums = [pl.col(f"{name}{when}") * pl.col(f"per{when}") for name in ("spend", "sales") for when in (0, 1)]
    return Table("movement", rows.select(*MOVED, *sums), {"acos0": "0.0%", "acos1": "0.0%", "marginal": "0%"})
