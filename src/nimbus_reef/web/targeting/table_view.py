"""A table of Targeting: its rows, filtered and sorted, what they come to, and what is proposed on them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import polars as pl

from nimbus_reef.analysis import judged_proposals, judged_tables, tables
from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.analysis.planned_rows import YES, marked
from nimbus_reef.analysis.row_marks import with_marks
from nimbus_reef.core.checks import Subject
from nimbus_reef.errors import BadInput
from nimbus_reef.store.reading.facts import Held
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.tables import TableView, table_of
from nimbus_reef.web.targeting import action_forms, pages
from nimbus_reef.web.targeting.pages import ProposalCell, TableTotals
from nimbus_reef.web.targeting.summing import summed


@dataclass(frozen=True, slots=True)
class TargetingView:
    """
    A table. columns, column_sets: those shown and those offered; actions: what the form of own actions offers, None
    where nothing is done by hand; offers: whether what is proposed on rows is shown in them; source: the report behind.
    """

    table: TableView
    columns: Sequence[str]
    column_sets: Mapping[str, tuple[str, ...]]
    totals: TableTotals
    fields: Mapping[str, tables.Field]
    actions: Mapping[str, Any] | None
    offers: bool
    source: Held


@dataclass(frozen=True, slots=True)
class ListedRows:
    """Rows of a table: all of them, those that are left by filters, the fields they have and the filters."""

    rows: pl.DataFrame
    listing: tables.Listing
    fields: Mapping[str, tables.Field]
    filters: Sequence[tables.Filter]


def listed(ask: Context, view: View) -> ListedRows:
    """The rows that the scope and its filters leave."""
    scope = ask.scope
    need(ask.facts, scope, judged_proposals.sources(view.subject), ask.figures)
    known = judged_tables.fields(view, scope.judge)
    filters = tables.parse_filters(scope.where, known)
    rows = judged_proposals.judged(ask.facts, ask.look, view.subject)
    rows = with_marks(ask.facts, ask.look, view.subject, rows, filters)
    found = tables.listing(
        rows,
        filters=filters,
        query=scope.query,
        text_columns=view.text_columns,
        sort=scope.sort or judged_tables.usual_sort(view, scope.judge),
        fields=known,
        page=scope.page,
    )
    return ListedRows(rows, found, known, filters)


def page(ask: Context, view: View) -> TargetingView:
    """The view."""
    scope, figures = ask.scope, ask.figures
    found = listed(ask, view)
    listing, known = found.listing, found.fields
    columns = tables.chosen_columns(scope.cols, view.columns, known)
    shown = marked(listing.shown, view.subject, ask.planned())
    days = judged_proposals.monthly_days(ask.facts, ask.look, view.subject)
    return TargetingView(
        table_of(
            listing,
            len(found.rows),
            pages.lines(view, shown, columns, known, scope.judge, figures),
            pages.heads(view, columns, listing.sort, known, figures, scope.judge),
            figures,
            here=ask.url("targeting.table", name=view.name),
            things=view.things,
            picks=ask.writes,
            empty=f"No {view.thing} fits.",
            all="Remove all filters",
            chips=[(chip.label(figures.symbol), chip.text) for chip in found.filters],
        ),
        columns,
        view.columns,
        pages.totals(found.rows, summed(ask.facts, view, scope, listing.rows), days, figures),
        known,
        _actions(ask, view, known),
        view.subject is not Subject.PHRASE,
        ask.facts.held(ask.account.id, scope.window),
    )


def _actions(ask: Context, view: View, known: Mapping[str, tables.Field]) -> Mapping[str, Any] | None:
    offered = action_forms.actions_of(view.subject)
    if not offered or not ask.writes:
        return None
    metrics = action_forms.metrics_of(known, ask.figures.symbol)
    return {"offered": offered, "metrics": metrics, "rules": action_forms.RULES}


def proposal_cells(ask: Context, view: View) -> list[ProposalCell]:
    """What is proposed on each row of a page."""
    rows = marked(listed(ask, view).listing.shown, view.subject, ask.planned())
    found = judged_proposals.propose(ask.facts, ask.look, view.subject, rows)
    return [
        pages.proposal_cell(each, ask.figures, planned=planned == YES)
        for each, planned in zip(found, rows["planned"], strict=True)
    ]


def chosen(ask: Context, view: View, keys: Sequence[str] | None) -> pl.DataFrame:
    """The rows of some keys, or all that are filtered where there are none given; BadInput for no row."""
    rows = listed(ask, view).listing.ordered
    if keys is not None:
        rows = rows.filter(pl.col("row_id").is_in(list(keys)))
    if rows.is_empty():
        raise BadInput("No row is selected.", remedy="Select some first (x), or all that are filtered (X).")
    return rows
