"""The ledger's view: one metric, every row's part of its change."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.tables import page_of
from nimbus_reef.core.metrics import METRICS, Metric
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.tables import Table
from nimbus_reef.formats.typed import number
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.movers import Ways
from nimbus_reef.web.kit.product import ProductDrawer
from nimbus_reef.web.kit.tables import TableView
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
    rows = _rows(ask)
    number, of = page_of(0 if rows is None else len(rows), ask.scope.page)
    made = ledger.ledger(rows, metric, ask.figures, number, by) if rows is not None and len(rows) else None
    table = None
    if made is not None:
        table = TableView(here=here, name="ledger", heads=made.heads, groups={"": made.lines}, page=number, pages=of)
    return LedgerView(
        by,
        metric,
        [METRICS[key] for key in LEDGERED],
        ask.scope.said("least"),
        made,
        table,
        sides.drawer(ask),
        sides.ways(ask, by, here),
    )


def file(ask: Context) -> Table | None:
    """Every row's part as a file; None where there is no change."""
    rows = _rows(ask)
    return None if rows is None else ledger.ledger_export(rows, _metric(ask))


def _metric(ask: Context) -> Metric:
    return METRICS[ask.scope.choice("metric", LEDGERED)]


def _rows(ask: Context) -> pl.DataFrame | None:
    by, metric, least = sides.grouping(ask), _metric(ask), _least(ask)

    def make() -> pl.DataFrame | None:
        return ledger.ledger_rows(sides.sides(ask, by), metric, *sides.days(ask, by), least)

    return ask.facts.kept("ledger", ask.account.id, make, sides.compared(ask), by, metric.key, least)


def _least(ask: Context) -> float:
    text = ask.scope.said("least")
    value = number(text, ask.account.locale) if text else 0
    if value is None or not 0 <= value < 10**12:
        raise BadInput(f"“{text}” is not an amount to start from.", remedy="Write it like 50.")
    return float(value)
