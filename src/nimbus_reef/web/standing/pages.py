"""What Standing says: the tree, groups, formats, products, the shopper's path, queries."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.core import funnel, peers
from nimbus_reef.core.metrics import METRICS, Better, Metric, difference
from nimbus_reef.core.model import MEASURES, MICRO, MONEY_MEASURES
from nimbus_reef.core.peers import RATED
from nimbus_reef.core.words import words as words_of
from nimbus_reef.jobs.exports import Table
from nimbus_reef.jobs.standing import AD_METRICS, Placed
from nimbus_reef.jobs.totals import Totals, summed
from nimbus_reef.web import strips
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.strips import TRADE_NAMES, Strip, strip, value_words
from nimbus_reef.web.tables import Field

VIEWS: Final[Mapping[str, str]] = {
    "tree": "Metric tree", "products": "Products", "formats": "Formats", "path": "Shopper’s path",
    "queries": "Query shares", "shape": "Account shape", "peers": "Peer figures",
}  # fmt: skip
MONTH: Final = 30
TO_CHECK: Final[Mapping[str, str]] = {
    "ctr": "The first picture, price, rating and the start of the title, as they stand beside rivals in search; "
    "then whether the searches paid for are about this product at all.",
    "cvr": "The page: pictures, bullets, reviews, price against rivals, stock, delivery; then searches that "
    "want something else.",
    "cpc": "Bids and placement raises; then whether a quieter match or longer phrase brings the same buyers.",
    "aov": "Price, sizes and sets offered, and which variant the ads lead to.",
    "acos": "Conversion and price per click first: it is made of them and the order value.",
    "cart_rate": "Price, delivery and choice of variants: shoppers look and do not put it in the cart.",
    "purchase_rate": "Delivery time and cost, coupons, stock: shoppers have it in the cart and leave it there.",
}


@dataclass(frozen=True, slots=True)
class Node:
    """One figure of the tree. good: whether its change is; spark: its days as an SVG path of 100 × 20."""

    key: str
    label: str
    value: str
    change: str
    up: bool | None
    good: bool | None
    strip: Strip | None
    spark: str
    definition: str


def _value(key: str, sums: Mapping[str, int]) -> float | None:
    metric = METRICS[key]
    money = {name: sums[name] / MICRO if name in MONEY_MEASURES else float(sums[name]) for name in MEASURES}
    if not metric.is_ratio:
        return money[key]
    below = money[metric.denominator]
    return money[metric.numerator] / below if below else None


def _written(key: str, value: float | None, figures: Figures) -> str:
    if key in strips.UNITS:
        return value_words(key, value, figures)
    return figures.money(value) if key in MONEY_MEASURES else figures.count(value)


_LEAST_SHOWN: Final = {"ctr": 0.00005, "cvr": 0.0005, "acos": 0.0005}
"""A change of a rate that would be written as 0.0; other figures are compared in per cent."""


def _moved(
    key: str, now: float | None, then: float | None, figures: Figures
) -> tuple[str, bool | None, bool | None]:
    """A change in words, whether up, and whether that is good (null: neither)."""
    change = difference(now, then)
    if change.absolute is None:
        return "", None, None
    smallest = _LEAST_SHOWN.get(key, 0.005)
    size = (
        abs(change.absolute)
        if key in _LEAST_SHOWN
        else abs(change.relative if change.relative is not None else 1)
    )
    up = None if size < smallest else change.absolute > 0
    better = METRICS[key].better
    good = None if up is None or better is Better.NEITHER else up is (better is Better.HIGHER)
    if key in strips.UNITS and key not in ("cpc", "aov"):
        return f"{figures.number(abs(change.absolute) * 100, 2 if key == 'ctr' else 1)} pt", up, good
    if change.relative is None:
        return "new", up, good
    return figures.rate(abs(change.relative), 0), up, good


_TREE: Final = ("impressions", "clicks", "orders", "sales", "spend", *AD_METRICS)


def nodes(found: Totals, placed: Mapping[str, Placed], figures: Figures) -> dict[str, Node]:
    """Every figure of the tree, by key. Windows of unlike length are compared by day."""
    now = summed(found.now)
    then = summed(found.then) if found.then is not None and len(found.then) else None
    scale = len(found.now) / len(found.then) if then and found.then is not None else 1.0
    drawn = sparks(found.now, _TREE)
    made = {}
    for key in _TREE:
        value = _value(key, now)
        before = _value(key, then) if then else None
        if before is not None and not METRICS[key].is_ratio:
            before *= scale
        change, up, good = _moved(key, value, before, figures)
        made[key] = Node(
            key, METRICS[key].label[0].upper() + METRICS[key].label[1:], _written(key, value, figures), change, up, good,
            strip(placed[key].standing, figures) if key in placed else None, drawn[key],
            METRICS[key].definition,
        )  # fmt: skip
    return made


def sparks(days: pl.DataFrame, keys: Sequence[str], width: float = 100, height: float = 20) -> dict[str, str]:
    """The days of metrics as SVG paths; empty where there are too few."""
    if len(days) < 3:
        return dict.fromkeys(keys, "")
    # Single days jump, and weekdays differ: a week at a time is what the eye can follow.
    span = 7 if len(days) >= 14 else 1
    weeks = days.select(pl.col(MEASURES).cast(pl.Float64).rolling_sum(span, min_samples=span)).slice(span - 1)
    values = weeks.select(_over_time(METRICS[key]).forward_fill().fill_null(0.0).alias(key) for key in keys)
    return {key: _path(values[key].to_list(), width, height) for key in keys}


def _over_time(metric: Metric) -> pl.Expr:
    if not metric.is_ratio:
        return pl.col(metric.key)
    below = pl.col(metric.denominator)
    return pl.when(below > 0).then(pl.col(metric.numerator) / below)


def _path(values: Sequence[float], width: float, height: float) -> str:
    low, span = min(values), (max(values) - min(values)) or 1.0
    step = width / (len(values) - 1)
    points = [
        f"{n * step:.1f},{height - 1 - (value - low) / span * (height - 2):.1f}"
        for n, value in enumerate(values)
    ]
    return f"M{' L'.join(points)}"


@dataclass(frozen=True, slots=True)
class Answer:
    """The finding of a page: what stands out, and two sentences of figures."""

    bold: str
    rest: str


def answer(found: Totals, placed: Mapping[str, Placed], figures: Figures) -> Answer:
    """The weakest and the best metric by standing and by change, and what closing the gap would bring."""
    told = {key: each.standing for key, each in placed.items() if each.standing.percentile is not None}
    if not told:
        thin = next((each.standing for each in placed.values() if each.standing.peers is not None), None)
        why = strips.strip(thin, figures).words if thin else "No peer figures are loaded."
        return Answer(
            "Nothing can be said against peers yet.",
            f"{why} Load peer benchmarks in Intake, or type them in.",
        )
    weakest = min(told.values(), key=lambda each: each.percentile or 0)
    best = max(told.values(), key=lambda each: each.percentile or 0)
    now, then = summed(found.now), summed(found.then) if found.then is not None and len(found.then) else None
    value, before = _value(weakest.metric, now), _value(weakest.metric, then) if then else None
    change, up, _ = _moved(weakest.metric, value, before, figures)
    fell = (
        f", and it {'rose' if up else 'fell'} by {change.replace(' pt', ' points')}"
        if change and up is not None
        else ""
    )
    bold = f"{TRADE_NAMES[weakest.metric]} is the weak link."
    if (weakest.percentile or 0) >= 50:
        bold = f"Nothing is weak: {TRADE_NAMES[weakest.metric].lower()} is the lowest."
    sentences = [
        f"{value_words(weakest.metric, value, figures)} puts you ahead of {figures.count(weakest.percentile)} % of "
        f"peers{fell}.",
        f"{TRADE_NAMES[best.metric]} is the strongest, ahead of {figures.count(best.percentile)} %.",
        _most_moved(now, then, weakest.metric, figures) if then else "",
        gap_words(weakest.metric, value, weakest.typical, now, len(found.now), figures),
    ]
    return Answer(bold, " ".join(each for each in sentences if each))


def _most_moved(now: Mapping[str, int], then: Mapping[str, int], said: str, figures: Figures) -> str:
    """The rate that lost most since the days before, in a sentence; nothing where that is said already."""
    lost: list[tuple[float, str, str]] = []
    for key in ("ctr", "cvr", "cpc", "aov"):
        value, before = _value(key, now), _value(key, then)
        relative = difference(value, before).relative
        change, up, good = _moved(key, value, before, figures)
        if good is False and relative is not None:
            lost.append((abs(relative), key, f"{'+' if up else '−'}{change}"))
    if not lost:
        return "No rate got worse since the days before."
    _, key, change = max(lost)
    if key == said:
        return ""
    return f"Since the days before {TRADE_NAMES[key].lower()} lost most, {change}."


def gap_words(
    metric: str,
    value: float | None,
    typical: float | None,
    now: Mapping[str, int],
    days: int,
    figures: Figures,
) -> str:
    """What closing the gap to the typical peer would bring a month, all else as it is."""
    if value is None or typical is None or not value or not days:
        return ""
    sales, spend = (now[name] / MICRO * MONTH / days for name in ("sales", "spend"))
    if metric in ("ctr", "cvr", "aov") and typical > value:
        gain = sales * (typical / value - 1)
        what = {"ctr": "the same impressions", "cvr": "the same clicks", "aov": "the same orders"}[metric]
        return f"At the peers’ typical {value_words(metric, typical, figures)} {what} would bring about {figures.money(gain)} more sales a month."
    if metric == "cpc" and typical < value:
        return f"At the peers’ typical {value_words(metric, typical, figures)} the same clicks would cost about {figures.money(spend * (1 - typical / value))} less a month."
    if metric == "acos" and typical < value:
        return f"At the peers’ typical {value_words(metric, typical, figures)} the same sales would cost about {figures.money(sales * (value - typical))} less a month."
    return ""


@dataclass(frozen=True, slots=True)
class GroupLine:
    """One category, format, portfolio or country."""

    name: str
    share: str
    cells: tuple[Strip, ...]
    overall: str


def group_lines(groups: Sequence[tuple[str, float, list[Placed]]], figures: Figures) -> list[GroupLine]:
    """Groups with a strip per metric, and their overall standing."""
    whole = sum(spend for _, spend, _ in groups)
    made = []
    for name, spend, placed in groups:
        at = peers.overall({each.standing.metric: each.standing.percentile for each in placed})
        made.append(
            GroupLine(
                name, figures.rate(spend / whole if whole else None, 0),
                tuple(strip(each.standing, figures) for each in placed), figures.count(at),
            )
        )  # fmt: skip
    return made


@dataclass(frozen=True, slots=True)
class FormatPair:
    """Our share above the peers'; bars are 0 … 100 wide."""

    name: str
    ours: str
    ours_bar: float
    theirs: str
    theirs_bar: float


