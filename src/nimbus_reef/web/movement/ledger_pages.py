"""The ledger's view: one metric, every row's part of its change."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis import tables
from nimbus_reef.analysis.tables import Field, by_key
from nimbus_reef.core.metrics import METRICS, Metric, Unit
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.tables import Table
from nimbus_reef.formats.typed import number
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.movers import Ways
from nimbus_reef.web.kit.product import ProductDrawer
from nimbus_reef.web.kit.tables import TableView, table_of
from nimbus_reef.web.movement import ledger, sides
from nimbus_reef.web.movement.ledger import Ledger

_FIRST: Final = ("spend", "sales", "acos")
LEDGERED: Final = (*_FIRST, *(key for key in METRICS if key not in _FIRST))


@dataclass(frozen=True, slots=True)
class LedgerView:
    """The ledger of a metric; ledger, table: None where there is no change. least: what is typed to start from."""

    by: str
    metric: Metric
    metrics: Sequence[Metric]
    least: str
    ledger: Ledger | None
    table: TableView | None
    drawer: ProductDrawer | None
    ways: Ways


def page(ask: Context) -> LedgerView:
    """The view."""
    by, metric, here = sides.grouping(ask), _metric(ask), ask.url("movement.view", name="ledger")
    rows = _parts(ask)
    result = table = None
    if rows is not None and len(rows):
        of = listed(ask, LIST)
        columns = tables.chosen_columns(ask.scope.cols or _usual(metric), sides.COLUMNS, of.fields)
        result = ledger.ledger(of, columns, metric, ask.figures)
        table = table_of(
            ask,
            of,
            result.lines,
            result.heads,
            here=here,
            name="ledger",
            columns=columns,
            column_sets=sides.COLUMNS,
            empty="No rows match.",
            totals=((f"parts of {metric.label} together", ledger.change_words(metric, of.found.rows, ask.figures)),),
        )
    return LedgerView(
        by,
        metric,
        [METRICS[key] for key in LEDGERED],
        ask.scope.own_value("least"),
        result,
        table,
        sides.drawer(ask),
        sides.ways(ask, by, here),
    )


def _usual(metric: Metric) -> str:
    """Beside prices stands what a click is worth."""
    return sides.CLICKS if metric.key == "cpc" else ""


def _metric(ask: Context) -> Metric:
    return METRICS[ask.scope.choice("metric", LEDGERED)]


def _parts(ask: Context) -> pl.DataFrame | None:
    by, metric, least = sides.grouping(ask), _metric(ask), _least(ask)

    def make() -> pl.DataFrame | None:
        return ledger.ledger_rows(sides.sides(ask, by), metric, *sides.days(ask, by), least)

    return ask.facts.kept("ledger", ask.account.id, make, sides.compared(ask), by, metric.key, least)


def _least(ask: Context) -> float:
    text = ask.scope.own_value("least")
    value = number(text, ask.account.locale) if text else 0
    if value is None or not 0 <= value < 10**12:
        raise BadInput(f"“{text}” is not an amount.", remedy="Enter an amount such as 50.")
    return float(value)


def _rows(ask: Context) -> pl.DataFrame:
    """The parts, none where there is no change."""
    rows = _parts(ask)
    return pl.DataFrame(schema={"row_id": pl.String}) if rows is None else rows.with_columns(row_id="key")


def _fields(ask: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    if rows.is_empty():
        return {}
    metric = _metric(ask)
    unit = "¤" if metric.unit is Unit.MONEY else ""
    return sides.fields(ask, sides.grouping(ask)) | by_key(
        Field("part", "its part", pl.col("part"), unit, ledger.part_definition(metric)),
        Field("value0", "then", pl.col("value0"), unit),
        Field("value1", "now", pl.col("value1"), unit),
    )


def _file(ask: Context, rows: pl.DataFrame) -> Table | None:
    return None if rows.is_empty() else ledger.ledger_export(rows, _metric(ask))


LIST: Final = ListSpec(_rows, _fields, ("name", "where"), file=_file)
