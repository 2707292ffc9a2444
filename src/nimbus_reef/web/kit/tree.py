"""The metric tree, its answer, and what closing a gap to the typical peer would bring."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.standing import AD_METRICS, Placed
from nimbus_reef.analysis.totals import Totals, summed
from nimbus_reef.analysis.wording import ahead_words, metric_words
from nimbus_reef.core import glossary, peers
from nimbus_reef.core.metrics import METRICS, Better, Metric, difference, is_money, sums_in_units
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.peers import RATED
from nimbus_reef.core.windows import per_month
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit import strips
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.strips import Strip, metric_name, strip


@dataclass(frozen=True, slots=True)
class Node:
    """
    One figure of the tree. good: whether its change is; spark: its days as an SVG path of 100 × 20; beside: what it is
    compared with.
    """

    key: str
    label: str
    value: str
    change: str
    up: bool | None
    good: bool | None
    strip: Strip | None
    spark: str
    definition: str
    beside: tuple[str, ...] = ()


def _value(key: str, sums: Mapping[str, int]) -> float | None:
    return METRICS[key].value(sums_in_units(sums))


def _written(key: str, value: float | None, figures: Figures) -> str:
    if key in RATED:
        return metric_words(key, value, figures)
    return figures.money(value) if is_money(key) else figures.count(value)


_LEAST_SHOWN: Final = {"ctr": 0.00005, "cvr": 0.0005, "acos": 0.0005}
"""A change of a rate that would be written as 0.0; other figures are compared in per cent."""


def _moved(key: str, now: float | None, then: float | None, figures: Figures) -> tuple[str, bool | None, bool | None]:
    """A change in words, whether up, and whether that is good (None: neither)."""
    change = difference(now, then)
    if change.absolute is None:
        return "", None, None
    smallest = _LEAST_SHOWN.get(key, 0.005)
    size = abs(change.absolute) if key in _LEAST_SHOWN else abs(change.relative if change.relative is not None else 1)
    up = None if size < smallest else change.absolute > 0
    better = METRICS[key].better
    good = None if up is None or better is Better.NEITHER else up is (better is Better.HIGHER)
    if key in RATED and key not in ("cpc", "aov"):
        return f"{figures.number(abs(change.absolute) * 100, 2 if key == 'ctr' else 1)} pt", up, good
    if change.relative is None:
        return "new", up, good
    return figures.rate(abs(change.relative), 0), up, good


_TREE: Final = ("impressions", "clicks", "orders", "sales", "spend", *AD_METRICS)


def nodes(found: Totals, placed: Mapping[str, Placed], target_acos: float, figures: Figures) -> dict[str, Node]:
    """Every figure of the tree, by key. Windows of unlike length are compared by day."""
    now = summed(found.now)
    then = summed(found.then) if found.then is not None and found.held_then else None
    scale = found.held_now / found.held_then if then and found.held_then else 1.0
    drawn = sparks(found.now, _TREE)
    by_key = {}
    for key in _TREE:
        value = _value(key, now)
        before = _value(key, then) if then else None
        if before is not None and not METRICS[key].is_ratio:
            before *= scale
        change, up, good = _moved(key, value, before, figures)
        by_key[key] = Node(
            key,
            METRICS[key].label[0].upper() + METRICS[key].label[1:],
            _written(key, value, figures),
            change,
            up,
            good,
            strip(placed[key].standing, figures) if key in placed else None,
            drawn[key],
            glossary.definition(METRICS[key].label),
            _worth(_value("rpc", now), target_acos, figures) if key == "cpc" else (),
        )
    return by_key


def _worth(rpc: float | None, target_acos: float, figures: Figures) -> tuple[str, ...]:
    """What a click brings, and what it may cost for that."""
    if rpc is None:
        return ()
    may = figures.money(rpc * target_acos, 2)
    return f"a click brings {figures.money(rpc, 2)}", f"at {figures.aim(target_acos)} it may cost {may}"


def sparks(days: pl.DataFrame, keys: Sequence[str], width: float = 100, height: float = 20) -> dict[str, str]:
    """The days of metrics as SVG paths; empty where there are too few."""
    if len(days) < 3 or (days["first_day"] < days["day"]).any():
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
        f"{n * step:.1f},{height - 1 - (value - low) / span * (height - 2):.1f}" for n, value in enumerate(values)
    ]
    return f"M{' L'.join(points)}"


def answer(found: Totals, placed: Mapping[str, Placed], figures: Figures) -> Answer:
    """The weakest metric among peers, and what closing the gap would bring."""
    by_key = {key: each.standing for key, each in placed.items() if each.standing.percentile is not None}
    if not by_key:
        thin = next((each.standing for each in placed.values() if each.standing.peers is not None), None)
        why = strips.strip(thin, figures).words if thin else "No peer figures are loaded."
        return Answer("No comparison with peers yet.", f"{why} Load peer benchmarks in Intake, or enter them by hand.")
    weakest = min(by_key.values(), key=lambda each: each.percentile or 0)
    now, then = summed(found.now), summed(found.then) if found.then is not None and found.held_then else None
    value, before = _value(weakest.metric, now), _value(weakest.metric, then) if then else None
    change, up, _ = _moved(weakest.metric, value, before, figures)
    fell = (
        f", and it {'rose' if up else 'fell'} by {change.replace(' pt', ' points')}"
        if change and up is not None
        else ""
    )
    bold = f"{metric_name(weakest.metric)} is the weakest metric."
    if (weakest.percentile or 0) >= 50:
        bold = f"No weak metric. {RATED[weakest.metric].label} is the lowest."
    sentences = [
        (
            f"{metric_words(weakest.metric, value, figures)} puts you"
            f" {ahead_words(weakest.percentile or 0.0, figures)}{fell}."
        ),
        gap_words(weakest.metric, value, weakest.typical, now, found.held_now, figures),
    ]
    return Answer(bold, " ".join(each for each in sentences if each))


_ALL_ELSE: Final = {"ctr": "impressions", "cvr": "clicks", "aov": "orders", "cpc": "clicks", "acos": "sales"}
"""What stays as it is when a metric becomes typical."""


def gap_words(
    metric: str, value: float | None, typical: float | None, now: Mapping[str, int], days: int, figures: Figures
) -> str:
    """What closing the gap to the typical peer would bring per 30 days, all else as it is."""
    if value is None or typical is None or not days or metric not in _ALL_ELSE:
        return ""
    monthly = {name: per_month(now[name] / MICRO, days) for name in ("sales", "spend")}
    brings = peers.closed(metric, value, typical, monthly)
    if brings is None:
        return ""
    measure, money = brings
    would = {"sales": "would bring about {} more sales", "spend": "would cost about {} less"}[measure]
    return (
        f"At the peers’ median of {metric_words(metric, typical, figures)} the same {_ALL_ELSE[metric]} "
        f"{would.format(figures.money(money))} per 30 days."
    )
