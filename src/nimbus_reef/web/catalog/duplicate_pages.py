"""Keywords that are bought in several places, and the one to keep."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.catalog import structure
from nimbus_reef.analysis.catalog.files import duplicates_table
from nimbus_reef.analysis.tables import Field, by_key, choice, yes_or_no
from nimbus_reef.core.model import MICRO, from_micro
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of, words_head
from nimbus_reef.web.kit.verdicts import mark_of

_KEPT: Final[Mapping[str, str]] = {"evidence": "lowest expected ACOS", "oldest": "the oldest"}


@dataclass(frozen=True, slots=True)
class TwinLine:
    """One place where a keyword is bought; first: of its group, which it names and opens."""

    key: str
    open: str
    name: str
    where: str
    mark: str
    clicks: str
    orders: str
    acos: str
    spend: str
    bid: str
    keep: str
    kept: bool
    first: bool


def twin_lines(rows: pl.DataFrame, figures: Figures) -> list[TwinLine]:
    """Groups one after the other, the one to keep first; or as they are sorted."""
    entries, seen = [], set[str]()
    for row in rows.to_dicts():
        acos = "no sales" if row["spend"] and not row["sales"] else figures.percent(row["acos"], 0)
        first = row["group"] not in seen
        seen.add(row["group"])
        entries.append(
            TwinLine(
                row["group"] if first else f"{row['group']}/{row['row_id']}",
                row["group"],
                row["target"],
                f"{row['match_type']} · {row['campaign']} · {row['ad_group']}",
                mark_of(row, "evidence"),
                figures.count(row["clicks"]),
                figures.count(row["orders"]),
                acos,
                figures.count(from_micro(row["spend"])),
                figures.number(from_micro(row["bid"])) if row["bid"] is not None else "–",
                f"keep: {_KEPT[row['keep_why']]}" if row["keep"] else "pause",
                row["keep"],
                first,
            )
        )
    return entries


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What places of keywords are filtered and sorted by."""
    if rows.is_empty():
        return {}
    return by_key(
        Field("name", "keyword, where", pl.col("target"), text=True),
        Field("clicks", "clicks", pl.col("clicks"), digits=0),
        Field("orders", "orders", pl.col("orders"), digits=0),
        Field("acos", "ACOS", pl.col("acos") * 100, "%", digits=0),
        Field("spend", "spend", pl.col("spend") / MICRO, "¤", digits=0),
        Field("bid", "bid", pl.col("bid") / MICRO, "¤", digits=2),
        Field("twins", "places", pl.col("twins"), digits=0),
        Field("campaign", "campaign", pl.col("campaign"), text=True),
        choice("match", "match type", pl.col("match_type"), rows),
        choice("main_product", "product", pl.col("main_product"), rows),
        choice("verdict", "verdict", pl.col("verdict"), rows),
        yes_or_no("keep", "kept", pl.col("keep"), "The place that is kept where the others are paused"),
    )


LIST: Final = ListSpec(
    lambda ask: structure.duplicates(ask.facts, ask.selection),
    fields,
    ("target", "campaign", "ad_group", "main_product"),
    file=lambda _, rows: duplicates_table(rows),
    key="group",
    view="duplicates",
)
_SHOWN: Final = ("name", "clicks", "orders", "acos", "spend", "bid")


def bought_twice(rows: pl.DataFrame, figures: Figures, *, products_known: bool) -> Answer:
    """What is bought in several places, and what that takes; products_known: ad groups' products are known."""
    groups = rows["group"].n_unique() if len(rows) else 0
    if not groups and not products_known:
        return Answer("Duplicates unknown. Load product ads by day.", "")
    if not groups:
        return Answer("No duplicate keywords.", "")
    spent = from_micro(int(rows.filter(~pl.col("keep"))["spend"].sum()))
    return Answer(
        f"{figures.counted(groups, 'keyword')} {'is' if groups == 1 else 'are'} bought in several places for the same"
        " product.",
        f"{figures.money(spent)} went to places other than the best one.",
    )


@dataclass(frozen=True, slots=True)
class DuplicatesView:
    """Keywords that are bought in several places."""

    answer: Answer
    table: TableView


def page(ask: Context) -> DuplicatesView:
    """The view."""
    of, figures = listed(ask, LIST), ask.figures
    shown = {key: of.fields[key] for key in _SHOWN if key in of.fields}
    heads = (*heads_of(shown, of.found.sort, figures), words_head("what to do")) if shown else ()
    known = structure.products_known(ask.facts, ask.selection)
    return DuplicatesView(
        bought_twice(of.rows, figures, products_known=known),
        table_of(
            ask,
            of,
            twin_lines(of.found.shown, figures),
            heads,
            here=ask.url("catalog.view", name="duplicates"),
            name="twins",
            things="places",
            picks=ask.writes,
            empty="No duplicate keywords." if of.rows.is_empty() else "No keywords match.",
        ),
    )


def drawer(ask: Context, group: str) -> Drawer:
    """A keyword that is bought in several places, and which of them is kept."""
    figures, rows = ask.figures, structure.twins(ask.facts, ask.selection, group)
    spent, orders = sum(row["spend"] for row in rows), sum(row["orders"] for row in rows)
    return Drawer(
        group,
        rows[0]["target"],
        f"{rows[0]['match_type']} · for {rows[0]['main_product']}",
        f"Bought in {figures.counted(len(rows), 'place')}.",
        f"{figures.micro(spent)} for {figures.counted(orders, 'order')} in all.",
        offered(ask, structure.proposal(ask.facts, ask.selection, rows)),
        siblings_title="Where it is bought",
        siblings=tuple(
            (
                mark_of(row, "evidence"),
                f"{row['campaign']} · {row['ad_group']}",
                f"{figures.counted(row['clicks'], 'click')}, {figures.counted(row['orders'], 'order')}"
                + (", kept" if row["keep"] else ""),
                figures.micro(row["spend"]),
            )
            for row in rows
        ),
    )
