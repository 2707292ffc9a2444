"""A table of Targeting: its rows, filtered and sorted, what they come to, and what is proposed on them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis import bid_response, judged_proposals, judged_tables, own_actions, tables
from nimbus_reef.analysis.judged_tables import BIDS, PRICES, STAYS, VIEWS, View
from nimbus_reef.analysis.planned_rows import marked
from nimbus_reef.analysis.row_marks import with_marks
from nimbus_reef.analysis.wording import response_words
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.tiers import ON_TARGETS, ON_TERMS, RowAction, Value
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.reading.facts import TargetSource
from nimbus_reef.web.kit.actions import RowActions
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.lists import ListSpec, asked_fields, listed
from nimbus_reef.web.kit.tables import TableView, table_of
from nimbus_reef.web.targeting import pages, solver_view
from nimbus_reef.web.targeting.pages import ProposalCell, TableTotals
from nimbus_reef.web.targeting.solver_view import SolverView
from nimbus_reef.web.targeting.summing import summed


@dataclass(frozen=True, slots=True)
class TargetingView:
    """
    A table. offers: whether what is proposed on rows is shown in them; source: the report behind; held: why bids stay,
    with how many, and the address of those, where bids are shown; response: how clicks answer bids, there; solver: what
    stands above it where prices are.
    """

    table: TableView
    totals: TableTotals
    offers: bool
    source: TargetSource
    held: Sequence[tuple[str, str, str]] = ()
    response: str = ""
    solver: SolverView | None = None


def list_of(view: View) -> ListSpec:
    """The table of a view as a list."""

    def rows(ask: Context) -> pl.DataFrame:
        need(ask.facts, ask.scope, judged_proposals.sources(view.subject), ask.figures)
        judged = judged_proposals.judged(ask.facts, ask.selection, view.subject)
        return with_marks(ask.facts, ask.selection, view.subject, judged, asked_fields(ask.scope))

    def file(ask: Context, rows: pl.DataFrame) -> Table:
        if view.subject is Subject.TARGET:
            rows = with_marks(ask.facts, ask.selection, view.subject, rows, {BIDS})
        return judged_tables.table_to_export(view, rows, ask.scope.window)

    def act(ask: Context, rows: pl.DataFrame, action: RowAction, value: Value, raises: bool) -> list[Proposal]:
        meant = float(value) if value is not None else None
        found = own_actions.proposals(ask.facts, ask.selection, view.subject, rows, action, meant, raises=raises)
        return own_actions.with_stops(ask.facts, ask.selection, found) if view.subject is Subject.TERM else found

    offered = {Subject.TARGET: ON_TARGETS, Subject.TERM: ON_TERMS}.get(view.subject, ())
    return ListSpec(
        rows,
        lambda ask, _: judged_tables.fields(view, ask.scope.judge),
        view.text_columns,
        lambda ask: judged_tables.usual_sort(view, ask.scope.judge),
        file,
        view=view.name,
        actions=RowActions(offered, act, level="target" if view.subject is Subject.TARGET else "") if offered else None,
    )


LISTS: Final = {name: list_of(view) for name, view in VIEWS.items()}


def page(ask: Context, view: View) -> TargetingView:
    """The view."""
    scope, figures = ask.scope, ask.figures
    of = listed(ask, LISTS[view.name])
    found, known = of.found, of.fields
    columns = tables.chosen_columns(scope.cols, view.columns, known)
    shown = marked(found.shown, view.subject, ask.planned())
    days = judged_proposals.monthly_days(ask.facts, ask.selection, view.subject)
    prices = view.subject is Subject.TARGET and scope.cols == PRICES
    return TargetingView(
        table_of(
            ask,
            of,
            pages.lines(view, shown, columns, known, scope.judge, figures, prices=prices),
            pages.heads(view, columns, found.sort, known, figures, scope.judge),
            here=ask.url("targeting.table", name=view.name),
            things=view.things,
            picks=ask.writes,
            empty=f"No {view.things} match.",
            columns=columns,
            column_sets=view.columns,
        ),
        pages.totals(of.rows, summed(ask.facts, view, scope, found.rows), days, figures),
        view.subject is not Subject.PHRASE,
        ask.facts.target_source(ask.account.id, scope.window),
        _held(ask, found.rows) if "held" in columns else (),
        response_words(bid_response.learned(ask.facts, ask.selection), figures) if "held" in columns else "",
        solver_view.page(ask, found.rows, len(of.rows)) if prices else None,
    )


def held_bids(ask: Context) -> str:
    """Where the bids that stay are listed, with why."""
    return ask.scope.link(ask.url("targeting.table", name="targets"), where=(f"advice:is:{STAYS}",), cols=BIDS)


def over_price(ask: Context) -> str:
    """Where the target solver is, with the targets that cost too much, the dearest first."""
    here = ask.url("targeting.table", name="targets")
    return ask.scope.link(here, where=("over_price:is:yes",), sort="more_spend", cols=PRICES)


def _held(ask: Context, rows: pl.DataFrame) -> list[tuple[str, str, str]]:
    """Why bids stay, the most frequent reason first."""
    counts = rows.filter(pl.col("held") != "").group_by("held").len().sort(["len", "held"], descending=[True, False])
    here = ask.url("targeting.table", name="targets")
    others = tuple(each for each in ask.scope.where if each.partition(":")[0] not in ("held", "advice"))
    return [
        (held, ask.figures.count(count), ask.scope.link(here, where=(*others, f"held:is:{held}"), page=1))
        for held, count in counts.rows()
    ]


def proposal_cells(ask: Context, view: View) -> list[ProposalCell]:
    """What is proposed on each row of a page."""
    rows = marked(listed(ask, LISTS[view.name]).found.shown, view.subject, ask.planned())
    found = judged_proposals.propose(ask.facts, ask.selection, view.subject, rows)
    return [
        pages.proposal_cell(each, ask.figures, planned=planned == tables.YES)
        for each, planned in zip(found, rows["planned"], strict=True)
    ]
