"""The standing strip: peers' quantiles as ticks, our mark, its whisker, and the same in words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

from nimbus_reef.analysis.wording import metric_words, place_words
from nimbus_reef.core.peers import BOTTOM, POINTS, RATED, TOP, Standing, percentiles
from nimbus_reef.formats.figures import Figures

_LEFT: Final = 2.0


@dataclass(frozen=True, slots=True)
class Tick:
    """One quantile of the peers: where it is drawn (0 … 100), its words for hovering."""

    x: float
    words: str
    middle: bool


@dataclass(frozen=True, slots=True)
class Strip:
    """
    A strip ready to draw, 100 wide. x: our mark, hollow where there is no verdict, None where nothing can be placed;
    tone: loss in the bottom quarter, gain in the top one; hollow: the feed's figures are too thin or borrowed.
    words: the percentile and the typical peer; note: what is missing, or what stands in.
    """

    x: float | None
    low: float
    high: float
    ticks: tuple[Tick, ...]
    tone: str
    hollow: bool
    words: str
    note: str
    short: str


def metric_name(metric: str) -> str:
    """What a metric is called at the beginning of a sentence."""
    name = RATED[metric].label
    return name[0].upper() + name[1:]


def strip(standing: Standing, figures: Figures) -> Strip:
    """A standing as a strip. Ticks stand at their own percent, so every strip has one scale."""
    ticks: tuple[Tick, ...] = ()
    lower = standing.metric in ("cpc", "acos")
    if standing.peers is not None:
        ticks = tuple(
            Tick(
                float(100 - point if lower else point),
                f"{point} % of peers are at or under {metric_words(standing.metric, value, figures)}",
                point == 50,
            )
            for point, value in zip(POINTS, standing.peers.quantiles, strict=True)
        )
    at = standing.percentile
    if at is None:
        seen = _seen(standing)
        return Strip(
            seen,
            seen or 0,
            seen or 0,
            ticks,
            "",
            True,
            _missing(standing, figures),
            "",
            "thin" if ticks else "no peers",
        )
    ahead = place_words(at, figures)
    typical = f"; median {metric_words(standing.metric, standing.typical, figures)}"
    low, high = standing.low or at, standing.high or at
    return Strip(at, low, high, ticks, tone_of(at), False, ahead + typical, _note(standing), figures.count(at))


def _seen(standing: Standing) -> float | None:
    """Where a figure that is too thin for a verdict would stand: a hollow mark, None without peers."""
    if standing.value is None or standing.peers is None:
        return None
    better = RATED[standing.metric].better
    return float(percentiles(np.array([standing.value]), standing.peers.quantiles, better)[0])


def tone_of(percentile: float | None) -> str:
    """Coral only in the bottom quarter, lagoon only in the top one."""
    if percentile is None:
        return ""
    return "loss" if percentile < BOTTOM else "gain" if percentile >= TOP else ""


def _missing(standing: Standing, figures: Figures) -> str:
    if standing.thin is not None:
        measure, value, needed = standing.thin
        name = measure.replace("_", " ")
        return f"not enough data: {figures.count(value)} of {figures.count(needed)} {name}"
    return "no peer figures"


def _note(standing: Standing) -> str:
    peers = standing.peers
    if peers is None:
        return ""
    if peers.own:
        return f"no peer figures: compared with the account's own {peers.brands} products of the category"
    if peers.borrowed:
        return "; ".join(f"peer figures of {used} used for {month}" for month, used in peers.borrowed)
    return f"{standing.quarter} of {peers.brands} brands or more"
