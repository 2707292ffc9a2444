"""The shopper's path against the market, and our share of each query."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis import query_shares, standing
from nimbus_reef.analysis.query_shares import FunnelOf
from nimbus_reef.analysis.standing import SHOP_METRICS
from nimbus_reef.analysis.tables import Field, word_count, yes_or_no
from nimbus_reef.analysis.wording import metric_words
from nimbus_reef.core import funnel
from nimbus_reef.core.metrics import METRICS
from nimbus_reef.core.metrics import SHOP_METRICS as PATH_RATES
from nimbus_reef.core.peers import RATED
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.product import TO_CHECK
from nimbus_reef.web.kit.strips import Strip, strip
from nimbus_reef.web.kit.tables import Head, TableView, heads_of, table_of

_LABELS: Final[Mapping[str, str]] = {each.key: each.label for each in (METRICS["ctr"], *PATH_RATES)}
_STAGE_WORDS: Final[Mapping[str, tuple[str, str]]] = {
    "clicks": ("between impression and click", "ctr"),
    "cart_adds": ("between click and cart", "cart_rate"),
    "purchases": ("between cart and purchase", "purchase_rate"),
}


@dataclass(frozen=True, slots=True)
class Stage:
    """One stage of the path: our count and share of the market, how that share fell, the rates."""

    name: str
    own: str
    market: str
    share: str
    share_bar: float
    fall: str
    leak: bool


@dataclass(frozen=True, slots=True)
class Path:
    """The path against the market."""

    answer: Answer
    stages: tuple[Stage, ...]
    rates: tuple[tuple[str, str, str, str], ...]


def path(sums: Mapping[str, int], weeks: int, figures: Figures) -> Path:
    """Where shoppers are lost, measured by our share of the market at each stage."""
    row = funnel.shares(pl.DataFrame([dict(sums)])).to_dicts()[0]
    own, market = funnel.rates(dict(sums), "own"), funnel.rates(dict(sums), "market")
    lost = row["lost_at"]
    largest = max((row[f"share_{stage}"] or 0 for stage in funnel.STAGES), default=0) or 1
    stages = tuple(
        Stage(
            stage.replace("_", " "),
            figures.count(sums[f"own_{stage}"]),
            figures.count(sums[f"market_{stage}"]),
            figures.rate(row[f"share_{stage}"], 1),
            100 * (row[f"share_{stage}"] or 0) / largest,
            figures.number(row[f"fall_{stage}"]) if stage != "impressions" else "",
            stage == lost and row["fall"] is not None and row["fall"] < 1,
        )
        for stage in funnel.STAGES
    )
    rates = tuple(
        (
            _LABELS.get(name, name),
            figures.rate(own[name], 2 if name == "ctr" else 1),
            figures.rate(market[name], 2 if name == "ctr" else 1),
            _against(name, own[name], market[name]),
        )
        for name in own
    )
    if lost is None:
        return Path(
            Answer("No query funnel covers this period.", "Load it in Intake. The period must include a whole week."),
            stages,
            rates,
        )
    where, metric = _STAGE_WORDS[lost]
    before = funnel.STAGES[funnel.STAGES.index(lost) - 1]
    lost_here = f"Shoppers drop off {where}."
    bold = lost_here if row["fall"] < 1 else "Shoppers drop off no more than in the market."
    rest = (
        f"You have {figures.rate(row[f'share_{before}'])} of the market’s {before.replace('_', ' ')} and "
        f"{figures.rate(row[f'share_{lost}'])} of its {lost.replace('_', ' ')}, over {figures.counted(weeks, 'week')}. "
        f"What to test there: {TO_CHECK[metric][0].lower()}{TO_CHECK[metric][1:]}"
    )
    return Path(Answer(bold, rest), stages, rates)


def whose_words(whose: FunnelOf) -> str:
    """Whose searches are counted, where that is not what one would take for granted."""
    return f"These figures are {whose.value}." if whose.value else ""


def _against(name: str, own: float | None, market: float | None) -> str:
    if own is None or market is None or not market:
        return ""
    better = own < market if name == funnel.ABANDONED else own > market
    return "" if abs(own / market - 1) < 0.05 else "gain" if better else "loss"


def query_answer(rows: pl.DataFrame, figures: Figures) -> Answer:
    """Between which stages most queries lose our share, the most searched of them, and words we never say."""
    sure = rows.filter(~pl.col("thin") & (pl.col("fall") < 1))
    unsaid = rows.filter(pl.col("missing") != "")
    entries = []
    if len(unsaid):
        most = unsaid.sort("search_volume", descending=True).row(0, named=True)
        entries.append(
            f"{figures.count(len(unsaid))} of {figures.count(len(rows))} queries contain words missing from all "
            f"your titles. The most searched: “{most['query']}” ({most['missing']})."
        )
    if sure.is_empty():
        return Answer("No query has surely lost share.", " ".join(entries))
    stage, count = sure.group_by("lost_at").len().sort("len", "lost_at", descending=[True, False]).row(0)
    there = sure.filter(pl.col("lost_at") == stage).sort("search_volume", descending=True).row(0, named=True)
    bold = (
        f"Most shares are lost {_STAGE_WORDS[stage][0]}: in {figures.count(count)} of {figures.count(len(sure))}"
        " queries with enough data."
    )
    entries.insert(0, f"Of “{there['query']}” {figures.number(there['fall'])} of the share is left there.")
    return Answer(bold, " ".join(entries))


def query_fields() -> dict[str, Field]:
    """What queries are sorted and filtered by."""
    shares = [
        Field(
            f"share_{stage}",
            f"share of {stage.replace('_', ' ')}",
            pl.col(f"share_{stage}") * 100,
            "%",
            "Yours ÷ the market's, all weeks together",
            digits=1,
        )
        for stage in funnel.STAGES
    ]
    fields = [
        Field("name", "query", pl.col("query"), text=True),
        Field("volume", "searches a week", pl.col("search_volume"), "", "how often it was searched", digits=0),
        *shares,
        Field("fall", "share kept", pl.col("fall"), "", "the smallest share ÷ share of the stage before", digits=2),
        Field("lost", "share falls at", pl.col("lost_at"), options=funnel.STAGES[1:]),
        word_count("query"),
        yes_or_no("bought", "bought", pl.col("bought"), "Ads brought clicks in this period"),
        yes_or_no("unsaid", "words missing", pl.col("missing") != "", "Words of it are in none of your titles"),
    ]
    return {field.key: field for field in fields}


UNSAID: Final = Head("words missing from titles", "Words of the query missing from all your titles", css="words")


@dataclass(frozen=True, slots=True)
class QueryLine:
    """One query, its key; bars: its four shares on the page's scale, 0 … 100."""

    key: str
    volume: str
    shares: tuple[str, ...]
    bars: tuple[float, ...]
    lost: str
    thin: bool
    kept: str
    missing: str
    bought: bool


