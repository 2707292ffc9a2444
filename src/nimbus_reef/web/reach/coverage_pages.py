"""Coverage and own against own, as their pages show them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import coverage, files, market, overlaps
from nimbus_reef.analysis.tables import Field, by_key, choice
from nimbus_reef.core.keyword_coverage import CoverageAdvice
from nimbus_reef.core.own_overlaps import Overlap, ad_free_test
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec
from nimbus_reef.web.reach.listed import Cell, Column, ListView, Named, Ready, Row, figure, page


def coverage_fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What families are filtered and sorted by."""
    return by_key(
        Field("name", "product", pl.col("name"), text=True),
        Field("ranked", "by rank", pl.col("ranked"), "", "Phrases for which one of its items ranks within 40", digits=0),
        Field("first_page", "within 10", pl.col("first_page"), "", "Of them, those within rank 10", digits=0),
        Field("shown", "by ads", pl.col("shown"), "", "Phrases with an ad of yours in the newest lists", digits=0),
        Field("both", "by both", pl.col("both"), "", "Phrases with an ad and a rank within 40", digits=0),
        Field("goal", "goal", pl.col("goal"), "", "Phrases it should rank for at its age; see Settings", digits=0),
        Field("gap", "to the goal", pl.col("gap"), digits=0),
        Field("age", "age in days", pl.col("age"), "", "Days since its first product was launched", digits=0),
        Field("cvr", "CVR", pl.col("cvr") * 100, "%", "By ads, in this period", digits=1),
        Field("cohort_cvr", "usual CVR", pl.col("cohort_cvr") * 100, "%", "Of its category, else of the account", digits=1),
        Field("clicks", "clicks", pl.col("clicks"), digits=0),
        Field("products", "products", pl.col("products"), "", "Variations, which count once together", digits=0),
        Field("advice", "what comes first", pl.col("advice"), options=tuple(each.value for each in CoverageAdvice)),
        choice("category", "category", pl.col("category"), rows),
    )


COVERAGE: Final = ListSpec(
    lambda ask: coverage.rows(ask.facts, ask.selection),
    coverage_fields,
    ("name", "sku", "category"),
    "-gap",
    lambda _, rows: files.coverage_table(rows),
    view="coverage",
)
_COVERAGE_READY: Final[Ready] = (
    ("all", ()),
    *((each.value, (f"advice:is:{each.value}",)) for each in CoverageAdvice),
)


def coverage_page(ask: Context) -> ListView:
    """The view of coverage."""
    figures, event = ask.figures, coverage.next_event(ask.facts, ask.selection)
    soon = f"{event.name} begins in {figures.counted(event.days, 'day')}" if event else ""

    def first(row: Row) -> Cell:
        advice, small = CoverageAdvice(row["advice"]), ""
        if advice is CoverageAdvice.PAGE:
            small = f"converts {figures.rate(row['cvr'])}, usual is {figures.rate(row['cohort_cvr'])}"
        elif advice is CoverageAdvice.PUSH:
            small = soon or "converts as usual; sales lift its rank"
        elif advice is CoverageAdvice.UNSURE:
            small = figures.counted(row["clicks"], "click")
        return Cell(advice.value, small=small, words=True)

    def columns(_: Context, __: pl.DataFrame) -> Sequence[Column]:
        return (
            Column("ranked", lambda row: Cell(figures.count(row["ranked"]), bold=True)),
            *(figure(name, figures.count) for name in ("first_page", "shown", "both", "goal", "age", "clicks")),
            figure("cvr", figures.percent),
            figure("cohort_cvr", figures.percent),
            Column("what comes first", first),
        )

    def answer(rows: pl.DataFrame) -> Answer:
        if rows.is_empty():
            return Answer("No product with an item id is loaded.", "Load the catalog in Intake.")
        short = rows.filter(pl.col("advice") != CoverageAdvice.REACHED.value)
        push, mend = (
            figures.count(len(rows.filter(pl.col("advice") == each.value)))
            for each in (CoverageAdvice.PUSH, CoverageAdvice.PAGE)
        )
        merged = len(rows.filter(pl.col("products") > 1))
        told = f"Push ads for {push}; mend the page of {mend} first."
        return Answer(
            f"{figures.count(len(short))} of {figures.counted(len(rows), 'product')} rank for fewer phrases than their goal.",
            " ".join(
                filter(
                    None,
                    (
                        told,
                        f"{soon}." if soon else "",
                        f"{figures.counted(merged, 'family', 'families')} of several variations count once." if merged else "",
                    ),
                )
            ),
        )

    def named(row: Row) -> Named:
        several = f" · {figures.count(row['products'])} variations counted once" if row["products"] > 1 else ""
        mark = {CoverageAdvice.REACHED: "within", CoverageAdvice.PAGE: "above"}.get(CoverageAdvice(row["advice"]), "undecided")
        return Named(row["name"], f"{row['sku']} · {row['category'] or 'category unknown'}{several}", mark, _ranks_of(ask, row))

    return page(
        ask,
        "coverage",
        COVERAGE,
        first="name",
        named=named,
        columns=columns,
        answer=answer,
        empty="No product is loaded.",
        things="products",
        ready=_COVERAGE_READY,
    )


