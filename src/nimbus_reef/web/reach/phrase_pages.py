"""Phrases that were never bought as their page shows them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.analysis.reach import buying, files, market
from nimbus_reef.analysis.reach.pool import (
    LATER,
    NOT_OURS,
    PLANNED,
    PROPOSED,
    STATUSES,
    listed,
    pool,
    spend_a_month,
    words_of,
)
from nimbus_reef.analysis.tables import PAGE_ROWS, Field, by_key, choice, yes_or_no
from nimbus_reef.core import evidence
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.unbought import DAYS
from nimbus_reef.core.windows import month_factor
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import hidden_findings
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec
from nimbus_reef.web.kit.lists import listed as list_of
from nimbus_reef.web.kit.tables import TableView, head_of, table_of, words_head
from nimbus_reef.web.reach.listed import WIDTH, RankLine, rank_line

_WORDS: Final = 22
_HILL: Final = (64.0, 22.0)
_POINTS: Final = 17
LIKELY, UNLIKELY = 0.8, 0.2
_MOST_COMMON: Final = 1 / 3
"""A word that more of the phrases have tells none of them from another."""
_SHORTEST: Final = 3


@dataclass(frozen=True, slots=True)
class Hill:
    """What is likely of a phrase's conversion as a small hill, and the conversion that the usual price needs."""

    path: str
    needed: float | None
    tone: str


@dataclass(frozen=True, slots=True)
class PhraseLine:
    """One phrase."""

    key: str
    name: str
    where: str
    mark: str
    status: str
    sources: tuple[tuple[str, str, bool], ...]
    searches: str
    free: str
    rank: str
    ranks: RankLine
    pays: str
    hill: Hill
    bid: str
    gain: str
    weight: float


SOURCES: Final = (
    ("S", "shopper searches of the query funnel", "searched"),
    ("O", "own search terms that converted", "own_term"),
    ("R", "keyword lists with ranks", "listed"),
    ("L", "lists that were brought in", "brought"),
)


def lines(ask: Context, rows: pl.DataFrame) -> list[PhraseLine]:
    """Phrases as lines of the table."""
    figures, ranks = ask.figures, market.ranks_of(ask.facts, ask.selection, rows["normal_id"])
    most = max([0.0, *rows["gain"].drop_nulls().to_list()])
    return [
        PhraseLine(
            row["row_id"],
            row["phrase"],
            f"{row['sku']} · {row['category'] or 'category unknown'}"
            + ("" if row["stays"] is None else f" · {row['stays']}"),
            _mark(row),
            row["status"],
            tuple((letter, words, bool(row[name])) for letter, words, name in SOURCES),
            figures.count(row["volume"]),
            f"{figures.count(row['free_orders'])} of {figures.count(row['free_clicks'])}"
            if row["free_clicks"]
            else "–",
            figures.count(row["own_rank"]),
            rank_line(ranks.get(row["normal_id"], ()), row["own_rank"], figures.count(row["own_rank"])),
            figures.percent(row["pays"], 0) if row["pays"] is not None else "–",
            _hill(row),
            figures.number(row["bid"]) if row["stays"] is None else "–",
            figures.number(row["gain"], 0) if row["stays"] is None else "–",
            100 * row["gain"] / most if row["stays"] is None and most else 0.0,
        )
        for row in rows.to_dicts()
    ]


def _mark(row: Mapping[str, Any]) -> str:
    """Whether it pays: solid where that is likely or unlikely enough, nothing for what was set aside."""
    if row["status"] in (LATER, NOT_OURS):
        return "none"
    pays = row["pays"]
    return "undecided" if pays is None or UNLIKELY < pays < LIKELY else "within" if pays >= LIKELY else "above"


def _hill(row: Mapping[str, Any]) -> Hill:
    a, b, (wide, tall) = row["a"], row["b"], _HILL
    needed = ratio(row["price"], row["aov"] * row["target_acos"]) if row["price"] and row["aov"] else None
    right = max(evidence.interval(a, b, 0.99)[1], 1.1 * needed if needed is not None and needed < 1 else 0.0)
    x = np.linspace(right / _POINTS / 4, right, _POINTS)
    y = evidence.density(a, b, x)
    top = float(y.max()) or 1.0
    points = " L".join(
        f"{wide * px / right:.1f} {tall - (tall - 3) * py / top:.1f}" for px, py in zip(x, y, strict=True)
    )
    at = None if needed is None or needed > right else round(wide * needed / right, 1)
    tone = {"within": "gain", "above": "loss"}.get(_mark(row), "")
    return Hill(f"M0 {tall} L{points} L{wide} {tall} Z", at, tone)


