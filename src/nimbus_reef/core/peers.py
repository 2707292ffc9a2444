"""
Standing: where a figure lies among category peers, 100 being best.

A feed tells quantiles of a metric over many brands, per month, category, country and
format. Formulas: "Peer standing" in docs/calculations.md.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import numpy.typing as npt
import polars as pl

from nimbus_reef.core.evidence import INTERVAL, interval
from nimbus_reef.core.metrics import METRICS, SHOP_METRICS, Better, Metric, ratio

Floats = npt.NDArray[np.float64]

POINTS: Final = (5, 10, 20, 30, 40, 50, 60, 70, 80, 90, 95)
COLUMNS: Final = tuple(f"p{point:02}" for point in POINTS)
FEWEST_BRANDS: Final = 20
BOTTOM: Final = 25
TOP: Final = 75
"""Per cent of peers one is ahead of: under the first is the bottom quarter, from the second on the top one."""
_PERCENT: Final[Floats] = np.array(POINTS, dtype=np.float64)


RATED: Final[Mapping[str, Metric]] = {each.key: each for each in (*METRICS.values(), *SHOP_METRICS) if each.enough}
"""The metrics that have peers."""
OVERALL: Final = ("ctr", "cvr", "acos", "aov")
_FEWEST_OVERALL: Final = 3
_HOPELESS_CLICKS: Final = 100
_HOPELESS_AT: Final = 5.0


@dataclass(frozen=True, slots=True)
class Peers:
    """
    Quantiles of one metric in one category, country and format, for the months of a window.

    brands: the fewest of its months. borrowed: months that came from an earlier one, as
    (month wanted, month used). own: made of the account's other products, for want of a feed.
    """

    quantiles: tuple[float, ...]
    brands: int
    borrowed: tuple[tuple[str, str], ...] = ()
    own: bool = False

    @property
    def typical(self) -> float:
        """The middle peer."""
        return self.quantiles[POINTS.index(50)]


Months = Mapping[str, tuple[int, tuple[float, ...]]]
"""What a feed tells of one category, format and metric: its months in order, each with its brands and the quantiles."""


def cells(feed: pl.DataFrame) -> Mapping[tuple[str, str, str], Months]:
    """
    A feed by (category, format, metric), those months alone that 20 brands or more tell. feed: these, month
    ("2026-10"), brands and the quantile columns; of several rows of a month the last counts.
    """
    found: dict[tuple[str, str, str], dict[str, tuple[int, tuple[float, ...]]]] = {}
    usable = feed.filter(pl.col("brands") >= FEWEST_BRANDS).sort("month", maintain_order=True)
    for category, ad_format, metric, month, brands, *entries in usable.select(
        "category", "format", "metric", "month", "brands", *COLUMNS
    ).rows():
        found.setdefault((category, ad_format, metric), {})[month] = (brands, tuple(entries))
    return found


def blended(months: Months, weights: Mapping[str, float]) -> Peers | None:
    """
    The quantiles of a window that touches several months.

    Parameters
    ----------
    told : Months
        Of one cell, see `cells`.
    weights : month → count
        Our denominator in each month's part of the window.

    Returns
    -------
    Peers or None
        A month that is missing uses the latest earlier one; None where there is none.
    """
    used: list[str] = []
    borrowed = []
    for month in weights:
        earlier = [each for each in months if each <= month]
        if not earlier:
            return None
        used.append(earlier[-1])
        if earlier[-1] != month:
            borrowed.append((month, earlier[-1]))
    if not used:
        return None
    parts = np.array([months[month][1] for month in used])
    shares = np.array(list(weights.values()), dtype=np.float64)
    shares = shares / shares.sum() if shares.sum() > 0 else np.full(len(used), 1 / len(used))
    brands = min(months[month][0] for month in used)
    return Peers(tuple(float(value) for value in shares @ parts), int(brands), tuple(borrowed))


def of_own(values: Sequence[float]) -> Peers | None:
    """The account's other products as peers, where no feed tells any: at least five of them."""
    if len(values) < 5:
        return None
    result = np.quantile(np.array(values), _PERCENT / 100)
    return Peers(tuple(float(value) for value in result), len(values), own=True)


def percentiles(values: Floats, quantiles: Sequence[float], better: Better) -> Floats:
    """
    The standing of each value: per cent of peers it is ahead of.

    Parameters
    ----------
    values : float64
        In the metric's unit; NaN stays NaN.
    quantiles : float64
        Of the peers, at `POINTS`.
    better : Better
        Which way is good; flipped where lower is better.

    Returns
    -------
    float64, 5 … 95
        Monotone linear interpolation between the quantiles; where several are the same, the middle of them; outside, 5
        or 95.
    """
    q = np.asarray(quantiles, dtype=np.float64)
    left, right = np.searchsorted(q, values, "left"), np.searchsorted(q, values, "right")
    found = np.interp(values, q, _PERCENT)
    tied = right > left
    first, last = np.minimum(left, len(q) - 1), np.clip(right - 1, 0, len(q) - 1)
    found = np.where(tied, (_PERCENT[first] + _PERCENT[last]) / 2, found)
    found = np.where(np.isnan(values), np.nan, found)
    return 100 - found if better is Better.LOWER else found