def query_lines(shown: pl.DataFrame, figures: Figures) -> list[QueryLine]:
    """A page of queries."""
    rows = shown.to_dicts()
    largest = max((row[f"share_{stage}"] or 0 for row in rows for stage in funnel.STAGES), default=0) or 1
    return [
        QueryLine(
            row["query"],
            figures.count(row["search_volume"]),
            tuple(figures.percent(row[f"share_{stage}"]) for stage in funnel.STAGES),
            tuple(round(100 * (row[f"share_{stage}"] or 0) / largest, 1) for stage in funnel.STAGES),
            (row["lost_at"] or "–").replace("_", " ") if row["fall"] is not None and row["fall"] < 1 else "nowhere",
            row["thin"],
            figures.number(row["fall"]),
            row["missing"],
            row["bought"],
        )
        for row in rows
    ]


def query_export(rows: pl.DataFrame) -> Table:
    """Queries with counts and shares."""
    rates = {f"share_{stage}": "0.0%" for stage in funnel.STAGES}
    return Table(
        "query-shares", rows.select("query", "search_volume", *funnel.COUNTS, *rates, "lost_at", "missing"), rates
    )


@dataclass(frozen=True, slots=True)
class PathView:
    """The shopper's path. whose: whose figures it is of; strips: label, value and strip of each metric."""

    path: Path
    whose: str
    strips: Sequence[tuple[str, str, Strip]]


def path_page(ask: Context) -> PathView:
    """The view of the path."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    on = standing.standing_data(facts, selection)
    weeks, whose = query_shares.weeks(facts, selection)
    sums, months = query_shares.totals(facts, selection), query_shares.months(facts, selection)
    places = {metric: standing.shop_place(on, sums, metric, months).standing for metric in SHOP_METRICS}
    return PathView(
        path(sums, weeks["day"].n_unique(), figures),
        whose_words(whose),
        [
            (RATED[metric].label, metric_words(metric, each.value, figures), strip(each, figures))
            for metric, each in places.items()
        ],
    )


@dataclass(frozen=True, slots=True)
class QueriesView:
    """Our share of what shoppers searched for, a row a query. answer: None without queries."""

    answer: Answer | None
    whose: str
    table: TableView
    stages: Sequence[str]


def query_page(ask: Context) -> QueriesView:
    """The view of queries."""
    of, shown = listed(ask, QUERIES), query_fields()
    heads = {key: shown[key] for key in shown if key not in ("words", "unsaid")}
    table = table_of(
        ask,
        of,
        query_lines(of.found.shown, ask.figures),
        (*heads_of(heads, of.found.sort, ask.figures, words=("lost",)), UNSAID),
        name="queries",
        things="queries",
        here=ask.url("standing.view", name="queries"),
        opens=False,
        empty="No queries for this period. Load the query funnel; the period must include a whole week.",
    )
    return QueriesView(
        query_answer(of.rows, ask.figures) if len(of.rows) else None,
        whose_words(query_shares.weeks(ask.facts, ask.selection)[1]),
        table,
        funnel.STAGES,
    )


QUERIES: Final = ListSpec(
    lambda ask: query_shares.shares(ask.facts, ask.selection).with_columns(row_id="query"),
    lambda _ask, _rows: query_fields(),
    ("query",),
    "-volume",
    lambda _, rows: query_export(rows),
)