def fields(ask: Context, _: pl.DataFrame) -> Mapping[str, Field]:
    """What phrases are filtered and sorted by."""
    products = market.products(ask.facts, ask.selection)
    return by_key(
        Field("name", "phrase, product", pl.col("phrase"), text=True),
        Field(
            "volume",
            "searches a week",
            pl.col("volume"),
            "",
            "Mean of the newest weeks; of a keyword list’s month",
            digits=0,
        ),
        Field(
            "free", "orders without ads", pl.col("free_orders"), "", "Orders and clicks without ads, 90 days", digits=0
        ),
        Field("own_rank", "own rank", pl.col("own_rank"), "", "Best organic rank of any of your items", digits=0),
        Field(
            "rivals",
            "rivals, rank 1 to 40",
            pl.col("rivals_seen"),
            "",
            "How many of your rivals rank within 40",
            digits=0,
        ),
        Field(
            "pays",
            "chance to pay",
            pl.col("pays") * 100,
            "%",
            "At the usual price of a click of this product",
            digits=0,
        ),
        Field("bid", "bid", pl.col("bid"), "¤", "The opening bid of an exact keyword", digits=2),
        Field(
            "gain",
            "profit in 28 days",
            pl.when(pl.col("stays").is_null()).then("gain"),
            "¤",
            "Expected at this bid, after ads",
            digits=0,
        ),
        Field("clicks", "clicks in 28 days", pl.col("clicks"), digits=0),
        Field("cvr", "expected conversion", pl.col("cvr") * 100, "%", digits=1),
        Field("words", "number of words", pl.col("term_words"), digits=0),
        Field("free_clicks", "clicks without ads", pl.col("free_clicks"), digits=0),
        choice("sku", "product", pl.col("sku"), products),
        choice("category", "category", pl.col("category"), products),
        Field("status", "status", pl.col("status"), options=STATUSES),
        Field("campaign", "campaign", pl.col("campaign"), text=True),
        yes_or_no("searched", "in the query funnel", pl.col("searched")),
        yes_or_no("listed", "in keyword lists", pl.col("listed")),
        Field("list", "list", pl.col("brought"), "", "Names of lists that were brought in", text=True),
        Field(
            "suggested", "suggested bid", pl.col("suggested"), "¤", "The bid that the marketplace suggests", digits=2
        ),
        yes_or_no("own_term", "own search term", pl.col("own_term"), "It converted by ads, longer ago"),
    )


def _rows(ask: Context) -> pl.DataFrame:
    away = hidden_findings.away(ask.facts.store, ask.account.id)
    planned = [each.promise.row_id for each in ask.planned() if each.promise.view == buying.VIEW]
    return listed(ask.facts, ask.selection, away, planned)


LIST: Final = ListSpec(
    _rows, fields, ("phrase", "sku", "category"), "-gain", lambda _, rows: files.phrases_table(rows), view=buying.VIEW
)
_SHOWN: Final = ("name", "volume", "free", "own_rank", "rivals", "pays", "bid", "gain")


def answer(ask: Context, rows: pl.DataFrame, left_out: Mapping[str, int], *, guessed: bool) -> Answer:
    """What would pay, what it brings and spends, and what was left out."""
    figures = ask.figures
    if rows.is_empty() and left_out:
        return Answer("No phrase could be judged.", _left_out(left_out, figures))
    proposed = rows.filter(pl.col("status") == PROPOSED)
    if proposed.is_empty():
        return Answer("No phrase that you never bought would pay.", _left_out(left_out, figures))
    gain, spend = float(proposed["gain"].sum()), month_factor(DAYS) * float(proposed["spend"].sum())
    parts = [_spends(ask, spend), _left_out(left_out, figures)]
    if guessed:
        parts.append("Clicks for each search are guessed: too few exact keywords with known volume.")
    count = figures.counted(len(proposed), "phrase")
    return Answer(
        f"{count} you never bought would pay: about {figures.money(gain)} profit in 28 days.",
        " ".join(filter(None, parts)),
    )


def _spends(ask: Context, spend: float) -> str:
    """What the proposed keywords would spend a month beside what is spent now, and beyond the limit on spend."""
    figures, now = ask.figures, spend_a_month(ask.facts, ask.selection)
    said = f"They would spend {figures.money(spend)} a month"
    if not now:
        return f"{said}."
    beyond = spend - (ask.account.settings.bid_rule.most_spend - 1) * now
    over = f". That is {figures.money(beyond)} more than your limit on added spend" if beyond > 0 else ""
    return f"{said}, {figures.rate(spend / now, 0)} of what you spend now{over}."


