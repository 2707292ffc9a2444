"""Two phrases side by side, as their page shows them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import market, two_phrases
from nimbus_reef.analysis.reach.two_phrases import Estimate, Phrase
from nimbus_reef.core.model import MICRO, from_micro
from nimbus_reef.formats.figures import NOTHING, Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.reach.rank_course import RankCourse, drawn

_OFFERED: Final = 200


@dataclass(frozen=True, slots=True)
class Side:
    """One of the two: its text as it was typed, what is known of it, its ranks, and where its searches are."""

    text: str
    known: bool
    where: str
    course: RankCourse | None
    href: str


@dataclass(frozen=True, slots=True)
class ComparedLine:
    """A figure of both: what it is called, and for each its value and range; better: which is, 0 or 1, None for neither."""

    label: str
    values: tuple[tuple[str, str], ...]
    better: int | None


@dataclass(frozen=True, slots=True)
class TwoPhrasesView:
    """The two sides; offered: phrases to choose from."""

    answer: Answer
    sides: tuple[Side, Side]
    lines: tuple[ComparedLine, ...]
    offered: tuple[str, ...]


def page(ask: Context) -> TwoPhrasesView:
    """The view; without a choice of the two that are searched most."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    every = market.phrases(facts, selection).sort(["own_clicks", "volume", "phrase"], descending=[True, True, False], nulls_last=True)
    usual = every["phrase"].head(2).to_list()
    typed = [ask.scope.own_value(name) for name in ("one", "other")]
    texts = [text or (usual[place] if place < len(usual) else "") for place, text in enumerate(typed)]
    found = [two_phrases.found(facts, selection, text) if text else None for text in texts]
    both = [two_phrases.compared(facts, selection, row) if row else None for row in found]
    sides = tuple(_side(ask, text, known) for text, known in zip(texts, both, strict=True))
    return TwoPhrasesView(
        _answer(texts, both, figures),
        (sides[0], sides[1]),
        _lines(both, figures),
        tuple(every["phrase"].head(_OFFERED).to_list()),
    )


def table(ask: Context) -> Table | None:
    """The two as a file."""
    rows = []
    for name, place in (("one", 0), ("other", 1)):
        every = market.phrases(ask.facts, ask.selection).sort(
            ["own_clicks", "volume", "phrase"], descending=[True, True, False], nulls_last=True
        )
        text = ask.scope.own_value(name) or (every["phrase"][place] if place < len(every) else "")
        row = two_phrases.found(ask.facts, ask.selection, text) if text else None
        if row:
            rows.append(_exported(two_phrases.compared(ask.facts, ask.selection, row)))
    if not rows:
        return None
    money = dict.fromkeys(("spend", "sales", "cpc", "suggested_bid"), "0.00")
    rates = dict.fromkeys(("ctr", "cvr", "cvr_low", "cvr_high", "acos", "acos_low", "acos_high", "relevance"), "0.0%")
    return Table("two-phrases", pl.DataFrame(rows), money | rates)


def _exported(of: Phrase) -> dict[str, object]:
    row = of.row
    return {
        "phrase": row["phrase"],
        "searches_a_week": row["volume"],
        "suggested_bid": row["suggested"],
        "ad_groups": of.places,
        "impressions": of.impressions,
        "clicks": of.clicks,
        "orders": of.orders,
        "spend": of.spend / MICRO,
        "sales": of.sales / MICRO,
        "cpc": None if of.cpc is None else of.cpc / MICRO,
        "ctr": of.ctr.value,
        "cvr": of.cvr.value,
        "cvr_low": of.cvr.low,
        "cvr_high": of.cvr.high,
        "acos": of.acos.value,
        "acos_low": of.acos.low,
        "acos_high": of.acos.high,
        "own_rank": row["own_rank"],
        "relevance": _relevance(of),
    }


def _relevance(of: Phrase) -> float | None:
    asked = of.row["rivals_asked"]
    return of.row["rivals_seen"] / asked if asked else None


