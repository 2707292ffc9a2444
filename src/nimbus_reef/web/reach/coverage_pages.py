"""Coverage as its page shows it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import coverage, files
from nimbus_reef.analysis.tables import Field, Listing, by_key, choice
from nimbus_reef.core.keyword_coverage import CoverageAdvice
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec
from nimbus_reef.web.reach.listed import ListCell, ListColumn, ListName, ListView, Ready, Row, figure, page_of


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What families are filtered and sorted by."""
    return by_key(
        Field("name", "product", pl.col("name"), text=True),
        Field(
            "ranked", "by rank", pl.col("ranked"), "", "Phrases for which one of its items ranks within 40", digits=0
        ),
        Field("first_page", "within 10", pl.col("first_page"), "", "Of them, those within rank 10", digits=0),
        Field("shown", "by ads", pl.col("shown"), "", "Phrases with an ad of yours in the newest lists", digits=0),
        Field("both", "by both", pl.col("both"), "", "Phrases with an ad and a rank within 40", digits=0),
        Field("goal", "goal", pl.col("goal"), "", "Phrases it should rank for at its age; see Settings", digits=0),
        Field("gap", "to the goal", pl.col("gap"), digits=0),
        Field("age", "age in days", pl.col("age"), "", "Days since its first product was launched", digits=0),
        Field("cvr", "CVR", pl.col("cvr") * 100, "%", "By ads, in this period", digits=1),
        Field(
            "cohort_cvr", "usual CVR", pl.col("cohort_cvr") * 100, "%", "Of its category, else of the account", digits=1
        ),
        Field("clicks", "clicks", pl.col("clicks"), digits=0),
        Field("products", "products", pl.col("products"), "", "Variations, which count once together", digits=0),
        Field("advice", "what comes first", pl.col("advice"), options=tuple(each.value for each in CoverageAdvice)),
        choice("category", "category", pl.col("category"), rows),
    )


LIST: Final = ListSpec(
    lambda ask: coverage.rows(ask.facts, ask.selection),
    fields,
    ("name", "sku", "category"),
    "-gap",
    lambda _, rows: files.coverage_table(rows),
    view="coverage",
)
_READY: Final[Ready] = (("all", ()), *((each.value, (f"advice:is:{each.value}",)) for each in CoverageAdvice))


def page(ask: Context) -> ListView:
    """The view of coverage."""
    figures, event = ask.figures, coverage.next_event(ask.facts, ask.selection)
    soon = f"{event.name} begins in {figures.counted(event.days, 'day')}" if event else ""

    def first(row: Row) -> ListCell:
        advice, small = CoverageAdvice(row["advice"]), ""
        if advice is CoverageAdvice.PAGE:
            small = f"converts {figures.rate(row['cvr'])}, usual is {figures.rate(row['cohort_cvr'])}"
        elif advice is CoverageAdvice.PUSH:
            small = soon or "converts as usual; sales lift its rank"
        elif advice is CoverageAdvice.UNSURE:
            small = figures.counted(row["clicks"], "click")
        return ListCell(advice.value, small=small, words=True)

    def columns(_: Context, __: Listing) -> Sequence[ListColumn]:
        return (
            ListColumn("ranked", lambda row: ListCell(figures.count(row["ranked"]), bold=True)),
            *(figure(name, figures.count) for name in ("first_page", "shown", "both", "goal", "age", "clicks")),
            figure("cvr", figures.percent),
            figure("cohort_cvr", figures.percent),
            ListColumn("what comes first", first),
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
        short_of = f"{figures.count(len(short))} of {figures.counted(len(rows), 'product')}"
        several = f"{figures.counted(merged, 'family', 'families')} of several variations count once." if merged else ""
        told = (f"Push ads for {push}; mend the page of {mend} first.", f"{soon}." if soon else "", several)
        return Answer(f"{short_of} rank for fewer phrases than their goal.", " ".join(filter(None, told)))

    def named(row: Row) -> ListName:
        several = f" · {figures.count(row['products'])} variations counted once" if row["products"] > 1 else ""
        mark = {CoverageAdvice.REACHED: "within", CoverageAdvice.PAGE: "above"}.get(
            CoverageAdvice(row["advice"]), "undecided"
        )
        return ListName(
            row["name"], f"{row['sku']} · {row['category'] or 'category unknown'}{several}", mark, _ranks_of(ask, row)
        )

    return page_of(
        ask,
        "coverage",
        LIST,
        first="name",
        named=named,
        columns=columns,
        answer=answer,
        empty="No product is loaded.",
        things="products",
        ready=_READY,
    )


def _ranks_of(ask: Context, row: Row) -> str:
    """The rank gaps of its category."""
    where = (f"category:is:{row['category']}",) if row["category"] else ()
    return ask.scope.link(ask.url("reach.view", name="ranks"), where=where, query="", sort="", page=1, open="")