def format_pairs(mix: Sequence[Mapping[str, Any]], what: str, figures: Figures) -> list[FormatPair]:
    """Shares of spend or of campaigns by ad format."""
    return [
        FormatPair(
            f"{each['format'].capitalize()} ads", figures.rate(each[f"{what}_share"], 0),
            100 * (each[f"{what}_share"] or 0), figures.rate(each[f"peer_{what}_share"], 0),
            100 * (each[f"peer_{what}_share"] or 0),
        )
        for each in mix
    ]  # fmt: skip


# --- products ------------------------------------------------------------------------


def product_fields(how: str) -> dict[str, Field]:
    """What products are sorted by: standing, or change since the days before."""
    fields = [
        Field("name", "product", pl.col("sku")),
        Field("spend", "spend", pl.col("spend"), "¤", "what its clicks cost", digits=0),
    ]
    for metric in AD_METRICS:
        expr = pl.col(f"{metric}_at") if how == "standing" else pl.col(f"{metric}_change")
        fields.append(Field(metric, RATED[metric].label, expr, "", METRICS[metric].definition, digits=0))
    overall = "the mean of CTR, CVR, ACOS and AOV, at least three with CVR among them"
    fields.append(Field("overall", "overall", pl.col("overall_at"), "", overall, digits=0))
    return {field.key: field for field in fields}


