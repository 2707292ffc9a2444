"""What the tables of Targeting say: fields, columns, rows, totals; what leaves as a file."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.analysis.planned_rows import YES
from nimbus_reef.analysis.proposals import Proposed
from nimbus_reef.analysis.tables import Field
from nimbus_reef.core import evidence
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.metrics import difference
from nimbus_reef.core.model import (
    MICRO,
    Verdict,
    from_micro,
)
from nimbus_reef.core.proposals import Move
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.tables import Head, head_of
from nimbus_reef.web.kit.verdicts import mark_of

_LEAST_SCALE: Final = 10 * MICRO
_LEAST_MOVED: Final = 0.0005
"""The smallest change of ACOS that shows in a point's first decimal."""


def heads(
    view: View, columns: Sequence[str], sort: str, known: Mapping[str, Field], figures: Figures, judge: str
) -> tuple[Head, ...]:
    """The head of what rows are called by, those of the chosen columns, and the verdict's."""
    verdict = known["simple" if judge == "simple" else "verdict"]
    name = head_of(known["name"], sort, figures, css="first", label=view.thing, rises=True)
    return (
        replace(name, spoken="verdict mark and"),
        *(head_of(known[key], sort, figures) for key in columns),
        head_of(verdict, sort, figures, css="words", label="verdict"),
        *(
            []
            if view.subject is Subject.PHRASE
            else [Head("proposed", "what is proposed; a takes it into the plan", css="words")]
        ),
    )


@dataclass(frozen=True, slots=True)
class Cell:
    """One figure of a row; loss where it is one; weight of the bar behind it, 0 … 100, or None."""

    text: str
    loss: bool = False
    weight: float | None = None


@dataclass(frozen=True, slots=True)
class JudgedLine:
    """One table row, ready to show."""

    key: str
    name: str
    kind: str
    where: str
    mark: str
    cells: tuple[Cell, ...]
    verdict: str
    note: str
    planned: bool = False


def _verdict_words(row: Mapping[str, Any], judge: str, more: int | None) -> tuple[str, str]:
    if not row["clicks"]:
        return "no clicks", ""
    if judge == "simple":
        return row["simple_verdict"], ""
    verdict = row["verdict"]
    if row.get("fate") is not None:
        return verdict, row["fate"]
    if verdict == Verdict.UNDECIDED.value:
        return verdict, "clicks will not settle it" if more is None else f"+{more} clicks"
    cause = evidence.cause_of(row)
    if verdict == Verdict.LEANING.value and not cause and more:
        return verdict, f"+{more} clicks"
    return verdict, cause


def clicks_needed(rows: pl.DataFrame) -> list[int | None]:
    """Per row how many further misses would make it costly; None where that cannot be told."""
    ready = rows.select("n", "k", pl.col("prior_a", "prior_b", "needed_cvr").fill_null(float("nan")))
    n, k = ready["n"].to_numpy(), ready["k"].to_numpy()
    a, b, needed = (ready[name].to_numpy() for name in ("prior_a", "prior_b", "needed_cvr"))
    return evidence.clicks_needed(n, k, a, b, needed)


def lines(
    view: View,
    shown: pl.DataFrame,
    columns: Sequence[str],
    known: Mapping[str, Field],
    judge: str,
    figures: Figures,
) -> list[JudgedLine]:
    """
    The rows of one page. Weight bars share one scale, the page's largest stake; where even
    that is next to nothing, the bars stay short.
    """
    by = "excess" if judge == "simple" else "stake"
    largest = max([*shown[by].to_list(), _LEAST_SCALE])
    needed = clicks_needed(shown) if len(shown) else []
    values = shown.select(known[key].expr.alias(key) for key in columns).rows()
    made = []
    for row, figures_of_row, more in zip(shown.to_dicts(), values, needed, strict=True):
        verdict, note = _verdict_words(row, judge, more)
        cells = [
            _cell(key, value, known[key], row, 100 * row[by] / largest, figures)
            for key, value in zip(columns, figures_of_row, strict=True)
        ]
        made.append(
            JudgedLine(
                key=row["row_id"],
                name=name_of(view, row),
                kind=row["match_type"] if view.typed else "",
                where=where(view, row, figures),
                mark=mark_of(row, judge),
                cells=tuple(cells),
                verdict=verdict,
                note=note,
                planned=row.get("planned") == YES,
            )
        )
    return made


def _cell(
    key: str, value: float | None, field: Field, row: Mapping[str, Any], weight: float, figures: Figures
) -> Cell:
    if key == "stake":
        return Cell(figures.cell(value, 0), weight=round(weight, 1))
    if key == "acos":
        if row["no_sales"]:
            return Cell("no sales", loss=True)
        return Cell(figures.cell(value, 0), loss=row["acos"] is not None and row["acos"] > row["target_acos"])
    return Cell(figures.cell(value, field.digits or 0))


def name_of(view: View, row: Mapping[str, Any]) -> str:
    """What a row is called: a phrase as its dearest term spells it, not as its stem."""
    name: str = row[view.named_by]
    return name


def where(view: View, row: Mapping[str, Any], figures: Figures) -> str:
    """Where a row stands: in which campaign and ad group, or in how many terms."""
    return _WHERE[view.subject](row, figures)


def _place(row: Mapping[str, Any], _: Figures) -> str:
    return f"{row['campaign']} · {row['ad_group']}"


def _in_terms(row: Mapping[str, Any], figures: Figures) -> str:
    return f"in {figures.count(row['terms'])} terms, {figures.count(row['idle_terms'])} without an order"


