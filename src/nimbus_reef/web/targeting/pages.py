"""What the tables of Targeting say: fields, columns, rows, totals; what leaves as a file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.core import evidence
from nimbus_reef.core.checks.registry import Subject
from nimbus_reef.core.costly_words import Fate
from nimbus_reef.core.metrics import difference
from nimbus_reef.core.model import (
    MICRO,
    MatchType,
    SimpleVerdict,
    State,
    Verdict,
    from_micro,
)
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs.exports import Table
from nimbus_reef.web import tables
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.tables import Field, Listing

LEANING: Final = frozenset({Verdict.COSTLY.value, Verdict.LEANING.value})
_VERDICTS = tuple(verdict.value for verdict in Verdict)
_POSITIVE_MATCHES = tuple(match.value for match in MatchType if not match.negative)


@dataclass(frozen=True, slots=True)
class View:
    """One of the area's tables."""

    name: str
    title: str
    subject: Subject
    key: str
    thing: str
    things: str
    text_columns: tuple[str, ...]


TARGETS = View(
    "targets", "Targets", Subject.TARGET, "target_id", "target", "targets", ("target", "campaign", "ad_group")
)
TERMS = View(
    "terms", "Search terms", Subject.TERM, "row_id", "search term", "search terms",
    ("term", "campaign", "ad_group"),
)  # fmt: skip
WORDS = View("words", "Words", Subject.PHRASE, "row_id", "phrase", "phrases", ("phrase", "spelt"))
VIEWS: Final = {view.name: view for view in (TARGETS, TERMS, WORDS)}


def fields(view: View, judge: str) -> dict[str, Field]:
    """What the rows can be filtered and sorted by."""
    stake = "excess" if judge == "simple" else "stake"
    metrics = {field.key: field for field in tables.metric_fields()}
    own = [
        Field("stake", "at stake", pl.col(stake) / 1e6, "¤",
              "overspend per 30 days: " + ("spend − target × sales as observed, luck included" if judge == "simple"
                                           else "what is likely spent above target, luck taken out"), digits=0),
        Field("p_over", "chance over target", pl.col("p_over") * 100, "%",
              "how likely the true cost of sale is over target", digits=0),
        Field("needed_cvr", "needed CVR", pl.col("needed_cvr") * 100, "%",
              "conversion at which this price per click meets the target", digits=1),
        Field("share_of_spend", "share of spend", pl.col("share_of_spend") * 100, "%",
              "of the spend of all rows in scope", digits=1),
        Field("name", view.thing, pl.col(view.text_columns[0])),
        Field("verdict", "verdict", pl.col("verdict"), options=_VERDICTS,
              definition="by evidence: chance of being over target ≥ 90 % costly, ≥ 75 % leaning, ≤ 25 % fine"),
        Field("simple", "simple rule", pl.col("simple_verdict"),
              options=tuple(verdict.value for verdict in SimpleVerdict),
              definition="clicks enough, then ACOS over target or no order"),
    ]  # fmt: skip
    return metrics | {field.key: field for field in (*own, *_OWN_FIELDS[view.name])}