@dataclass(frozen=True, slots=True)
class HeatCell:
    """One metric of a product: its words, where it stands (0 … 100), what hovering says."""

    metric: str
    text: str
    at: float | None
    tone: str
    hollow: bool
    title: str


@dataclass(frozen=True, slots=True)
class ProductLine:
    """One product."""

    sku: str
    title: str
    spend: str
    cells: tuple[HeatCell, ...]
    overall: str
    tone: str


def with_changes(now: pl.DataFrame, then: pl.DataFrame | None) -> pl.DataFrame:
    """Adds ctr_change … acos_change: the relative change since the days before, null without a base."""
    if then is None:
        return now.with_columns(pl.lit(None, pl.Float64).alias(f"{metric}_change") for metric in AD_METRICS)
    before = then.select("product_id", *(pl.col(metric).alias(f"{metric}_then") for metric in AD_METRICS))
    return now.join(before, on="product_id", how="left", maintain_order="left").with_columns(
        pl.when(pl.col(f"{metric}_then") > 0)
        .then(pl.col(metric) / pl.col(f"{metric}_then") - 1)
        .alias(f"{metric}_change")
        for metric in AD_METRICS
    )


def product_lines(shown: pl.DataFrame, how: str, figures: Figures) -> list[ProductLine]:
    """A page of products."""
    return [
        ProductLine(
            row["sku"], row["title"] or "", figures.count(row["spend"]),
            tuple(_heat(row, metric, how, figures) for metric in AD_METRICS),
            figures.count(row["overall_at"]), strips.tone_of(row["overall_at"]),
        )
        for row in shown.to_dicts()
    ]  # fmt: skip


