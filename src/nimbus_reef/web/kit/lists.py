"""A list as a table: the same rows, filters and order on its page, where rows are acted on and as a file."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis import groups
from nimbus_reef.analysis.tables import NO, PAGE_ROWS, YES, Field, Listing, by_key, listing, parse_filters
from nimbus_reef.core import own_limits
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.people import labels, notes
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.web.kit.actions import RowActions
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.params import Scope


@dataclass(frozen=True, slots=True)
class ListSpec:
    """
    A list that is a table: what it is on its page, where its rows are acted on, and as a file.

    rows: all of them, each with a row_id; fields: what those are filtered and sorted by; searched: the columns whose
    text is; sort: the usual order, empty where the rows come in it; file: rows as they leave; key: the column by
    which they are selected; view: under which notes are written on them and changes planned, empty where neither is;
    page_rows: how many are on a page; planned: which of them the plan changes, where that is told by more than the
    promises; actions: what is done to them by hand.
    """

    rows: Callable[[Context], pl.DataFrame]
    fields: Callable[[Context, pl.DataFrame], Mapping[str, Field]]
    searched: tuple[str, ...]
    sort: str | Callable[[Context], str] = ""
    file: Callable[[Context, pl.DataFrame], Table | None] | None = None
    key: str = "row_id"
    view: str = ""
    page_rows: int = PAGE_ROWS
    planned: Callable[[Sequence[Planned]], pl.Expr] | None = None
    actions: RowActions | None = None


@dataclass(frozen=True, slots=True)
class ListedRows:
    """The rows of a list: all, and those that the address leaves, in its order."""

    rows: pl.DataFrame
    found: Listing
    fields: Mapping[str, Field]
    view: str = ""
    actions: RowActions | None = None


def asked_fields(scope: Scope) -> set[str]:
    """The fields that an address filters or sorts by, or shows as columns."""
    return {each.partition(":")[0] for each in scope.where} | {scope.sort.removeprefix("-"), *scope.cols.split(",")}


def with_fields(ask: Context, spec: ListSpec) -> tuple[pl.DataFrame, Mapping[str, Field]]:
    """All rows of a list, with the marks that the address asks for, and what they are filtered and sorted by."""
    rows = spec.rows(ask)
    fields = spec.fields(ask, rows)
    if spec.view and len(rows):
        own = {name: field for name, field in _marks(rows, spec).items() if name not in fields}
        rows = _marked(ask, spec, rows, asked_fields(ask.scope) & set(own))
        fields = {**fields, **own}
    return rows, fields


def listed(ask: Context, spec: ListSpec) -> ListedRows:
    """Rows as the scope filters, searches and sorts them."""
    rows, fields = with_fields(ask, spec)
    found = listing(
        rows,
        filters=parse_filters(ask.scope.where, fields),
        query=ask.scope.query,
        text_columns=spec.searched,
        sort=ask.scope.sort or (spec.sort if isinstance(spec.sort, str) else spec.sort(ask)),
        fields=fields,
        page=ask.scope.page,
        page_rows=spec.page_rows,
    )
    return ListedRows(rows, found, fields, spec.view, spec.actions)


_MARKS: Final[Mapping[str, Field]] = by_key(
    Field("planned", "in the plan", pl.col("planned"), options=(YES, NO), definition="Whether the plan changes it"),
    Field("noted", "has a note", pl.col("noted"), options=(YES, NO)),
    Field("label", "label", pl.col("label"), text=True, definition="A label of its product or campaign"),
)
"""What rows of any list are filtered by, worked out where it is asked for."""
_OF_CAMPAIGNS: Final[Mapping[str, Field]] = by_key(
    Field("purpose", "purpose", pl.col("purpose"), text=True, definition="What its campaign is for, by its name"),
    Field("age", "age in days", pl.col("age"), definition="Days since its campaign first spent", digits=0),
)
"""The same of rows that belong to a campaign."""


_LIMITS: Final[Mapping[str, Field]] = by_key(
    Field("own_target", "target ACOS", pl.col("target_acos") * 100, "%", "The target ACOS in force on it", digits=0),
    Field("ceiling", "highest bid", pl.col("limit_ceiling"), "¤", "The nearest highest bid in force on it", digits=2),
    Field("floor", "lowest bid", pl.col("limit_floor"), "¤", "The nearest lowest bid in force on it", digits=2),
    Field("step_down", "largest cut", pl.col("limit_step_down") * 100, "%", "Of its bid in one step", digits=0),
    Field("step_up", "largest raise", pl.col("limit_step_up") * 100, "%", "Of its bid in one step", digits=0),
)
"""Of rows that are judged by a target and whose bids are limited: what is in force on each."""


def _marks(rows: pl.DataFrame, spec: ListSpec) -> Mapping[str, Field]:
    of_campaigns = _OF_CAMPAIGNS if "campaign" in rows.columns else {}
    limited = _LIMITS if spec.actions and spec.actions.level and "target_acos" in rows.columns else {}
    return {**_MARKS, **of_campaigns, **limited}


def _marked(ask: Context, spec: ListSpec, rows: pl.DataFrame, asked: set[str]) -> pl.DataFrame:
    facts, account = ask.facts, ask.account
    holds = {}
    if "planned" in asked:
        planned = ask.planned()
        own = [each.promise.row_id for each in planned if each.promise.view == spec.view]
        holds["planned"] = spec.planned(planned) if spec.planned else pl.col(spec.key).is_in(own)
    if "noted" in asked:
        holds["noted"] = pl.col(spec.key).is_in(notes.rows_with(facts.store, account.id, spec.view))
    if "label" in asked:
        rows = rows.with_columns(label=_labels_of(rows, labels.of_account(facts.store, account.id)))
    if asked & set(own_limits.OF_BIDS):
        usual = account.bid_limits
        nearest = own_limits.columns(account.own_limits, usual, rows.columns)
        plain = [pl.lit(getattr(usual, what), pl.Float64).alias(f"limit_{what}") for what in own_limits.OF_BIDS]
        rows = rows.with_columns(plain).with_columns(nearest)
    if asked & set(_OF_CAMPAIGNS):
        whole = ask.selection.whole
        found = groups.rows(facts, whole, groups.CAMPAIGNS).select(campaign="name", purpose="purpose", age="age")
        rows = rows.with_columns(pl.col("campaign").cast(pl.String)).join(
            found, on="campaign", how="left", maintain_order="left"
        )
    return rows.with_columns(
        pl.when(condition).then(pl.lit(YES)).otherwise(pl.lit(NO)).alias(name) for name, condition in holds.items()
    )


def _labels_of(rows: pl.DataFrame, own: labels.Labels) -> pl.Expr:
    """The labels of a row's product and campaign, divided by commas."""
    texts = [
        pl.col(column)
        .cast(pl.String)
        .replace_strict({name: ", ".join(each) for name, each in of.items()}, default=None)
        for column, of in (("sku", own.products), ("campaign", own.campaigns))
        if column in rows.columns and of
    ]
    return pl.concat_str(texts, separator=", ", ignore_nulls=True) if texts else pl.lit("")


def file_of(ask: Context, spec: ListSpec) -> Table | None:
    """What the address leaves, as a file; None where the list leaves as none."""
    return None if spec.file is None else spec.file(ask, listed(ask, spec).found.ordered)


def chosen(ask: Context, spec: ListSpec, keys: Sequence[str] | None) -> pl.DataFrame:
    """The rows of some keys, or all that are filtered where none are given, in order; BadInput for no row."""
    rows = listed(ask, spec).found.ordered
    if keys is not None:
        rows = rows.filter(pl.col(spec.key).is_in(list(keys)))
    if rows.is_empty():
        raise BadInput("No row is selected.", remedy="Select rows first (x), or all filtered rows (X).")
    return rows