_MATCH = Field("match", "match type", pl.col("match_type"), options=_POSITIVE_MATCHES)
_OWN_FIELDS: Final[Mapping[str, tuple[Field, ...]]] = {
    "terms": (_MATCH,),
    "targets": (
            _MATCH,
            Field("bid", "bid", pl.col("bid") / 1e6, "¤", "the bid on the window's last day", digits=2),
            Field(
                "bid_room",
                "CPC ÷ bid",
                pl.col("cpc") / (pl.col("bid") / 1e6),
                "",
                "what a click costs against what is bid for it",
                digits=2,
            ),
            Field("state", "state", pl.col("state"), options=tuple(State)),
    ),
    "words": (
            Field("waste", "waste", pl.col("waste") / MICRO, "¤",
                  "spend per 30 days above what the word's own orders pay for, luck taken out", digits=0),
            Field("due", "due", pl.col("due"), "", "orders that its searches owed without the word: by product, ad group, target and their other words", digits=1),
            Field("came", "came", pl.col("came"), "", "orders that came", digits=0),
            Field("factor", "factor", pl.col("factor"), "×", "its searches' conversion against the same without the word, luck taken out", digits=2),
            Field("p_word", "P", pl.col("p_word") * 100, "%", "how likely the word brings fewer orders than its clicks cost", digits=0),
            Field("good_terms", "good terms", pl.col("good_terms"), "", "search terms that sell and are rather within target, which a phrase of it would hit", digits=0),
            Field("good_orders", "orders of good terms", pl.col("good_orders"), "", "what those sold", digits=0),
            Field("fate", "proposal", pl.col("fate"), options=tuple(Fate), definition="what is to be done about the word, or what speaks against it"),
            Field("terms", "terms", pl.col("terms"), "", "search terms that hold these words", digits=0),
            Field("idle_terms", "terms without order", pl.col("idle_terms"), "", "those that brought no order", digits=0),
            Field("idle_spend", "spend without order", pl.col("idle_spend") / MICRO, "¤", "what those cost", digits=0),
            Field("length", "words", pl.col("length"), "", "words in the phrase, one to three", digits=0),
    ),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class Head:
    """A column head: its sort link is made by the template from `sort`."""

    key: str
    label: str
    definition: str
    sorted: str
    sort: str


_LEAST_SCALE: Final = 10 * MICRO
_WORD_SETS: Final = {
    "usual": ("waste", "due", "came", "factor", "p_word", "terms", "good_terms", "spend"),
    "plain sums": ("stake", "terms", "idle_terms", "idle_spend", "clicks", "orders", "cvr", "acos", "spend"),
}


def column_sets(view: View) -> Mapping[str, tuple[str, ...]]:
    """The sets of columns of a view, the usual one first."""
    return (
        _WORD_SETS | {name: COLUMN_SETS[name] for name in COLUMN_SETS if name != "usual"}
        if view is WORDS
        else COLUMN_SETS
    )


def usual_sort(view: View, judge: str) -> str:
    """What a view is sorted by when nothing is asked: words by their own waste."""
    return "-waste" if view is WORDS and judge != "simple" else "-stake"


COLUMN_SETS: Final[dict[str, tuple[str, ...]]] = {
    "usual": ("stake", "clicks", "orders", "cvr", "cpc", "rpc", "acos", "spend"),
    "evidence": ("stake", "clicks", "orders", "cvr", "needed_cvr", "p_over", "acos", "spend"),
    "value of a click": ("stake", "clicks", "cpc", "rpc", "aov", "roas", "acos", "spend"),
    "reach": ("impressions", "ctr", "clicks", "share_of_spend", "spend", "sales", "units", "acos"),
}


def heads(
    columns: Sequence[str], sort: str, known: Mapping[str, Field], figures: Figures, verdict_by: str
) -> list[Head]:
    """The heads of the chosen columns, and the verdict's."""
    made = []
    for key in (*columns, verdict_by):
        field = known[key]
        down, up = f"-{key}", key
        order = "descending" if sort == down else "ascending" if sort == up else ""
        unit = figures.symbol if field.unit == "¤" else field.unit
        label = "verdict" if key == verdict_by else f"{field.label} {unit}".strip()
        made.append(Head(key, label, field.definition, order, up if sort == down else down))
    return made


@dataclass(frozen=True, slots=True)
class Cell:
    """One figure of a row; loss where it is one; weight of the bar behind it, 0 … 100, or null."""

    text: str
    loss: bool = False
    weight: float | None = None


@dataclass(frozen=True, slots=True)
class Line:
    """One table row, ready to show."""

    id: str
    name: str
    kind: str
    where: str
    mark: str
    cells: tuple[Cell, ...]
    verdict: str
    note: str


def mark_of(row: Mapping[str, Any], judge: str) -> str:
    """Solid coral, half, hollow or solid lagoon; none where nothing was clicked."""
    if not row["clicks"]:
        return "none"
    if judge == "simple":
        return {"over target": "costly", "no order": "costly", "within target": "fine"}.get(
            row["simple_verdict"], "undecided"
        )
    return {
        Verdict.COSTLY.value: "costly", Verdict.LEANING.value: "leaning", Verdict.FINE.value: "fine",
    }.get(row["verdict"], "undecided")  # fmt: skip


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


def verdict_at_length(row: Mapping[str, Any]) -> str:
    """The verdict and its cause."""
    cause = "" if row.get("factor") is not None else evidence.cause_of(row)
    return f"{row['verdict']}, {cause}" if cause else str(row["verdict"])


def clicks_needed(rows: pl.DataFrame) -> list[int | None]:
    """Per row how many further misses would make it costly; null where that cannot be told."""
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
) -> list[Line]:
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
            Line(
                id=row["row_id"],
                name=name_of(view, row),
                kind=row["match_type"] if view is TARGETS else "",
                where=where(view, row, figures),
                mark=mark_of(row, judge),
                cells=tuple(cells),
                verdict=verdict,
                note=note,
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
    name: str = row["spelt" if view is WORDS else view.text_columns[0]]
    return name


def where(view: View, row: Mapping[str, Any], figures: Figures) -> str:
    """Where a row stands: in which campaign and ad group, or in how many terms."""
    if view is WORDS:
        return f"in {figures.count(row['terms'])} terms, {figures.count(row['idle_terms'])} without an order"
    place = f"{row['campaign']} · {row['ad_group']}"
    return place if view is TARGETS else f"{_brought_by(row)} · {place}"


def _brought_by(row: Mapping[str, Any]) -> str:
    others = row["targets"] - 1
    return f"from {row['target']}{f' +{others}' if others else ''}"


@dataclass(frozen=True, slots=True)
class Summed:
    """
    Sums of filtered rows in micro-units; stake per 30 days. then: spend and sales of the same
    ones in the days compared with, null where nothing is compared.
    """

    spend: int
    sales: int
    stake: int
    then: tuple[int, int] | None


@dataclass(frozen=True, slots=True)
class Totals:
    """What the filtered rows come to, in words."""

    count: str
    of: str
    spend: str
    spend_share: str
    sales: str
    acos: str
    acos_change: str
    acos_worse: bool | None
    stake: str
    stake_share: str


def totals(listed: Listing, everything: pl.DataFrame, summed: Summed, days: int, figures: Figures) -> Totals:
    """Of all filtered rows, never only of the page."""
    all_spend, all_sales = (int(everything[name].sum()) for name in ("spend", "sales"))
    monthly_sales = all_sales * evidence.STAKE_DAYS / days
    acos, before = _ratio(summed.spend, summed.sales), _ratio(*summed.then) if summed.then else None
    moved = difference(acos, before).absolute
    return Totals(
        count=figures.count(len(listed.rows)),
        of=figures.count(len(everything)),
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


def accepted_words(accepted: int, planned: int, nothing: int, figures: Figures) -> str:
    """What accepting many rows at once did."""
    said = [f"{figures.counted(accepted, 'change')} accepted into the plan"]
    if planned:
        said.append(f"{figures.count(planned)} were in it already")
    if nothing:
        said.append(f"on {figures.count(nothing)} there is nothing to propose")
    return "; ".join(said) + "."


_RATES: Final = ("ctr", "cvr", "acos", "needed_cvr", "p_over", "p_free", "p_word")
_AMOUNTS: Final = (
    "cpc",
    "aov",
    "rpc",
    "spend",
    "sales",
    "stake",
    "likely_overspend",
    "excess",
    "bid",
    "idle_spend",
    "waste",
    "due",
    "factor",
)


def table_to_export(view: View, rows: pl.DataFrame, window: Window) -> Table:
    """Every column that the table can show, money in units, rates as fractions."""
    names: list[str | pl.Expr] = (
        [
            "phrase",
            "spelt",
            pl.col("length").alias("words"),
            "terms",
            "idle_terms",
            pl.col("idle_spend") / MICRO,
            "due",
            "came",
            "factor",
            "p_word",
            pl.col("waste") / MICRO,
            "good_terms",
            "good_orders",
            "fate",
        ]
        if view is WORDS
        else [*dict.fromkeys(["campaign", "ad_group", "target", "match_type", view.text_columns[0]])]
    )
    plain = ["impressions", "clicks", "orders", "units", "ctr", "cvr", "cpc", "aov", "rpc", "acos",
             "needed_cvr", "p_over", "p_free", "own_test", "own_fault", "by_words", "verdict", "simple_verdict"]  # fmt: skip
    settings: list[str | pl.Expr] = ["state", pl.col("bid") / MICRO] if view is TARGETS else []
    # The stake of a row counts where it is costly or leaning, as the page's total has it.
    likely = pl.col("stake").alias("likely_overspend")
    counted = pl.when(evidence.flagged()).then("stake").otherwise(0).alias("stake")
    amounts = (pl.col("spend"), pl.col("sales"), counted, likely, pl.col("excess"))
    money = [(each.cast(pl.Float64) / MICRO).round(6) for each in amounts]
    return Table(
        f"{view.name}-{window.first}-{window.last}",
        rows.select(*names, *plain, *settings, *money).with_columns(pl.col(pl.Categorical).cast(pl.String)),
        dict.fromkeys(_RATES, "0.0%") | dict.fromkeys(_AMOUNTS, "0.00"),
    )
