"""What leaves Delivery as files, for pages, the workbook and the command line alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import out_of_budget
from nimbus_reef.analysis.delivery import budgets, hours, placements
from nimbus_reef.analysis.delivery.budgets import BudgetMove, Line
from nimbus_reef.analysis.delivery.hours import Grid
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.wording import WEEKDAYS
from nimbus_reef.core import evidence
from nimbus_reef.core.model import MICRO
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.reading.facts import Facts


def placements_table(rows: pl.DataFrame) -> Table:
    """Placements as a file."""
    frame = rows.select(
        pl.col("whose").cast(pl.String),
        "placement",
        "share_spend",
        "share_sales",
        "impressions",
        "clicks",
        pl.col("spend") / MICRO,
        "orders",
        "units",
        pl.col("sales") / MICRO,
        "cvr",
        "cpc",
        "rpc",
        "acos",
        "target_acos",
        "needed_cvr",
        "p_over",
        "verdict",
        evidence.counted_stake() / MICRO,
        *(["offsite_limited"] if "offsite_limited" in rows.columns else []),
    )
    return Table(
        "placements", frame, {"spend": "0.00", "sales": "0.00", "stake": "0.00", "acos": "0.0%", "cvr": "0.0%"}
    )


def hours_table(grid: Grid) -> Table:
    """The grid as a file, a row an hour of a weekday, means per occurrence."""
    rows = [
        (
            WEEKDAYS.get(day, "all days"),
            hour,
            cell.spend,
            cell.sales,
            cell.clicks,
            cell.orders,
            cell.organic,
            cell.acos,
            cell.tacos,
            cell.rpc,
        )
        for (day, hour), cell in sorted(grid.cells.items())
    ]
    columns = ("weekday", "hour", "spend", "ad_sales", "clicks", "orders", "organic_sales", "acos", "tacos", "rpc")
    kinds = {name: pl.String if name == "weekday" else pl.Int64 if name == "hour" else pl.Float64 for name in columns}
    return Table("hours", pl.DataFrame(rows, schema=kinds, orient="row"), {"spend": "0.00", "ad_sales": "0.00"})


def budgets_table(lines: Sequence[Line], moved: BudgetMove) -> Table:
    """Budgets as a file."""
    changes = {each.campaign: each.new for each in moved.budgets}
    rows = [
        (
            line.campaign,
            line.budget,
            line.row["spend"] / MICRO,
            line.row["sales"] / MICRO,
            line.row["acos"],
            line.verdict,
            line.usual_share,
            line.idle,
            line.dry_days,
            line.from_hour,
            line.missed.low,
            line.missed.middle,
            line.missed.high,
            changes.get(line.campaign),
        )
        for line in lines
    ]
    schema: dict[str, Any] = {
        "campaign": pl.String,
        "daily_budget": pl.Float64,
        "spend": pl.Float64,
        "sales": pl.Float64,
        "acos": pl.Float64,
        "verdict": pl.String,
        "usual_share": pl.Float64,
        "never_near": pl.Boolean,
        "dry_days": pl.Int64,
        "dry_from_hour": pl.Int64,
        "missed_low": pl.Float64,
        "missed_middle": pl.Float64,
        "missed_high": pl.Float64,
        "proposed_budget": pl.Float64,
    }
    money = dict.fromkeys(
        ("daily_budget", "spend", "sales", "missed_low", "missed_middle", "missed_high", "proposed_budget"), "0.00"
    )
    return Table("budgets", pl.DataFrame(rows, schema=schema, orient="row"), money)


def _budgets(facts: Facts, selection: Selection) -> Table:
    return budgets_table(budgets.lines(budgets.campaign_rows(facts, selection)), budgets.moved(facts, selection))


FILES: Final[Mapping[str, Callable[[Facts, Selection], Table]]] = {
    "placements": lambda facts, selection: placements_table(placements.judged(facts, selection)),
    "hours": lambda facts, selection: hours_table(hours.grid(facts, selection)),
    "budgets": _budgets,
}
"""Every table of the area, whole."""
NEEDS: Final[Mapping[str, tuple[str, ...]]] = {
    "placements": (placements.KIND,),
    "hours": (out_of_budget.KIND,),
    "budgets": budgets.SOURCES,
}
"""Reports of which any one makes a table."""