def _side(ask: Context, text: str, known: Phrase | None) -> Side:
    if known is None:
        return Side(text, False, "", None, "")
    row = known.row
    here = ask.url("targeting.table", name="terms")
    return Side(
        row["phrase"],
        True,
        f"{row['sku'] or 'no product'} · {row['category'] or 'category unknown'}",
        drawn(two_phrases.course(ask.facts, ask.selection, row["normal_id"]), ask.figures),
        ask.scope.link(here, where=(), query=f'"{row["phrase"]}"', sort="", page=1, open="", own=()),
    )


def _lines(both: list[Phrase | None], figures: Figures) -> tuple[ComparedLine, ...]:
    def line(label: str, of: object, say: object, *, low_is_good: bool | None = None) -> ComparedLine:
        told = [of(each) if each else Estimate(None) for each in both]  # type: ignore[operator]
        estimates = [each if isinstance(each, Estimate) else Estimate(each) for each in told]
        values = tuple((say(each.value), _range(each, say)) for each in estimates)  # type: ignore[operator]
        return ComparedLine(label, values, _better(estimates, low_is_good=low_is_good))

    def money(value: float | None) -> str:
        return figures.money(value, 2)

    def rank(value: float | None) -> str:
        return figures.count(value)

    return (
        line("searches a week", lambda of: of.row["volume"], figures.count),
        line("ad groups", lambda of: of.places, figures.count),
        line("clicks", lambda of: of.clicks, figures.count),
        line("orders", lambda of: of.orders, figures.count),
        line("spend", lambda of: from_micro(of.spend), lambda value: figures.money(value)),
        line("sales", lambda of: from_micro(of.sales), lambda value: figures.money(value)),
        line("CPC", lambda of: None if of.cpc is None else from_micro(of.cpc), money),
        line("suggested bid", lambda of: of.row["suggested"], money),
        line("CTR", lambda of: of.ctr, lambda value: figures.rate(value, 2), low_is_good=False),
        line("CVR", lambda of: of.cvr, figures.rate, low_is_good=False),
        line("ACOS", lambda of: of.acos, figures.rate, low_is_good=True),
        line("relevance", _relevance, lambda value: figures.rate(value, 0)),
        line("own rank", lambda of: of.row["own_rank"], rank),
        line("rivals within 40", lambda of: of.row["rivals_seen"], rank),
        line("clicks without ads, 90 days", lambda of: of.row["free_clicks"], figures.count),
        line("orders without ads, 90 days", lambda of: of.row["free_orders"], figures.count),
    )


def _range(of: Estimate, say: object) -> str:
    if of.low is None or of.high is None:
        return ""
    return f"{say(of.low)} to {say(of.high)}"  # type: ignore[operator]


def _better(both: list[Estimate], *, low_is_good: bool | None) -> int | None:
    """The one that is better by more than luck: their 80 % ranges do not meet."""
    one, other = both
    if low_is_good is None or None in (one.low, one.high, other.low, other.high):
        return None
    if one.high < other.low:  # type: ignore[operator]
        return 0 if low_is_good else 1
    if other.high < one.low:  # type: ignore[operator]
        return 1 if low_is_good else 0
    return None


def _answer(texts: list[str], both: list[Phrase | None], figures: Figures) -> Answer:
    unknown = [f"“{text}”" for text, each in zip(texts, both, strict=True) if text and each is None]
    if unknown:
        return Answer(f"{' and '.join(unknown)} is in no report.", "Choose a phrase of your lists, search terms or query funnel.")
    one, other = both
    if one is None or other is None:
        return Answer("Choose two phrases.", "No list of phrases is loaded." if not any(texts) else "")
    winner = _better([one.cvr, other.cvr], low_is_good=False)
    if winner is None:
        told = "Their conversion does not differ by more than luck."
    else:
        better, worse = (both[winner], both[1 - winner])
        told = f"“{better.row['phrase']}” converts better: {figures.rate(better.cvr.value)} against {figures.rate(worse.cvr.value)}."  # type: ignore[union-attr]
    dearer = "" if one.cpc is None or other.cpc is None else (
        f"A click costs {figures.micro(one.cpc, 2)} and {figures.micro(other.cpc, 2)}."
    )
    return Answer(told, dearer or f"At least one brought no click by ads: {NOTHING} stands for what is unknown.")
