"""Rank gaps, and what rivals pay for, as their pages show them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import files, market, ranks
from nimbus_reef.analysis.tables import Field, Listing, by_key, choice, yes_or_no
from nimbus_reef.core.rank_gaps import Fight, Gap, Title
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec
from nimbus_reef.web.reach.listed import (
    ListCell,
    ListColumn,
    ListName,
    ListView,
    Ready,
    Row,
    Ways,
    figure,
    page_of,
    rank_line,
    rank_shade,
)

_BEHIND: Final = (Gap.BEHIND.value, Gap.ABSENT.value)


def _named(row: Row) -> ListName:
    where = f"{row['sku'] or 'no product'} · {row['category'] or 'category unknown'}"
    mark = "above" if row["gap"] in _BEHIND else "within" if row["gap"] == Gap.HELD.value else "undecided"
    return ListName(row["phrase"], where, mark)


def _columns(ask: Context, rows: pl.DataFrame) -> dict[str, ListColumn]:
    """Every column that a list of ranks may show, by the field or the words over it."""
    figures, told = ask.figures, market.ranks_of(ask.facts, ask.selection, rows["normal_id"])

    def title(row: Row) -> ListCell:
        text = f"lacks “{row['missing']}”" if row["missing"] else row["title"]
        return ListCell(text, words=True, title=text)

    def line(row: Row) -> ListCell:
        ranks = told.get(row["normal_id"], ())
        return ListCell("", ranks=rank_line(ranks, row["own_rank"], figures.count(row["own_rank"])))

    def new(row: Row) -> ListCell:
        return ListCell(f"+{figures.count(row['new_paying'])} new" if row["new_paying"] else "")

    return {
        each.head: each
        for each in (
            *(
                figure(name, figures.count)
                for name in ("volume", "own_rank", "best_rival", "paying", "own_ad", "clicks")
            ),
            ListColumn(_LINE, line),
            figure("relevance", lambda part: figures.percent(part, 0)),
            ListColumn(_TITLE, title),
            ListColumn(_FIRST, lambda row: ListCell(row["fight"], small=row["gap"], words=True)),
            ListColumn("new_paying", new),
            figure("gain", lambda gain: figures.number(gain, 0), "profit", bold=True),
        )
    }


def fields(ask: Context, _: pl.DataFrame) -> Mapping[str, Field]:
    """What phrases are filtered and sorted by."""
    products = market.products(ask.facts, ask.selection)
    return by_key(
        Field("name", "phrase, product", pl.col("phrase"), text=True),
        Field("volume", "searches a week", pl.col("volume"), digits=0),
        Field("own_rank", "own rank", pl.col("own_rank"), "", "Best organic rank of any of your items", digits=0),
        Field("best_rival", "best rival", pl.col("best_rival"), "", "Best organic rank of your rivals", digits=0),
        Field(
            "relevance",
            "relevance",
            pl.col("relevance") * 100,
            "%",
            "Part of your rivals that rank within 40",
            digits=0,
        ),
        Field("paying", "rivals’ ads", pl.col("paying"), "", "Items of other brands with a sponsored rank", digits=0),
        Field("new_paying", "new rivals’ ads", pl.col("new_paying"), "", "Without one about three weeks ago", digits=0),
        Field("own_ad", "own ad rank", pl.col("own_ad"), "", "Best sponsored rank of any of your items", digits=0),
        Field(
            "gain",
            "profit by ads",
            pl.col("profit"),
            "¤",
            "Expected in 28 days from an exact keyword that would pay",
            digits=0,
        ),
        Field(
            "clicks",
            "clicks by ads",
            pl.col("clicks"),
            "",
            "Expected in 28 days from an exact keyword that would pay",
            digits=0,
        ),
        Field("words", "number of words", pl.col("phrase").str.count_matches(r"\S+"), digits=0),
        Field("gap", "gap", pl.col("gap"), options=tuple(each.value for each in Gap)),
        Field("fight", "what to do first", pl.col("fight"), options=tuple(each.value for each in Fight)),
        Field("title", "in the title", pl.col("title"), options=tuple(each.value for each in Title)),
        Field("missing", "words the title lacks", pl.col("missing"), text=True),
        Field("ahead", "rivals ahead", pl.col("ahead"), "", "Brands that rank within 40 and before you", text=True),
        choice("sku", "product", pl.col("sku"), products),
        choice("category", "category", pl.col("category"), products),
        yes_or_no("bought", "bought", pl.col("bought"), "Paid clicks in 90 days, or a live keyword"),
        yes_or_no("advertised", "own ad shown", pl.col("own_ad").is_not_null()),
    )


def _rows(ask: Context) -> pl.DataFrame:
    rows = ask.selection.products_only.within(ask.facts, ranks.gaps(ask.facts, ask.selection))
    if not (rival := ask.scope.own_value("rival")):
        return rows
    theirs = ranks.ranks_of(ask.facts, ask.selection, rival, rows["normal_id"])
    return rows.filter(pl.col("normal_id").is_in(list(theirs)))


GAPS: Final = ListSpec(
    _rows, fields, ("phrase", "sku", "missing"), "-volume", lambda _, rows: files.ranks_table(rows), view="ranks"
)
ADS: Final = ListSpec(
    lambda ask: _rows(ask).filter(pl.col("paying") > 0),
    fields,
    ("phrase", "sku"),
    "-volume",
    lambda _, rows: files.ranks_table(rows),
    view="rival-ads",
)


_GAPS_READY: Final[Ready] = (
    ("all", ()),
    ("far behind", (f"gap:is:{Gap.BEHIND.value}",)),
    ("absent", (f"gap:is:{Gap.ABSENT.value}",)),
    ("near the first page", (f"gap:is:{Gap.NEAR.value}",)),
    ("title and ads", (f"fight:is:{Fight.BOTH.value}",)),
    ("ads", (f"fight:is:{Fight.KEYWORD.value}",)),
)
_ADS_READY: Final[Ready] = (
    ("all", ()),
    ("without your ad", ("advertised:is:no",)),
    ("never bought", ("bought:is:no",)),
    ("new rivals’ ads", ("new_paying:ge:1",)),
)
_LINE: Final = "rivals, rank 1 to 40"
_TITLE: Final = "in the title"
_FIRST: Final = "what to do first"
_GAPS_SHOWN: Final = ("volume", "own_rank", "best_rival", _LINE, "relevance", _TITLE, _FIRST, "clicks", "gain")
_ADS_SHOWN: Final = ("volume", "paying", "new_paying", "own_ad", "own_rank", "clicks", "gain")


def gaps_page(ask: Context) -> ListView:
    """The view of rank gaps; its address says whether by gap, by rival, or against one of them."""
    if ask.scope.own_value("by") != "rival":
        return _page(ask, "ranks", GAPS, _of(_GAPS_SHOWN), _GAPS_READY, _gaps_answer, _ways_of(ask))
    alone = ask.scope.own_value("rival")
    answer = _against(ask, alone) if alone else _gaps_answer
    return _page(ask, "ranks", GAPS, _by_rival, _GAPS_READY, answer, _ways_of(ask))


def _ways_of(ask: Context) -> Callable[[Listing], Ways]:
    """By gap or by rival, and then each rival alone, those that rank for most first."""
    scope, here = ask.scope, ask.url("reach.view", name="ranks")
    by_rival, alone = scope.own_value("by") == "rival", scope.own_value("rival")

    def ways(found: Listing) -> Ways:
        both = (
            ("by gap", scope.choose(here, by="", rival=""), not by_rival),
            ("by rival", scope.choose(here, by="rival", rival=""), by_rival and not alone),
        )
        if not by_rival:
            return both
        seen = _called(ranks.seen_most(ask.facts, ask.selection, found.rows["normal_id"]))
        one = ((name, scope.choose(here, rival=item), item == alone) for item, name in seen)
        return (*both, *one)

    return ways


def _called(seen: Sequence[tuple[str, str]]) -> list[tuple[str, str]]:
    """Items with their brands, and with the items too where one brand has several."""
    brands = Counter(brand for _, brand in seen)
    return [(item, brand if brands[brand] == 1 else f"{brand} {item}") for item, brand in seen]


def _by_rival(ask: Context, found: Listing) -> Sequence[ListColumn]:
    """Our best rank and those of rivals, the better the darker; against one, what comes first beside it."""
    figures, alone = ask.figures, ask.scope.own_value("rival")

    def ranked(head: str, of: Callable[[Row], float | None], definition: str = "") -> ListColumn:
        return ListColumn(
            head, lambda row: ListCell(figures.count(of(row)), shade=rank_shade(of(row))), definition, words=False
        )

    def rank_in(of: Mapping[int, float]) -> Callable[[Row], float | None]:
        return lambda row: of.get(row["normal_id"])

    facts, selection, shown = ask.facts, ask.selection, found.shown["normal_id"]
    seen = _called(ranks.seen_most(facts, selection, found.rows["normal_id"]))
    if alone:
        seen = [(alone, market.brand_of(facts, selection, alone))]
    every = _columns(ask, found.shown)
    columns = [every["volume"], ranked("own_rank", lambda row: row["own_rank"])]
    columns += [
        ranked(name, rank_in(ranks.ranks_of(facts, selection, item, shown)), f"Item {item}") for item, name in seen
    ]
    return [*columns, every[_TITLE], every[_FIRST], every["gain"]] if alone else columns


def _against(ask: Context, rival: str) -> Callable[[pl.DataFrame, Figures], Answer]:
    """Where one rival ranks, and where before us."""

    def answer(rows: pl.DataFrame, figures: Figures) -> Answer:
        found = ranks.ranks_of(ask.facts, ask.selection, rival, rows["normal_id"])
        if not found:
            return Answer("This item ranks within 40 for none of these phrases.", "Choose another one.")
        theirs = pl.col("normal_id").replace_strict(found, default=None, return_dtype=pl.Float64)
        ahead = rows.filter(pl.col("own_rank").is_null() | (theirs < pl.col("own_rank")))
        first = ahead.filter(pl.col("fight").is_in([Fight.BOTH.value, Fight.KEYWORD.value]))
        brand = market.brand_of(ask.facts, ask.selection, rival)
        return Answer(
            f"{brand} ranks within 40 for {figures.counted(len(rows), 'phrase')}, before you for"
            f" {figures.count(len(ahead))}.",
            f"An exact keyword would pay for {figures.count(len(first))} of those.",
        )

    return answer


def ads_page(ask: Context) -> ListView:
    """The view of what rivals pay for."""
    return _page(ask, "rival-ads", ADS, _of(_ADS_SHOWN), _ADS_READY, _ads_answer)


Columns = Callable[[Context, Listing], Sequence[ListColumn]]


def _of(shown: Sequence[str]) -> Columns:
    """Some of the columns."""

    def columns(ask: Context, found: Listing) -> Sequence[ListColumn]:
        every = _columns(ask, found.shown)
        return [every[key] for key in shown]

    return columns


def _page(
    ask: Context,
    view: str,
    spec: ListSpec,
    columns: Columns,
    ready: Ready,
    answer: Callable[[pl.DataFrame, Figures], Answer],
    ways: Callable[[Listing], Ways] = lambda _: (),
) -> ListView:
    return page_of(
        ask,
        view,
        spec,
        first="name",
        named=_named,
        columns=columns,
        answer=lambda rows: answer(rows, ask.figures),
        empty="No keyword list with such ranks is loaded.",
        ready=ready,
        ways=ways,
        accepts=True,
        opens=True,
    )


def _gaps_answer(rows: pl.DataFrame, figures: Figures) -> Answer:
    if rows.is_empty():
        return Answer("No keyword list with ranks is loaded.", "Load keyword ranks in Intake.")
    behind = rows.filter(pl.col("gap").is_in(_BEHIND))
    if behind.is_empty():
        held = figures.counted(len(rows.filter(pl.col("gap") == Gap.HELD.value)), "phrase")
        return Answer("You are nowhere far behind your rivals.", f"You hold {held}.")
    first = Counter(dict(behind["fight"].value_counts().rows()))
    lacking = first[Fight.BOTH.value]
    pays = lacking + first[Fight.KEYWORD.value]
    some = "all" if lacking == pays else figures.count(lacking)
    titles = f" For {some} of those the product’s title lacks words." if lacking else ""
    return Answer(
        f"Rivals rank high where you are far behind or absent on {figures.counted(len(behind), 'phrase')}.",
        f"An exact keyword would pay for {figures.count(pays)} of them.{titles}",
    )


def _ads_answer(rows: pl.DataFrame, figures: Figures) -> Answer:
    if rows.is_empty():
        return Answer("No keyword list tells a sponsored rank.", "Load keyword ranks with sponsored ranks in Intake.")
    silent = len(rows.filter(pl.col("own_ad").is_null() & ~pl.col("bought")))
    return Answer(
        f"Rivals show ads for {figures.counted(len(rows), 'phrase')}.",
        f"You neither bid nor show on {figures.count(silent)} of them."
        f" {figures.count(len(rows.filter(pl.col('new_paying') > 0)))} have an ad that began within three weeks.",
    )
