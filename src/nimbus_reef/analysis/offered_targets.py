"""Suggested target ACOS for an account without one: the peers' median, and break-even by margin."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.peers import POINTS
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

_ENOUGH_SOLD: Final = 0.5
"""Least share of ad sales from products with a known margin."""


class From(StrEnum):
    """Source of a suggested target."""

    PEERS = "peers"
    MARGINS = "margins"


@dataclass(frozen=True, slots=True)
class OfferedTarget:
    """A suggested target ACOS as a fraction, and its source; between: of peers, the middle half of them."""

    value: float
    source: From
    between: tuple[float, float] | None = None


def offered(facts: Facts, selection: Selection) -> list[OfferedTarget]:
    """Suggestions from the figures of the window, peers first; empty when neither peers nor margins are loaded."""
    found = []
    peers = standing.account_places(facts, selection)["acos"].standing
    if peers.typical is not None and peers.peers is not None and not peers.peers.own:
        low, high = (float(each) for each in np.interp((25, 75), POINTS, peers.peers.quantiles))
        found.append(OfferedTarget(peers.typical, From.PEERS, (low, high)))
    margin = _margin_of_what_sold(facts, selection)
    if margin is not None:
        found.append(OfferedTarget(margin, From.MARGINS))
    return [each for each in found if 0 < each.value < 1]


def verdicts_changed(facts: Facts, selection: Selection, tried: float) -> tuple[int, int]:
    """How many targets have another verdict by a target ACOS of the account that is tried, and of how many."""
    now = judged_targets(facts, selection).select("target_id", "verdict")
    then = judged_targets(facts, replace(selection, aims=replace(selection.aims, account=tried)))
    both = now.join(then.select("target_id", then="verdict"), on="target_id")
    return int((both["verdict"] != both["then"]).sum()), len(both)


def _margin_of_what_sold(facts: Facts, selection: Selection) -> float | None:
    """
    Mean margin before ads, weighted by ad sales, as a fraction: the break-even ACOS. None when too few margins are
    known.
    """
    sold = product_frames.placed_ads(facts, selection.account.id, selection.window)
    margins = product_frames.catalog(facts, selection.account.id).select(pl.col("sku").cast(pl.String), "margin")
    rows = sold.select(pl.col("sku").cast(pl.String), pl.col("sales").cast(pl.Float64)).join(
        margins, on="sku", how="left"
    )
    known = rows.drop_nulls("margin")
    whole, value = float(rows["sales"].sum()), float(known["sales"].sum())
    if not value or value < _ENOUGH_SOLD * whole:
        return None
    return float((known["margin"] * known["sales"]).sum()) / value / 100
