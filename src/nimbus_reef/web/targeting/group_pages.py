"""Campaigns and ad groups as tables to act on: fields, columns, rows, totals, what is opened, what leaves as a file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import groups, tables
from nimbus_reef.analysis.groups import AD_GROUPS, CAMPAIGNS
from nimbus_reef.analysis.judged_tables import BIDS, P_OVER
from nimbus_reef.analysis.tables import Field, metric_fields, yes_or_no
from nimbus_reef.core.metrics import METRICS
from nimbus_reef.core.model import MICRO, Format, State, Verdict
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.tiers import RowAction, Value
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.web.kit.actions import RowActions
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, asked_fields, listed
from nimbus_reef.web.kit.tables import TableView, heads_of, sums, table_of
from nimbus_reef.web.kit.verdicts import mark_of
from nimbus_reef.web.targeting.pages import Cell


@dataclass(frozen=True, slots=True)
class GroupTable:
    """One of the two tables. next: the table that a row leads on to."""

    name: str
    title: str
    thing: str
    things: str
    next: str
    columns: Mapping[str, tuple[str, ...]]


_USUAL: Final = ("stake", "spend", "sales", "acos", "cvr", "cpc", "rpc", "orders")
TABLES: Final[Mapping[str, GroupTable]] = {
    CAMPAIGNS: GroupTable(
        CAMPAIGNS,
        "Campaigns",
        "campaign",
        "campaigns",
        AD_GROUPS,
        {
            "usual": ("stake", "spend", "sales", "acos", "cvr", "cpc", "rpc", "budget", "dry_share", "top_share"),
            "settings": ("spend", "budget", "dry_share", "top_share", "targets", "products", "age", "acos"),
            BIDS: ("gain", "moves", "spend", "sales", "acos", "cpc", "rpc", "targets"),
            "all metrics": tuple(METRICS),
        },
    ),
    AD_GROUPS: GroupTable(
        AD_GROUPS,
        "Ad groups",
        "ad group",
        "ad groups",
        "targets",
        {
            "usual": (*_USUAL, "targets", "products"),
            "settings": ("spend", "targets", "products", "age", "acos"),
            BIDS: ("gain", "moves", "spend", "sales", "acos", "cpc", "rpc", "targets"),
            "all metrics": tuple(METRICS),
        },
    ),
}
BIDS_OF: Final = frozenset((BIDS, "moves", "gain"))
"""What asks for what is proposed on the bids in a row."""
_PER_CENT: Final = 100
_IN_WORDS: Final = ("state", "format", "verdict")


def fields(of: GroupTable, rows: pl.DataFrame) -> dict[str, Field]:
    """What rows are filtered and sorted by. rows: all of them, whose purposes and portfolios are choices."""
    choices = {
        name: tuple(rows[name].cast(pl.String).drop_nulls().unique().sort().to_list())
        for name in ("purpose", "portfolio")
    }
    own = [
        Field("name", of.thing, pl.col("name"), text=True),
        Field("stake", "wasted", pl.col("stake") / MICRO, "¤", "Likely spend above target per 30 days", digits=0),
        P_OVER,
        Field("verdict", "verdict", pl.col("verdict"), options=tuple(each.value for each in Verdict)),
        Field("state", "state", pl.col("state"), options=tuple(State)),
        Field("format", "format", pl.col("format").cast(pl.String), options=tuple(Format)),
        Field("age", "age in days", pl.col("age"), "", "Days since the first loaded day with spend", digits=0),
        Field("targets", "targets", pl.col("targets"), "", "Live targets in it", digits=0),
        Field("products", "products", pl.col("products"), "", "Products with a live ad in it", digits=0),
        Field("moves", "bids to move", pl.col("moves"), "", "Bids and pauses proposed on the targets in it", digits=0),
        Field("gain", "gain", pl.col("gain"), "¤", "What those are expected to bring in 30 days, in profit", digits=0),
        *(Field(name, name, pl.col(name).cast(pl.String), options=known) for name, known in choices.items() if known),
    ]
    if of.name == AD_GROUPS:
        own.append(Field("default_bid", "default bid", pl.col("default_bid"), "¤", "Bid of targets without their own"))
    if of.name == CAMPAIGNS:
        limited = pl.col("offsite_limited").cast(pl.String) == "yes"
        own += [
            Field("budget", "budget", pl.col("budget"), "¤", "Daily budget on the last day of the period", digits=2),
            Field(
                "dry_share",
                "out of budget",
                pl.col("dry_share") * _PER_CENT,
                "%",
                "Share of days out of budget",
                digits=0,
            ),
            Field(
                "top_share",
                "top of search",
                pl.col("top_share") * _PER_CENT,
                "%",
                "Share of its impressions at top of search",
                digits=0,
            ),
            Field(
                "bidding", "bidding", pl.col("bidding").cast(pl.String), options=("fixed", "down_only", "up_and_down")
            ),
            yes_or_no("limited", "off-site limited", limited),
        ]
    return {field.key: field for field in metric_fields()} | {field.key: field for field in own}


_WEEK: Final = 7
_MONTH: Final = 30.4
_YEAR: Final = 365.25


def age_words(days: int | None) -> str:
    """How old something is, in the largest unit of which it has two."""
    if days is None:
        return "age unknown"
    for size, word in ((_YEAR, "years"), (_MONTH, "months"), (_WEEK, "weeks")):
        if days >= 2 * size:
            return f"{days / size:.0f} {word}"
    return "1 day" if days == 1 else f"{days} days"


@dataclass(frozen=True, slots=True)
class CampaignLine:
    """One campaign or ad group."""

    key: str
    name: str
    where: str
    mark: str
    cells: tuple[Cell, ...]
    verdict: str
    state: str
    format: str


@dataclass(frozen=True, slots=True)
class GroupsView:
    """A table."""

    view: GroupTable
    table: TableView


def _planned(of: GroupTable, planned: Sequence[Planned]) -> pl.Expr:
    """Whether the plan changes anything in a row."""
    if of.name == CAMPAIGNS:
        return pl.col("name").is_in(list({each.change.campaign for each in planned}))
    within = [f"{each.change.campaign} · {each.change.ad_group}" for each in planned if each.change.ad_group]
    return pl.concat_str(pl.col("campaign").cast(pl.String), pl.lit(" · "), "name").is_in(within)


def list_of(of: GroupTable) -> ListSpec:
    """The table as a list."""

    def act(ask: Context, rows: pl.DataFrame, action: RowAction, value: Value, raises: bool) -> list[Proposal]:
        return groups.proposals(ask.facts, ask.selection, of.name, rows, action, value, raises=raises)

    def rows(ask: Context) -> pl.DataFrame:
        found = groups.rows(ask.facts, ask.selection, of.name)
        if BIDS_OF.isdisjoint(asked_fields(ask.scope)):
            return found
        return groups.with_bids(ask.facts, ask.selection, of.name, found)

    return ListSpec(
        rows,
        lambda _, rows: fields(of, rows),
        ("name", "campaign"),
        "-spend",
        lambda ask, rows: file(ask, of, rows),
        view=of.name,
        planned=lambda planned: _planned(of, planned),
        actions=RowActions(groups.OFFERED[of.name], act, level="campaign" if of.name == CAMPAIGNS else ""),
    )


LISTS: Final = {name: list_of(of) for name, of in TABLES.items()}


def page(ask: Context, of: GroupTable) -> GroupsView:
    """The view."""
    figures, listed_rows = ask.figures, listed(ask, LISTS[of.name])
    found, known = listed_rows.found, listed_rows.fields
    columns = tables.chosen_columns(ask.scope.cols, of.columns, known)
    shown = {key: known[key] for key in ("name", *columns)}
    name, *rest = heads_of(shown, found.sort, figures)
    state, form, verdict = heads_of({key: known[key] for key in _IN_WORDS}, found.sort, figures, words=_IN_WORDS)
    heads = (name, replace(state, css="words"), form, *rest, verdict)
    return GroupsView(
        of,
        table_of(
            ask,
            listed_rows,
            lines(of, found.shown, columns, known, figures),
            heads,
            here=ask.url("targeting.table", name=of.name),
            name=of.name,
            things=of.things,
            picks=ask.writes,
            empty=f"No {of.things} match.",
            columns=columns,
            column_sets=of.columns,
            totals=(*sums(found.rows, figures), ("wasted per 30 days", figures.micro(int(found.rows["stake"].sum())))),
        ),
    )


def lines(
    of: GroupTable, shown: pl.DataFrame, columns: Sequence[str], known: Mapping[str, Field], figures: Figures
) -> list[CampaignLine]:
    """The rows of a page."""
    values = shown.select(known[key].expr.alias(key) for key in columns).rows()
    largest = max([*shown["stake"].to_list(), 10 * MICRO])
    return [
        CampaignLine(
            row["row_id"],
            row["name"],
            where(of, row),
            mark_of(row, "evidence"),
            tuple(
                Cell(
                    figures.cell(value, known[key].digits or 0),
                    loss=key == "acos" and value is not None and value / _PER_CENT > row["target_acos"],
                    weight=round(100 * row["stake"] / largest, 1) if key == "stake" else None,
                )
                for key, value in zip(columns, cells, strict=True)
            ),
            row["verdict"] if row["clicks"] else "no clicks",
            row["state"] or "–",
            str(row["format"] or "–"),
        )
        for row, cells in zip(shown.to_dicts(), values, strict=True)
    ]


def where(of: GroupTable, row: Mapping[str, Any]) -> str:
    """What stands under a row's name: where it is, what it is for and how old it is."""
    first = row["campaign"] if of.name == AD_GROUPS else row["purpose"] or row["portfolio"]
    matches = "" if of.name == AD_GROUPS else row["match_types"]
    return " · ".join(str(each) for each in (first, matches, age_words(row["age"])) if each)


def file(ask: Context, of: GroupTable, rows: pl.DataFrame) -> Table:
    """Rows as a file."""
    if "gain" not in rows.columns:
        rows = groups.with_bids(ask.facts, ask.selection, of.name, rows)
    known = fields(of, rows)
    plain = [field.expr.alias(key) for key, field in known.items() if key != "name"]
    names = ["campaign"] if of.name == CAMPAIGNS else ["campaign", "ad_group"]
    frame = rows.select(*(pl.col(name).cast(pl.String) for name in names), "match_types", *plain)
    return Table(f"{of.name}-{ask.scope.window.first}-{ask.scope.window.last}", frame, {})
