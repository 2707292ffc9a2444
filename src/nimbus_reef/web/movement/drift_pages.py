"""The drift chart: what every row moved, drawn and listed, and why ACOS moved in one sentence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

from nimbus_reef.analysis import tables
from nimbus_reef.web.kit import movers
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drift import Drift, drift
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.movers import Ways
from nimbus_reef.web.kit.product import ProductDrawer
from nimbus_reef.web.kit.tables import TableView, table_of
from nimbus_reef.web.movement import pages, sides, why
from nimbus_reef.web.movement.why import WhyPage, WhyStep


@dataclass(frozen=True, slots=True)
class DriftView:
    """The chart and its list. everything: all rows are listed; count, drawn: how many there are, and are drawn."""

    answer: Answer
    steps: Sequence[WhyStep]
    by: str
    everything: bool
    chart: Drift
    table: TableView
    count: int
    count_words: str
    drawn: int
    drawer: ProductDrawer | None
    ways: Ways


def page(ask: Context) -> DriftView:
    """The view."""
    by, figures, here = sides.grouping(ask), ask.figures, ask.url("movement.view", name="drift")
    everything = ask.scope.choice("show", ("largest", "all")) == "all"
    of = listed(ask, LIST)
    columns = tables.chosen_columns(ask.scope.cols, sides.COLUMNS, of.fields)
    rows = of.found.ordered
    shown = rows.head(pages.MOST_DRAWN if everything else movers.LARGEST)
    # The page's own grouping, as on Why: another grouping splits the change differently.
    whole = why.kept(ask, by) or WhyPage(Answer("No sales in one of the two periods.", ""))
    here_rows = of.found.shown if everything else shown
    products = sides.sides(ask, "product" if by != "family" else "family")
    target = ask.scope.target_acos

    def drawn() -> Drift:
        return drift(movers.movers(shown, figures), target, movers.break_even(products))

    key = (sides.compared(ask), target, by, everything, figures, ask.scope.where, ask.scope.query, ask.scope.sort)
    return DriftView(
        whole.answer,
        whole.steps,
        by,
        everything,
        ask.facts.kept("drawn", ask.account.id, drawn, *key),
        replace(
            table_of(
                ask,
                of,
                pages.drift_lines(here_rows, columns, of.fields, figures),
                pages.drift_heads(of, columns, figures),
                here=here,
                name="drift-list",
                things="rows",
                columns=columns,
                column_sets=sides.COLUMNS,
                empty="No spend or sales in either period." if of.rows.is_empty() else "No rows match.",
            ),
            pages=of.found.pages if everything else 1,
        ),
        len(rows),
        figures.count(len(rows)),
        len(shown),
        sides.drawer(ask),
        sides.ways(ask, by, here),
    )


def _rows(ask: Context) -> pl.DataFrame:
    return sides.ranked(ask, sides.grouping(ask)).with_columns(row_id="key")


LIST: Final = ListSpec(
    _rows,
    lambda ask, _: sides.fields(ask, sides.grouping(ask)),
    ("name", "where"),
    file=lambda _, rows: pages.drift_export(rows),
)