_WHERE: Final[Mapping[Subject, Callable[[Mapping[str, Any], Figures], str]]] = {
    Subject.TARGET: _place, Subject.PHRASE: _in_terms,
    Subject.TERM: lambda row, figures: f"{_brought_by(row)} · {_place(row, figures)}",
}  # fmt: skip


def _brought_by(row: Mapping[str, Any]) -> str:
    others = row["targets"] - 1
    return f"from {row['target']}{f' +{others}' if others else ''}"


@dataclass(frozen=True, slots=True)
class Summed:
    """
    Sums of filtered rows in micro-units; stake per 30 days. then: spend and sales of the same
    ones in the days compared with, None where nothing is compared.
    """

    spend: int
    sales: int
    stake: int
    then: tuple[int, int] | None


@dataclass(frozen=True, slots=True)
class TableTotals:
    """What the filtered rows come to, in words."""

    spend: str
    spend_share: str
    sales: str
    acos: str
    acos_change: str
    acos_worse: bool | None
    stake: str
    stake_share: str


def totals(everything: pl.DataFrame, summed: Summed, days: int, figures: Figures) -> TableTotals:
    """Of all filtered rows, never only of the page."""
    all_spend, all_sales = (int(everything[name].sum()) for name in ("spend", "sales"))
    monthly_sales = all_sales * evidence.STAKE_DAYS / days
    acos, before = _ratio(summed.spend, summed.sales), _ratio(*summed.then) if summed.then else None
    moved = difference(acos, before).absolute
    if moved is not None and abs(moved) < _LEAST_MOVED:
        moved = None
    return TableTotals(
        spend=figures.micro(summed.spend),
        spend_share=figures.rate(_ratio(summed.spend, all_spend), 0),
        sales=figures.micro(summed.sales),
        acos="no sales" if summed.spend and not summed.sales else figures.rate(acos),
        acos_change="" if moved is None else f"{figures.number(abs(moved) * 100, 1)} pt",
        acos_worse=None if moved is None else moved > 0,
        stake=figures.micro(summed.stake),
        stake_share=figures.rate(
            from_micro(summed.stake) / from_micro(monthly_sales) if monthly_sales else None
        ),
    )


def _ratio(part: int, whole: int) -> float | None:
    return part / whole if whole else None


@dataclass(frozen=True, slots=True)
class OfferCell:
    """What is proposed on a row, in its table. key: of the row; deed: empty where nothing is; planned: it is in the plan."""

    key: str
    name: str
    deed: str
    why: str
    planned: bool


def offer_cell(opened: Proposed, figures: Figures) -> OfferCell:
    """A row's proposal in a few words."""
    row = opened.row
    deed = deed_words(opened, figures)
    why = "" if deed else why_nothing(opened.why)
    return OfferCell(row["row_id"], row.get("term") or row["target"], deed, why, row["planned"] == YES)


def deed_words(each: Proposed, figures: Figures) -> str:
    """What is done on a row, in a few words; empty for nothing."""
    advice = each.proposal.advice
    bid = figures.number(advice.bid if advice else None), figures.number(advice.proposed if advice else None)
    told: Mapping[Move, str] = {
        Move.NONE: "", Move.PAUSE: "pause", Move.ENABLE: "enable", Move.NEGATIVE: _negative(each),
        Move.BID: f"bid {bid[0]} → {bid[1]}", Move.PROMOTE: f"exact target at {bid[1]}",
    }  # fmt: skip
    return told[each.proposal.move]


def _negative(each: Proposed) -> str:
    if each.places:
        return "negative phrase"
    return (each.proposal.match or ("negative_item" if each.item else "negative_exact")).replace("_", " ")


_WHY_NOTHING: Final[Mapping[str, str]] = {
    "no_bid_known": "their bid is not known: load the targets report",
    "undecided": "their clicks do not settle it yet",
    "too_small": "the account has too few clicks and orders",
    "stays": "their bid is right as it is",
    "no_raise": "they are not shown to be fine, so that no raise is proposed",
    "has_orders": "they made orders: lower what brings them",
    "no_own_test": "their clicks are too few for an order",
    "its_product": "they convert like their company",
    "is_paused": "they are paused already",
    "is_enabled": "they are enabled already",
    "bid_is_there": "their bid is that already",
    "raise_without_order": "they would be raised and never made an order",
    "has_own_target": "an exact keyword of the same words brings them already",
    "no_worth": "what a click of them is worth is not known",
    "no_tier": "no rule fits them",
    "never_shut_out": "a word in them is never to be shut out, by the account's settings",
    "names_product": "their words are what an advertised product is called",
    "within_target": "they are within target",
}
"""Why nothing is proposed on several rows; what is not here is said row by row."""


def why_nothing(key: str) -> str:
    """Why nothing is done on several rows, by the key of the reason."""
    return _WHY_NOTHING.get(key, "their evidence says why")


def accepted_words(accepted: int, planned: int, nothing: Sequence[str], figures: Figures) -> str:
    """
    What accepting many rows at once did.

    nothing: for each row on which nothing is proposed, the key of its first reason.
    """
    said = [f"{figures.counted(accepted, 'change')} accepted into the plan"]
    if planned:
        said.append(f"{figures.count(planned)} were in it already")
    for why, times in Counter(why_nothing(key) for key in nothing).most_common():
        said.append(f"nothing to propose on {figures.count(times)}, {why}")
    return "; ".join(said) + "."