def _heat(row: Mapping[str, Any], metric: str, how: str, figures: Figures) -> HeatCell:
    at, value = row[f"{metric}_at"], value_words(metric, row[metric], figures)
    if how == "standing":
        title = f"{value}, " + (
            "too thin or without peers" if at is None else f"ahead of {figures.count(at)} % of peers"
        )
        if row[f"{metric}_own"] and at is not None:
            title = f"{value}, ahead of {figures.count(at)} % of the account’s own products of the category"
        return HeatCell(
            metric,
            figures.count(at) if at is not None else "thin",
            row[f"{metric}_seen"],
            strips.tone_of(at),
            at is None or row[f"{metric}_own"],
            title,
        )
    change = row[f"{metric}_change"]
    if change is None:
        return HeatCell(metric, "–", None, "", True, f"{value}; nothing before")
    lower = RATED[metric].better is Better.LOWER
    good = None if abs(change) < 0.05 else (change < 0) is lower
    tone = "" if good is None or at is None else "gain" if good else "loss"
    before = value_words(metric, row[f"{metric}_then"], figures)
    return HeatCell(metric, figures.points(change, 0), None, tone, at is None, f"{before} → {value}")


def product_export(rows: pl.DataFrame) -> Table:
    """Products with values, percentiles and changes."""
    columns: list[str] = ["sku", "title", "family", "category", *MEASURES]
    for metric in AD_METRICS:
        columns += [metric, f"{metric}_at", f"{metric}_change"]
    formats = {
        "ctr": "0.00%",
        "cvr": "0.0%",
        "acos": "0.0%",
        "cpc": "0.00",
        "aov": "0.00",
        "spend": "0.00",
        "sales": "0.00",
    }
    return Table("standing-products", rows.select(*columns, "overall_at"), formats)


# --- the shopper's path -----------------------------------------------------------------

_STAGE_WORDS: Final[Mapping[str, tuple[str, str]]] = {
    "clicks": ("between look and click", "ctr"),
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
            stage.replace("_", " "), figures.count(sums[f"own_{stage}"]), figures.count(sums[f"market_{stage}"]),
            figures.rate(row[f"share_{stage}"], 1), 100 * (row[f"share_{stage}"] or 0) / largest,
            figures.number(row[f"fall_{stage}"]) if stage != "impressions" else "",
            stage == lost and row["fall"] is not None and row["fall"] < 1,
        )
        for stage in funnel.STAGES
    )  # fmt: skip
    rates = tuple(
        (name, figures.rate(own[name], 2 if name == "click rate" else 1), figures.rate(market[name], 2 if name == "click rate" else 1),
         _against(name, own[name], market[name]))
        for name in own
    )  # fmt: skip
    if lost is None:
        return Path(
            Answer(
                "No query funnel covers these days.",
                "Load it in Intake; a whole week has to lie inside the window.",
            ),
            stages,
            rates,
        )
    where, metric = _STAGE_WORDS[lost]
    before = funnel.STAGES[funnel.STAGES.index(lost) - 1]
    if row["fall"] >= 1:
        bold = "Shoppers are lost nowhere more than in the market."
    else:
        bold = f"Shoppers are lost {where}."
    rest = (
        f"You have {figures.rate(row[f'share_{before}'])} of the market’s {before.replace('_', ' ')} and "
        f"{figures.rate(row[f'share_{lost}'])} of its {lost.replace('_', ' ')}, over {figures.counted(weeks, 'week')}. "
        f"What to test there: {TO_CHECK[metric][0].lower()}{TO_CHECK[metric][1:]}"
    )
    return Path(Answer(bold, rest), stages, rates)


