"""The drift chart: what every row moved, drawn and listed, and why ACOS moved in one sentence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimbus_reef.analysis.tables import PAGE_ROWS, page_of
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit import movers
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drift import Drift, drift
from nimbus_reef.web.kit.movers import Ways
from nimbus_reef.web.kit.product import ProductDrawer
from nimbus_reef.web.kit.tables import TableView
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
    rows = sides.ranked(ask, by)
    shown = rows.head(pages.MOST_DRAWN if everything else movers.LARGEST)
    # The page's own grouping, as on Why: another grouping splits the change differently.
    whole = why.kept(ask, by) or WhyPage(Answer("Nothing was sold in one of the windows.", ""))
    number, of = page_of(len(rows), ask.scope.page) if everything else (1, 1)
    listed = rows.slice((number - 1) * PAGE_ROWS, PAGE_ROWS) if everything else shown
    products = sides.sides(ask, "product" if by != "family" else "family")
    target = ask.scope.target_acos

    def drawn() -> Drift:
        return drift(movers.movers(shown, figures), target, movers.break_even(products))

    key = (sides.compared(ask), target, by, everything, figures)
    return DriftView(
        whole.answer,
        whole.steps,
        by,
        everything,
        ask.facts.kept("drawn", ask.account.id, drawn, *key),
        TableView(
            here=here,
            name="drift-list",
            heads=pages.drift_heads(figures.symbol),
            groups={"": pages.drift_lines(listed, figures)},
            page=number,
            pages=of,
            empty="Nothing spent or sold in either window.",
        ),
        len(rows),
        figures.count(len(rows)),
        len(shown),
        sides.drawer(ask),
        sides.ways(ask, by, here),
    )


def file(ask: Context) -> Table:
    """Every row as a file."""
    return pages.drift_export(sides.ranked(ask, sides.grouping(ask)))
