"""Two phrases side by side, as their page shows them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import two_phrases
from nimbus_reef.analysis.reach.two_phrases import Estimate, Phrase
from nimbus_reef.core.model import MICRO
from nimbus_reef.formats.figures import NOTHING, Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.reach.rank_course import RankCourse, drawn

_MONEY: Final = ("spend", "sales", "cpc", "suggested_bid")
_SHARES: Final = ("ctr", "cvr", "acos", "relevance")


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
    """A figure of both: what it is called, for each its value and range; better: which is, 0 or 1, None for neither."""

    label: str
    values: tuple[tuple[str, str], ...]
    better: int | None


@dataclass(frozen=True, slots=True)
class TwoPhrasesView:
    """The two sides; offered: phrases to choose from."""

    answer: Answer
    sides: tuple[Side, ...]
    lines: tuple[ComparedLine, ...]
    offered: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class _Compared:
    """A figure that is compared. column: in files; low_is_good: null where neither is better."""

    label: str
    column: str
    of: Callable[[Phrase], Estimate]
    low_is_good: bool | None = None


def _told(column: str) -> Callable[[Phrase], Estimate]:
    return lambda phrase: Estimate(phrase.row[column])


_FIGURES: Final = (
    _Compared("searches a week", "searches_a_week", _told("volume")),
    _Compared("ad groups", "ad_groups", lambda of: Estimate(of.places)),
    _Compared("clicks", "clicks", lambda of: Estimate(of.clicks)),
    _Compared("orders", "orders", lambda of: Estimate(of.orders)),
    _Compared("spend", "spend", lambda of: Estimate(of.spend / MICRO)),
    _Compared("sales", "sales", lambda of: Estimate(of.sales / MICRO)),
    _Compared("CPC", "cpc", lambda of: Estimate(None if of.cpc is None else of.cpc / MICRO)),
    _Compared("suggested bid", "suggested_bid", _told("suggested")),
    _Compared("CTR", "ctr", lambda of: of.ctr, low_is_good=False),
    _Compared("CVR", "cvr", lambda of: of.cvr, low_is_good=False),
    _Compared("ACOS", "acos", lambda of: of.acos, low_is_good=True),
    _Compared("relevance", "relevance", lambda of: Estimate(_relevance(of))),
    _Compared("own rank", "own_rank", _told("own_rank")),
    _Compared("rivals within 40", "rivals_within_40", _told("rivals_seen")),
    _Compared("clicks without ads, 90 days", "clicks_without_ads", _told("free_clicks")),
    _Compared("orders without ads, 90 days", "orders_without_ads", _told("free_orders")),
)


def _relevance(of: Phrase) -> float | None:
    asked = of.row["rivals_asked"]
    return of.row["rivals_seen"] / asked if asked else None


def _chosen(ask: Context, usual: Sequence[str]) -> list[tuple[str, Phrase | None]]:
    """The two texts and what is known of each; without a choice, of the first to choose from."""
    facts, selection, found = ask.facts, ask.selection, []
    others = iter(usual)
    for name in ("one", "other"):
        text = ask.scope.own_value(name) or next(others, "")
        row = two_phrases.found(facts, selection, text) if text else None
        found.append((text, two_phrases.compared(facts, selection, row) if row else None))
    return found


def page(ask: Context) -> TwoPhrasesView:
    """The view."""
    usual = two_phrases.usual(ask.facts, ask.selection)
    chosen = _chosen(ask, usual)
    return TwoPhrasesView(
        _answer(chosen, ask.figures),
        tuple(_side(ask, text, known) for text, known in chosen),
        tuple(_line(each, [known for _, known in chosen], ask.figures) for each in _FIGURES),
        tuple(usual),
    )


def table(ask: Context) -> Table | None:
    """The two as a file."""
    rows = []
    for _, known in _chosen(ask, two_phrases.usual(ask.facts, ask.selection)):
        if known is not None:
            row: dict[str, object] = {"phrase": known.row["phrase"]}
            for each in _FIGURES:
                found = each.of(known)
                row[each.column] = found.value
                if each.low_is_good is not None:
                    row |= {f"{each.column}_low": found.low, f"{each.column}_high": found.high}
            rows.append(row)
    if not rows:
        return None
    shares = {f"{name}{end}": "0.0%" for name in _SHARES for end in ("", "_low", "_high")}
    return Table("two-phrases", pl.DataFrame(rows), dict.fromkeys(_MONEY, "0.00") | shares)


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


def _line(of: _Compared, both: Sequence[Phrase | None], figures: Figures) -> ComparedLine:
    def say(value: float | None) -> str:
        if of.column in _SHARES:
            return figures.rate(value, 2 if of.column == "ctr" else 0 if of.column == "relevance" else 1)
        if of.column in _MONEY:
            return figures.money(value, 0 if of.column in ("spend", "sales") else 2)
        return figures.count(value)

    found = [of.of(each) if each else Estimate(None) for each in both]
    values = tuple(
        (say(each.value), "" if each.low is None else f"{say(each.low)} to {say(each.high)}") for each in found
    )
    return ComparedLine(of.label, values, _better(found, of.low_is_good))


def _better(both: Sequence[Estimate], low_is_good: bool | None) -> int | None:
    """The one that is better by more than luck: their 80 % ranges do not meet."""
    one, other = both
    if low_is_good is None or one.low is None or one.high is None or other.low is None or other.high is None:
        return None
    if one.high < other.low:
        return 0 if low_is_good else 1
    return (1 if low_is_good else 0) if other.high < one.low else None


def _answer(chosen: Sequence[tuple[str, Phrase | None]], figures: Figures) -> Answer:
    unknown = [f"“{text}”" for text, known in chosen if text and known is None]
    if unknown:
        told = f"{' and '.join(unknown)} {'is' if len(unknown) == 1 else 'are'} in no report."
        return Answer(told, "Choose phrases of your lists, search terms or query funnel.")
    both = [known for _, known in chosen if known is not None]
    if len(both) < 2:
        return Answer("Choose two phrases.", "")
    winner = _better([each.cvr for each in both], low_is_good=False)
    told = "Their conversion does not differ by more than luck."
    if winner is not None:
        better, worse = (figures.rate(both[place].cvr.value) for place in (winner, 1 - winner))
        told = f"“{both[winner].row['phrase']}” converts better: {better} against {worse}."
    prices = [each.cpc for each in both if each.cpc is not None]
    if len(prices) < 2:
        return Answer(told, f"At least one brought no click by ads: {NOTHING} stands for what is unknown.")
    return Answer(told, f"A click costs {figures.micro(prices[0], 2)} and {figures.micro(prices[1], 2)}.")