def _against(name: str, own: float | None, market: float | None) -> str:
    if own is None or market is None or not market:
        return ""
    better = own < market if name == "cart abandonment" else own > market
    return "" if abs(own / market - 1) < 0.05 else "gain" if better else "loss"


# --- query shares -------------------------------------------------------------------


def query_rows(weeks: pl.DataFrame, titles: Sequence[str]) -> pl.DataFrame:
    """One row per query: counts, shares, lost_at, volume a week, missing (words in no own title)."""
    known = frozenset(word for title in titles for word in words_of(title))
    rows = (
        weeks.filter(pl.col("sku").is_null())
        .group_by("query")
        .agg(pl.col(funnel.COUNTS).cast(pl.Int64).sum(), pl.col("search_volume").mean())
        .sort("query")
    )
    missing = [" ".join(funnel.missing_words(query, known)) for query in rows["query"]]
    return funnel.shares(rows).with_columns(missing=pl.Series(missing, dtype=pl.String))


def query_fields() -> dict[str, Field]:
    """What queries are sorted and filtered by."""
    shares = [
        Field(f"share_{stage}", f"share of {stage.replace('_', ' ')}", pl.col(f"share_{stage}") * 100, "%",
              "ours ÷ the market's, all weeks together", digits=1)
        for stage in funnel.STAGES
    ]  # fmt: skip
    fields = [
        Field("name", "query", pl.col("query")),
        Field(
            "volume", "searches a week", pl.col("search_volume"), "", "how often it was searched", digits=0
        ),
        *shares,
        Field(
            "fall",
            "share kept",
            pl.col("fall"),
            "",
            "the smallest share ÷ share of the stage before",
            digits=2,
        ),
        Field("lost", "share falls at", pl.col("lost_at"), options=funnel.STAGES[1:]),
    ]
    return {field.key: field for field in fields}


@dataclass(frozen=True, slots=True)
class QueryLine:
    """One query; bars: its four shares on the page's scale, 0 … 100."""

    query: str
    volume: str
    shares: tuple[str, ...]
    bars: tuple[float, ...]
    lost: str
    thin: bool
    kept: str
    missing: str


def query_lines(shown: pl.DataFrame, figures: Figures) -> list[QueryLine]:
    """A page of queries."""
    rows = shown.to_dicts()
    largest = max((row[f"share_{stage}"] or 0 for row in rows for stage in funnel.STAGES), default=0) or 1
    return [
        QueryLine(
            row["query"], figures.count(row["search_volume"]),
            tuple(figures.percent(row[f"share_{stage}"]) for stage in funnel.STAGES),
            tuple(round(100 * (row[f"share_{stage}"] or 0) / largest, 1) for stage in funnel.STAGES),
            (row["lost_at"] or "–").replace("_", " ") if row["fall"] is not None and row["fall"] < 1 else "nowhere",
            row["thin"], figures.number(row["fall"]), row["missing"],
        )
        for row in rows
    ]  # fmt: skip


def query_export(rows: pl.DataFrame) -> Table:
    """Queries with counts and shares."""
    rates = {f"share_{stage}": "0.0%" for stage in funnel.STAGES}
    return Table(
        "query-shares",
        rows.select("query", "search_volume", *funnel.COUNTS, *rates, "lost_at", "missing"),
        rates,
    )


# --- account shape ----------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class ShapeLine:
    """How many of a thing there are, by state; bar parts are 0 … 100 of the largest."""

    name: str
    total: str
    states: tuple[tuple[str, str], ...]


def shape_lines(counts: Mapping[str, Mapping[str, int]], figures: Figures) -> list[ShapeLine]:
    """Counts of campaigns, ad groups, targets and products, by state or format."""
    return [
        ShapeLine(
            name, figures.count(sum(by.values())),
            tuple((state, figures.count(number)) for state, number in sorted(by.items(), key=lambda each: -each[1])),
        )
        for name, by in counts.items()
    ]  # fmt: skip
