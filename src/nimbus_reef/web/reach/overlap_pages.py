"""Own against own, as its page shows it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import files, market, overlaps
from nimbus_reef.analysis.tables import Field, Listing, by_key, choice
from nimbus_reef.core.own_overlaps import OwnOverlap, ad_free_test
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec
from nimbus_reef.web.reach.listed import ListCell, ListColumn, ListName, ListView, Ready, Row, figure, page_of


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What phrases are filtered and sorted by."""
    return by_key(
        Field("name", "phrase, product", pl.col("phrase"), text=True),
        Field("volume", "searches a week", pl.col("volume"), digits=0),
        Field("own_rank", "own rank", pl.col("own_rank"), "", "Best organic rank of any of your items", digits=0),
        Field("before", "rank before", pl.col("before"), "", "In the newest list before ads stopped", digits=0),
        Field("spend", "ad spend", pl.col("spend"), "¤", "In 30 days", digits=0),
        Field("sales", "ad sales", pl.col("sales"), "¤", "In 30 days", digits=0),
        Field("paid_clicks", "clicks by ads", pl.col("paid_clicks"), "", f"In {market.DAYS} days", digits=0),
        Field("free_clicks", "clicks without ads", pl.col("free_clicks"), "", f"In {market.DAYS} days", digits=0),
        Field("items", "own items", pl.col("items"), "", "That rank within 40", digits=0),
        Field("overlap", "overlap", pl.col("overlap"), options=tuple(each.value for each in OwnOverlap)),
        choice("sku", "product", pl.col("sku"), rows),
        choice("category", "category", pl.col("category"), rows),
    )


LIST: Final = ListSpec(
    lambda ask: overlaps.rows(ask.facts, ask.selection),
    fields,
    ("phrase", "sku", "skus", "buying"),
    "-spend",
    lambda _, rows: files.overlaps_table(rows),
    view="own-against-own",
)
_READY: Final[Ready] = (("all", ()), *((each.value, (f"overlap:is:{each.value}",)) for each in OwnOverlap))


def told(row: Row, figures: Figures) -> str:
    """What an overlap tells, in a sentence."""
    match OwnOverlap(row["overlap"]):
        case OwnOverlap.PAID_FIRST:
            test = ad_free_test(row["paid_clicks"], row["free_clicks"], row["paid_orders"], market.DAYS)
            if test.days is None:
                return "A test without ads would not tell within 12 weeks: too few clicks."
            days, orders = figures.counted(test.days, "day"), figures.counted(round(test.orders), "order")
            return f"{days} without ads would tell whether half of its clicks come anyway. At risk: {orders}."
        case OwnOverlap.TWO_ITEMS:
            ranked = f"Ranks: {row['skus']}." if row["items"] > 1 else ""
            bought = f"Clicks by ads: {row['buying']}." if row["buying"] else ""
            return " ".join(filter(None, (ranked, bought)))
        case OwnOverlap.STOPPED:
            since = figures.day(row["stopped"])
            if row["before"] is None or row["own_rank"] is None:
                return f"No click by ads since {since}."
            fell = row["own_rank"] - row["before"]
            moved = (
                "stayed"
                if fell == 0
                else f"fell by {figures.count(fell)}"
                if fell > 0
                else f"rose by {figures.count(-fell)}"
            )
            return f"No click by ads since {since}; its rank {moved}."


def page(ask: Context) -> ListView:
    """The view of own against own."""
    figures = ask.figures

    def columns(_: Context, __: Listing) -> Sequence[ListColumn]:
        return (
            ListColumn("volume", lambda row: ListCell(figures.count(row["volume"]))),
            *(figure(name, figures.count) for name in ("own_rank", "before", "paid_clicks", "free_clicks")),
            figure("spend", lambda value: figures.number(value or None, 0), bold=True),
            figure("sales", lambda value: figures.number(value or None, 0)),
            ListColumn("what it tells", lambda row: ListCell(row["overlap"], small=told(row, figures), words=True)),
        )

    def answer(rows: pl.DataFrame) -> Answer:
        if rows.is_empty():
            return Answer(
                "You do not compete with yourself.",
                "No ad runs where you rank first, and no phrase has two of your products.",
            )
        spend = {each: float(rows.filter(pl.col("overlap") == each.value)["spend"].sum()) for each in OwnOverlap}
        count = {each: len(rows.filter(pl.col("overlap") == each.value)) for each in OwnOverlap}
        two = figures.counted(count[OwnOverlap.TWO_ITEMS], "phrase")
        return Answer(
            f"Ads cost {figures.money(spend[OwnOverlap.PAID_FIRST])} in 30 days on phrases where you rank first.",
            f"Some of these clicks would come anyway; only a test tells how many. {two} with two of your products. On"
            f" {figures.count(count[OwnOverlap.STOPPED])} ads have stopped.",
        )

    here = ask.url("targeting.table", name="terms")

    return page_of(
        ask,
        "own-against-own",
        LIST,
        first="name",
        named=lambda row: ListName(
            row["phrase"],
            f"{row['sku'] or 'no product'} · {row['category'] or 'category unknown'}",
            href=ask.scope.link(here, where=(), query=f'"{row["phrase"]}"', sort="", page=1, open=""),
        ),
        columns=columns,
        answer=answer,
        empty="Nothing of yours competes with itself.",
        ready=_READY,
    )
