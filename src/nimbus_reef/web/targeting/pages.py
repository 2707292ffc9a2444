"""What the tables of Targeting say: fields, columns, rows, totals; what leaves as a file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.judged_proposals import place_of
from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.analysis.tables import YES, Field
from nimbus_reef.analysis.wording import headline_words, reason_words, why_nothing
from nimbus_reef.core import evidence
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.metrics import difference, ratio
from nimbus_reef.core.model import MICRO, Verdict, from_micro
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.windows import per_month
from nimbus_reef.formats.figures import Figures
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
        *(head_of(known[key], sort, figures, css="words" if _is_words(known[key]) else "") for key in columns),
        head_of(verdict, sort, figures, css="words", label="verdict"),
        *(
            []
            if view.subject is Subject.PHRASE
            else [Head("proposed", "The proposal. Key a adds it to the plan", css="words")]
        ),
    )


@dataclass(frozen=True, slots=True)
class Cell:
    """
    One figure of a row, or words; loss where it is one; weight of the bar behind it, 0 … 100, or None; arrow: from what
    is paid to it, on one log line of the page, 0 … 100.
    """

    text: str
    loss: bool = False
    weight: float | None = None
    words: bool = False
    arrow: tuple[float, float] | None = None


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
    if row.get("waits"):
        return verdict, row["waits"]
    if row.get("fate") is not None:
        return verdict, row["fate"]
    if verdict == Verdict.TOO_EARLY.value:
        return verdict, "more clicks will not settle it" if more is None else f"+{more} clicks"
    cause = evidence.cause_of(row)
    if verdict == Verdict.LIKELY_ABOVE.value and not cause and more:
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
    *,
    prices: bool = False,
) -> list[JudgedLine]:
    """
    The rows of one page. Weight bars share one scale, the page's largest stake; where even
    that is next to nothing, the bars stay short.
    """
    by = "excess" if judge == "simple" else "stake"
    largest = max([*shown[by].to_list(), _LEAST_SCALE])
    needed = clicks_needed(shown) if len(shown) else []
    values = shown.select(known[key].expr.alias(key) for key in columns).rows()
    arrows = _arrows(shown) if prices else [None] * len(shown)
    entries = []
    for row, figures_of_row, more, arrow in zip(shown.to_dicts(), values, needed, arrows, strict=True):
        verdict, note = _verdict_words(row, judge, more)
        cells = [
            _cell(key, value, known[key], row, 100 * row[by] / largest, figures)
            for key, value in zip(columns, figures_of_row, strict=True)
        ]
        if arrow is not None:
            place = columns.index("may_cost")
            cells[place] = replace(cells[place], arrow=arrow)
        entries.append(
            JudgedLine(
                key=row["row_id"],
                name=str(row[view.named_by]),
                kind=row["match_type"] if view.typed else "",
                where=reason_words(place_of(view.subject, row), figures),
                mark=mark_of(row, judge),
                cells=tuple(cells),
                verdict=verdict,
                note=note,
                planned=row.get("planned") == YES,
            )
        )
    return entries


def _arrows(shown: pl.DataFrame) -> list[tuple[float, float] | None]:
    """From the price of a click to what it may cost, on one log line of all rows; None where either is unknown."""
    ends = shown.select(pl.col("cpc").log().alias("paid"), pl.col("may_cost").log().alias("may"))
    ends = ends.with_columns(pl.when(pl.all().is_finite()).then(pl.all()))
    known = [value for row in ends.rows() for value in row if value is not None]
    low, width = (min(known), max(known) - min(known) or 1.0) if known else (0.0, 1.0)
    return [
        None if None in row else (round(100 * (row[0] - low) / width, 1), round(100 * (row[1] - low) / width, 1))
        for row in ends.rows()
    ]


def _is_words(field: Field) -> bool:
    """Whether a column holds words, not figures."""
    return field.text or bool(field.options)


def _cell(
    key: str, value: float | str | None, field: Field, row: Mapping[str, Any], weight: float, figures: Figures
) -> Cell:
    if isinstance(value, str) or _is_words(field):
        return Cell(str(value or ""), words=True)
    if key == "stake":
        return Cell(figures.cell(value, 0), weight=round(weight, 1))
    if key == "acos":
        if row["no_sales"]:
            return Cell("no sales", loss=True)
        return Cell(figures.cell(value, 0), loss=row["acos"] is not None and row["acos"] > row["target_acos"])
    return Cell(figures.cell(value, field.digits or 0))


@dataclass(frozen=True, slots=True)
class Summed:
    """
    Sums of filtered rows in micro-units; stake per 30 days. then: spend and sales of the same
    ones in the comparison period, None where nothing is compared.
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
    monthly_sales = per_month(all_sales, days)
    acos, before = ratio(summed.spend, summed.sales), ratio(*summed.then) if summed.then else None
    moved = difference(acos, before).absolute
    if moved is not None and abs(moved) < _LEAST_MOVED:
        moved = None
    return TableTotals(
        spend=figures.micro(summed.spend),
        spend_share=figures.rate(ratio(summed.spend, all_spend), 0),
        sales=figures.micro(summed.sales),
        acos="no sales" if summed.spend and not summed.sales else figures.rate(acos),
        acos_change="" if moved is None else f"{figures.number(abs(moved) * 100, 1)} pt",
        acos_worse=None if moved is None else moved > 0,
        stake=figures.micro(summed.stake),
        stake_share=figures.rate(from_micro(summed.stake) / from_micro(monthly_sales) if monthly_sales else None),
    )


@dataclass(frozen=True, slots=True)
class ProposalCell:
    """
    What is proposed on a row, in its table. key: of the row; headline: empty where nothing is; planned: it is in the
    plan.
    """

    key: str
    name: str
    headline: str
    why: str
    planned: bool


def proposal_cell(proposal: Proposal, figures: Figures, *, planned: bool) -> ProposalCell:
    """A row's proposal in a few words."""
    headline = headline_words(proposal.headline, figures) if proposal.package else ""
    why = "" if headline else why_nothing(proposal)
    return ProposalCell(proposal.row_id, proposal.name, headline, why, planned)