@dataclass(frozen=True, slots=True)
class Standing:
    """
    One metric of one thing among its peers.

    percentile: None where it is too thin or has no peers; low, high: the standing at the ends
    of the metric's 80 % interval, low ≤ high. thin: what is missing, as (measure, held,
    needed). edge: below or above all that the feed tells. typical: the middle peer.
    """

    metric: str
    value: float | None
    percentile: float | None = None
    low: float | None = None
    high: float | None = None
    typical: float | None = None
    thin: tuple[str, int, int] | None = None
    edge: bool = False
    peers: Peers | None = None

    @property
    def quarter(self) -> str:
        """The quarter of peers it is in, in words."""
        if self.percentile is None:
            return ""
        words = ("bottom quarter", "below middle", "above middle", "top quarter")
        return words[min(3, int(self.percentile // 25))]


def too_thin(metric: str, sums: Mapping[str, float]) -> tuple[str, int, int] | None:
    """What a metric lacks to be judged, None where it has enough: (measure, held, needed)."""
    for measure, least in RATED[metric].enough:
        if sums[measure] < least:
            return measure, int(sums[measure]), least
    return None


def standing(metric: str, sums: Mapping[str, float], peers: Peers | None, ends: tuple[float, float] | None) -> Standing:
    """
    The standing of a metric. sums: measures, money in units; ends: its 80 % interval.

    100 clicks or more without a sale put ACOS behind 95 % though it is endless.
    """
    rated = RATED[metric]
    numerator, denominator = sums[rated.numerator], sums[rated.denominator]
    value = ratio(numerator, denominator)
    if peers is None:
        return Standing(metric, value, thin=too_thin(metric, sums))
    if metric == "acos" and sums["sales"] == 0 and sums["clicks"] >= _HOPELESS_CLICKS:
        return Standing(metric, None, _HOPELESS_AT, _HOPELESS_AT, _HOPELESS_AT, peers.typical, edge=True, peers=peers)
    thin = too_thin(metric, sums)
    if thin or value is None:
        return Standing(metric, value, thin=thin, typical=peers.typical, peers=peers)
    points = np.array([value, *(ends or (value, value))])
    middle, one, other = percentiles(points, peers.quantiles, rated.better)
    edge = not peers.quantiles[0] <= value <= peers.quantiles[-1]
    low, high = sorted((float(one), float(other)))
    return Standing(
        metric,
        value,
        float(middle),
        min(low, float(middle)),
        max(high, float(middle)),
        peers.typical,
        edge=edge,
        peers=peers,
    )


def proportion(successes: float, trials: float) -> tuple[float, float]:
    """The 80 % interval of a proportion: Jeffreys, Beta(k + ½, n − k + ½)."""
    k = min(successes, trials)
    return interval(k + 0.5, trials - k + 0.5)


def ends_of(
    metric: str, numerator: Floats, denominator: Floats, draws: Callable[[int], Floats]
) -> tuple[float, float] | None:
    """
    The 80 % interval of a metric from its daily sums; None where nothing was counted.

    A proportion: see there. A quotient of money: the days drawn again and again. draws: how often each of so many days
    is drawn, draw × day.
    """
    n = float(denominator.sum())
    if not n:
        return None
    if RATED[metric].proportion:
        return proportion(float(numerator.sum()), n)
    times = draws(len(denominator))
    top, below = times @ numerator, times @ denominator
    quotients = top[below > 0] / below[below > 0]
    if not len(quotients):
        return None
    tail = (1 - INTERVAL) / 2
    low, high = np.quantile(quotients, [tail, 1 - tail])
    return float(low), float(high)


def combined(metric: str, sums: Mapping[str, float], parts: Sequence[tuple[Standing, float, float]]) -> Standing:
    """
    Standings per category as one.

    Parameters
    ----------
    metric : key of `RATED`
    sums : measure → sum
        Of all categories, money in units.
    parts : standing, our spend, our denominator
        In each category.

    Returns
    -------
    Standing
        The percentile and its ends weighed by spend over those with a verdict; typical by the denominators, which makes
        it the value that we would have were each category typical.
    """
    rated = RATED[metric]
    below = sums[rated.denominator]
    value = ratio(sums[rated.numerator], below)
    pairs = [(each, spend) for each, spend, _ in parts if each.percentile is not None]
    peers = next((each.peers for each, _, _ in parts if each.peers is not None), None)
    known = [(each.typical, weight) for each, _, weight in parts if each.typical is not None and weight > 0]
    whole = sum(weight for _, weight in known)
    typical = ratio(sum(middle * weight for middle, weight in known), whole)
    if not pairs:
        return Standing(metric, value, typical=typical, thin=too_thin(metric, sums), peers=peers)
    middle, low, high = (
        together([(replace(each, percentile=getattr(each, name)), spend) for each, spend in pairs])
        for name in ("percentile", "low", "high")
    )
    edge = all(each.edge for each, _ in pairs)
    return Standing(metric, value, middle, low, high, typical, edge=edge, peers=peers)


def together(parts: Sequence[tuple[Standing, float]]) -> float | None:
    """Standings per category as one: weighted by our spend, over those with a verdict."""
    pairs = [(each.percentile, weight) for each, weight in parts if each.percentile is not None and weight > 0]
    whole = sum(weight for _, weight in pairs)
    return ratio(sum(percentile * weight for percentile, weight in pairs), whole)


def overall(percentiles_of: Mapping[str, float | None]) -> float | None:
    """The mean of CTR, CVR, ACOS and AOV: at least three of them, CVR among them."""
    by_key = {name: percentiles_of.get(name) for name in OVERALL}
    known = [value for value in by_key.values() if value is not None]
    if by_key["cvr"] is None or len(known) < _FEWEST_OVERALL:
        return None
    return sum(known) / len(known)


def gap(metric: str, value: float, typical: float, sums: Mapping[str, float], target_acos: float) -> float:
    """
    What standing behind the typical peer costs in spend.

    Parameters
    ----------
    value, typical : the metric's unit
    sums : measure → sum
        Money in one unit.
    target_acos : fraction
        At which sales that a click rate did not bring are valued.

    Returns
    -------
    money, in the unit of the sums
        What the same sales would have cost less; below 0 where the value is the better.
    """
    if metric == "ctr":
        return target_acos * sums["sales"] * (typical / value - 1) if value else 0.0
    if metric == "cvr":
        return sums["spend"] * (1 - value / typical)
    return sums["spend"] * (1 - typical / value) if metric == "cpc" else sums["sales"] * (value - typical)


def closed(metric: str, value: float, typical: float, sums: Mapping[str, float]) -> tuple[str, float] | None:
    """
    What being typical would bring, all else as it is: ("sales", gained) of click rate, conversion and order value,
    ("spend", saved) of price per click and cost of sale, in the unit of the sums; None where the value is the better.
    """
    rated = RATED[metric]
    if not value or (typical <= value if rated.better is Better.HIGHER else typical >= value):
        return None
    if rated.better is Better.HIGHER:
        return "sales", sums["sales"] * (typical / value - 1)
    return "spend", sums["spend"] * (1 - typical / value)


def drag(metric: str, typical: float, rows: pl.DataFrame) -> str | None:
    """
    The SKU whose part of a metric lies furthest on the bad side of the typical peer, the smaller one on ties; None
    where none does. rows: sku and the metric's numerator and denominator.
    """
    rated = RATED[metric]
    sign = -1 if rated.better is Better.HIGHER else 1
    worst = (
        rows.group_by("sku")
        .agg(pl.col(rated.numerator, rated.denominator).sum())
        .with_columns(drag=sign * (pl.col(rated.numerator) - typical * pl.col(rated.denominator)))
        .sort(["drag", "sku"], descending=[True, False])
    )
    return str(worst["sku"][0]) if len(worst) and worst["drag"][0] > 0 else None


def columns(metric: str, counts: Mapping[str, Floats], peers: Peers | None) -> tuple[Floats, Floats, Floats]:
    """
    A metric of many rows at once: its values, their standings (NaN without a verdict, see `standing`), and where they
    would stand were they not too thin. counts: the measures of the rows, money in units.
    """
    rated = RATED[metric]
    top, below = counts[rated.numerator], counts[rated.denominator]
    with np.errstate(divide="ignore", invalid="ignore"):
        values = np.where(below > 0, top / below, np.nan)
    nowhere = np.full(len(values), np.nan)
    if peers is None:
        return values, nowhere, nowhere
    seen = percentiles(values, peers.quantiles, rated.better)
    at = np.where(enough(metric, counts), seen, np.nan)
    if metric == "acos":
        hopeless = (counts["sales"] == 0) & (counts["clicks"] >= _HOPELESS_CLICKS)
        at = np.where(hopeless, _HOPELESS_AT, at)
    return values, at, seen


def enough(metric: str, counts: Mapping[str, Floats]) -> npt.NDArray[np.bool_]:
    """Which rows have enough to be judged: see `too_thin`."""
    rated = RATED[metric]
    has = [counts[name] >= least for name, least in rated.enough]
    return np.asarray(np.all(has, axis=0) & (counts[rated.denominator] > 0))


def overall_column() -> pl.Expr:
    """`overall` of many rows at once, from the standings ctr_at … aov_at."""
    known = [pl.col(f"{metric}_at") for metric in OVERALL]
    counted = pl.sum_horizontal(each.is_not_null().cast(pl.Int8) for each in known)
    judged = pl.col("cvr_at").is_not_null() & (counted >= _FEWEST_OVERALL)
    return pl.when(judged).then(pl.mean_horizontal(known))
