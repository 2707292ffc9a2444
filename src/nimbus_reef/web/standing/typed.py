"""Peer figures typed in by hand: a few quantiles, made into a file like any other."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.wording import metric_words
from nimbus_reef.core.metrics import Unit
from nimbus_reef.core.peers import COLUMNS, POINTS, RATED, Floats
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import add_csv
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import product_frames
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.standing.forms import ASKED, PeersForm

METRICS: Final = tuple((key, each.label, "%" if each.unit is Unit.RATE else "¤") for key, each in RATED.items())


def as_file(form: PeersForm, account: Account, feed: pl.DataFrame) -> pl.DataFrame:
    """
    The month's peer figures with the typed ones among them, as the contract has them.

    Asked for are the figures under which 20, 50 and 80 % of peers lie; the rest lie on the
    line through them, in logarithms, since such figures spread by factors.
    """
    metric, month, category = form.metric.data, form.peers_of.data, form.peer_category.data
    scale = 100 if RATED[metric].unit is Unit.RATE else 1
    entries = [mark / scale for mark in form.marks]
    values = np.exp(_line(np.array(POINTS, dtype=float), np.array([20.0, 50.0, 80.0]), np.log(entries)))
    row = {
        "month": month,
        "category": category,
        "country": account.country,
        "format": "all",
        "metric": metric,
        "brands": form.brands.data,
        **{name: float(value) for name, value in zip(COLUMNS, values, strict=True)},
    }
    same = (pl.col("category") == category) & (pl.col("metric") == metric) & (pl.col("format") == "all")
    kept = feed.filter((pl.col("month") == month) & ~same).select(list(row))
    return pl.concat([kept.cast({"brands": pl.Int64}), pl.DataFrame([row])], how="vertical_relaxed")


def _line(at: Floats, points: Floats, values: Floats) -> Floats:
    """Through the points, and on along the outer pieces."""
    inner: Floats = np.interp(at, points, values)
    first, last = (values[1] - values[0]) / 30, (values[2] - values[1]) / 30
    inner = np.where(at < points[0], values[0] + (at - points[0]) * first, inner)
    return np.asarray(np.where(at > points[2], values[2] + (at - points[2]) * last, inner))


def written(folder: Path, file: pl.DataFrame) -> Path:
    """The file, kept where uploads are."""
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{uuid.uuid4().hex}.csv"
    add_csv(path, file)
    return path


def held_lines(feed: pl.DataFrame, figures: Figures) -> list[tuple[str, ...]]:
    """The newest figures of every cell: month, category, format, metric, brands, p20, p50, p80."""
    newest = feed.sort("month").group_by("category", "format", "metric", maintain_order=True).last()
    return [
        (
            row["month"],
            row["category"],
            row["format"],
            RATED[row["metric"]].label,
            figures.count(row["brands"]),
            *(metric_words(row["metric"], row[name], figures) for name in ASKED),
        )
        for row in newest.sort("category", "format", "metric").to_dicts()
        if row["metric"] in RATED
    ]


@dataclass(frozen=True, slots=True)
class PeersView:
    """Peer figures that are held, and what a form to type some in offers."""

    loaded: Sequence[tuple[str, ...]]
    categories: Sequence[str]
    metrics: Sequence[tuple[str, str, str]]
    month: str


def page(ask: Context) -> PeersView:
    """The view."""
    feed = standing.peer_feed(ask.facts, ask.selection)
    categories = product_frames.catalog(ask.facts, ask.account.id)["category"].cast(pl.String)
    return PeersView(
        held_lines(feed, ask.figures),
        categories.drop_nulls().unique().sort().to_list(),
        METRICS,
        f"{ask.scope.window.last:%Y-%m}",
    )


def peers_words(ask: Context) -> str:
    """Whose figures ours are held against."""
    feed = standing.peer_feed(ask.facts, ask.selection)
    if feed.is_empty():
        return "no peer figures"
    newest = feed.filter(pl.col("month") == feed["month"].max())
    low, high = newest.select(low=pl.col("brands").min(), high=pl.col("brands").max()).row(0)
    return f"peers: {low}–{high} brands, {newest['month'][0]}"
