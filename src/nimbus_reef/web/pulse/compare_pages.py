"""Brands side by side: every metric of each in its own currency, its change and where it stands among peers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.totals import summed, totals
from nimbus_reef.analysis.wording import level, place_words
from nimbus_reef.core import glossary
from nimbus_reef.core.metrics import METRICS, Better, Metric, Unit, difference, sums_in_units
from nimbus_reef.core.windows import month_factor
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading.facts import Facts

MOST: Final = 6
"""Brands beside each other on a screen."""


@dataclass(frozen=True, slots=True)
class ComparedBrand:
    """A brand's figures: value and former value of each metric (sums per 30 days), and its place among peers."""

    account: Account
    now: Mapping[str, float | None]
    then: Mapping[str, float | None]
    places: Mapping[str, float]


@dataclass(frozen=True, slots=True)
class CompareCell:
    """A metric of a brand. good: whether its change is one for the better; None where it is neither."""

    text: str
    change: str
    good: bool | None
    place: str


@dataclass(frozen=True, slots=True)
class CompareLine:
    """A metric of all brands."""

    key: str
    name: str
    definition: str
    cells: tuple[CompareCell, ...]


def told(facts: Facts, account: Account, selection: Selection | None) -> ComparedBrand:
    """The figures of a brand; none where nothing is loaded. Its place is told where it is worked out already."""
    found = totals(facts, selection) if selection is not None else None
    if found is None or selection is None or not found.held_now:
        return ComparedBrand(account, {}, {}, {})
    places = {}
    if standing.has_standing_data(facts, selection):
        known = standing.account_places(facts, selection)
        places = {key: each.standing.percentile for key, each in known.items() if each.standing.percentile is not None}
    now = _values(summed(found.now), found.held_now)
    then = _values(summed(found.then), found.held_then) if found.then is not None and found.held_then else {}
    return ComparedBrand(account, now, then, places)


def _values(sums: Mapping[str, int], days: int) -> dict[str, float | None]:
    units = sums_in_units(sums)
    return {
        key: metric.value(units) if metric.is_ratio else units[key] * month_factor(days)
        for key, metric in METRICS.items()
    }


def lines(brands: Sequence[ComparedBrand]) -> list[CompareLine]:
    """A line a metric."""
    return [
        CompareLine(key, metric.label, glossary.definition(metric.label), tuple(_cell(each, metric) for each in brands))
        for key, metric in METRICS.items()
    ]


def _cell(brand: ComparedBrand, metric: Metric) -> CompareCell:
    figures = Figures(brand.account.locale, brand.account.currency)
    now, then = brand.now.get(metric.key), brand.then.get(metric.key)
    moved = difference(now, then).relative
    place = brand.places.get(metric.key)
    good = None
    if moved and metric.better is not Better.NEITHER and abs(moved) >= 0.005:
        good = (moved > 0) == (metric.better is Better.HIGHER)
    return CompareCell(
        level(metric, now, figures),
        _change(metric, now, then, figures),
        good,
        place_words(place, figures) if place is not None else "",
    )


def _change(metric: Metric, now: float | None, then: float | None, figures: Figures) -> str:
    """Of rates in points, of the rest relative."""
    if now is None or then is None:
        return ""
    if metric.unit is Unit.RATE:
        return f"{figures.signed((now - then) * 100, 2 if metric.key == 'ctr' else 1)} pt"
    moved = difference(now, then).relative
    return figures.relative(moved, 0) if moved is not None else ""


def file(brands: Sequence[ComparedBrand]) -> Table:
    """The same as a file: a row a brand and metric."""
    rows = [
        (each.account.key, each.account.currency, key, each.now.get(key), each.then.get(key), each.places.get(key))
        for each in brands
        for key in METRICS
    ]
    schema = ["brand", "currency", "metric", "now", "then", "ahead_of_peers"]
    kinds = {name: pl.String if name in schema[:3] else pl.Float64 for name in schema}
    return Table("brands", pl.DataFrame(rows, schema=kinds, orient="row"), {})


@dataclass(frozen=True, slots=True)
class CompareView:
    """Brands side by side. chosen: their keys."""

    brands: Sequence[ComparedBrand]
    lines: Sequence[CompareLine]
    chosen: frozenset[str]
    every: Sequence[Account]


def page(brands: Sequence[ComparedBrand], every: Sequence[Account]) -> CompareView:
    """The view of some brands among all that one sees."""
    return CompareView(brands, lines(brands), frozenset(each.account.key for each in brands), every)