def _ranks_of(ask: Context, row: Row) -> str:
    """The rank gaps of its category."""
    where = (f"category:is:{row['category']}",) if row["category"] else ()
    return ask.scope.link(ask.url("reach.view", name="ranks"), where=where, query="", sort="", page=1, open="")


def overlap_fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
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
        Field("overlap", "overlap", pl.col("overlap"), options=tuple(each.value for each in Overlap)),
        choice("sku", "product", pl.col("sku"), rows),
        choice("category", "category", pl.col("category"), rows),
    )


OVERLAPS: Final = ListSpec(
    lambda ask: overlaps.rows(ask.facts, ask.selection),
    overlap_fields,
    ("phrase", "sku", "skus", "buying"),
    "-spend",
    lambda _, rows: files.overlaps_table(rows),
    view="own-against-own",
)
_OVERLAPS_READY: Final[Ready] = (("all", ()), *((each.value, (f"overlap:is:{each.value}",)) for each in Overlap))


def told(row: Row, figures: Figures) -> str:
    """What an overlap tells, in a sentence."""
    match Overlap(row["overlap"]):
        case Overlap.PAID_FIRST:
            test = ad_free_test(row["paid_clicks"], row["free_clicks"], row["paid_orders"], market.DAYS)
            if test.days is None:
                return "A test without ads would not tell within 12 weeks: too few clicks."
            return (
                f"{figures.counted(test.days, 'day')} without ads would tell whether half of its clicks come anyway. At risk:"
                f" {figures.counted(round(test.orders), 'order')}."
            )
        case Overlap.TWO_ITEMS:
            return " ".join(
                filter(
                    None,
                    (
                        f"Ranks: {row['skus']}." if row["items"] > 1 else "",
                        f"Clicks by ads: {row['buying']}." if row["buying"] else "",
                    ),
                )
            )
        case Overlap.STOPPED:
            since = figures.day(row["stopped"])
            if row["before"] is None or row["own_rank"] is None:
                return f"No click by ads since {since}."
            fell = row["own_rank"] - row["before"]
            moved = "stayed" if fell == 0 else f"fell by {figures.count(fell)}" if fell > 0 else f"rose by {figures.count(-fell)}"
            return f"No click by ads since {since}; its rank {moved}."


def overlaps_page(ask: Context) -> ListView:
    """The view of own against own."""
    figures = ask.figures

    def columns(_: Context, __: pl.DataFrame) -> Sequence[Column]:
        return (
            Column("volume", lambda row: Cell(figures.count(row["volume"]))),
            *(figure(name, figures.count) for name in ("own_rank", "before", "paid_clicks", "free_clicks")),
            figure("spend", lambda value: figures.number(value or None, 0), bold=True),
            figure("sales", lambda value: figures.number(value or None, 0)),
            Column("what it tells", lambda row: Cell(row["overlap"], small=told(row, figures), words=True)),
        )

    def answer(rows: pl.DataFrame) -> Answer:
        if rows.is_empty():
            return Answer("You do not compete with yourself.", "No ad runs where you rank first, and no phrase has two of your products.")
        spend = {each: float(rows.filter(pl.col("overlap") == each.value)["spend"].sum()) for each in Overlap}
        count = {each: len(rows.filter(pl.col("overlap") == each.value)) for each in Overlap}
        return Answer(
            f"Ads cost {figures.money(spend[Overlap.PAID_FIRST])} in 30 days on phrases where you rank first.",
            f"Some of these clicks would come anyway; only a test tells how many. {figures.counted(count[Overlap.TWO_ITEMS], 'phrase')}"
            f" with two of your products. On {figures.count(count[Overlap.STOPPED])} ads have stopped.",
        )

    here = ask.url("targeting.table", name="terms")

    return page(
        ask,
        "own-against-own",
        OVERLAPS,
        first="name",
        named=lambda row: Named(
            row["phrase"],
            f"{row['sku'] or 'no product'} · {row['category'] or 'category unknown'}",
            href=ask.scope.link(here, where=(), query=f'"{row["phrase"]}"', sort="", page=1, open=""),
        ),
        columns=columns,
        answer=answer,
        empty="Nothing of yours competes with itself.",
        ready=_OVERLAPS_READY,
    )