def _left_out(left_out: Mapping[str, int], figures: Figures) -> str:
    texts = [f"{figures.count(count)} {why}" for why, count in left_out.items()]
    return f"Left out: {', '.join(texts)}." if texts else ""


@dataclass(frozen=True, slots=True)
class WordLine:
    """A word of the phrases that are shown: how many have it, and the profit of those proposed."""

    word: str
    phrases: str
    gain: str


@dataclass(frozen=True, slots=True)
class PhrasesView:
    """The pool: words at the side, phrases, and what was dropped."""

    answer: Answer
    table: TableView
    words: tuple[WordLine, ...]
    unwanted: Sequence[str]
    statuses: tuple[tuple[str, str, str, bool], ...]
    line: float
    hill: tuple[float, float]


def page(ask: Context) -> PhrasesView:
    """The view."""
    of, figures = list_of(ask, LIST), ask.figures
    found = pool(ask.facts, ask.selection)
    shown = {key: of.fields[key] for key in _SHOWN}
    heads = [
        head_of(each, of.found.sort, figures, css="first" if place == 0 else "", rises=place == 0)
        for place, each in enumerate(shown.values())
    ]
    heads.insert(1, words_head("source", "S query funnel, O own search terms, R keyword ranks, L lists brought in"))
    common = pl.col("phrases") > _MOST_COMMON * len(of.found.rows)
    words = (
        words_of(ask.facts, ask.selection, of.found.rows)
        .filter(pl.col("word").str.len_chars() >= _SHORTEST, ~common | (len(of.found.rows) < PAGE_ROWS))
        .head(_WORDS)
    )
    none = "The account has too few clicks and orders to judge." if found is None else "No phrase is left."
    return PhrasesView(
        answer(ask, of.rows, found.left_out if found else {}, guessed=bool(found and found.guessed)),
        table_of(
            ask,
            of,
            lines(ask, of.found.shown),
            tuple(heads),
            here=ask.url("reach.view", name="phrases"),
            name="pool",
            things="phrases",
            picks=ask.writes,
            totals=_totals(of.found.rows, figures),
            empty=none if of.rows.is_empty() else "No phrases match.",
        ),
        tuple(
            WordLine(word, figures.count(count), figures.number(gain, 0) if gain else "–")
            for word, count, gain in words.rows()
        ),
        ask.account.settings.unwanted_words,
        _statuses(ask, of.rows),
        WIDTH,
        _HILL,
    )


def _statuses(ask: Context, rows: pl.DataFrame) -> tuple[tuple[str, str, str, bool], ...]:
    """Phrases by what is with them: words, how many, the address that shows them, and whether that is in force."""
    scope, here = ask.scope, ask.url("reach.view", name="phrases")
    counts = dict(rows["status"].value_counts().rows())
    others = [each for each in scope.where if not each.startswith("status:")]
    found = [
        (
            "all",
            ask.figures.count(len(rows)),
            scope.link(here, where=others, page=1, open=""),
            len(others) == len(scope.where),
        )
    ]
    for status in (PROPOSED, PLANNED, LATER, NOT_OURS):
        text = f"status:is:{status}"
        link = scope.link(here, where=[*others, text], page=1, open="")
        found.append((status, ask.figures.count(counts.get(status, 0)), link, text in scope.where))
    return tuple(found)


def _totals(rows: pl.DataFrame, figures: Figures) -> tuple[tuple[str, str], ...]:
    """What the phrases that are proposed among the rows come to."""
    proposed = rows.filter(pl.col("status") == PROPOSED)
    spend, sales, gain = (float(proposed[name].sum()) for name in ("spend", "sales", "gain"))
    return (
        ("spend in 28 days", figures.money(spend)),
        ("sales", figures.money(sales)),
        ("ACOS", figures.rate(ratio(spend, sales))),
        ("profit", figures.money(gain)),
    )


def grouped(ask: Context, keys: Sequence[str], name: str, budget: float | None, *, by_word: bool) -> list[Proposal]:
    """Campaigns of some phrases that are not in the plan; name, budget: see `buying.campaigns`."""
    planned = {each.promise.row_id for each in ask.planned() if each.promise.view == buying.VIEW}
    free = [key for key in keys if key not in planned]
    return buying.campaigns(ask.facts, ask.selection, free, name, budget, by_word=by_word)
