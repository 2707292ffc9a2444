"""Which target ACOS an account without one could take, once reports are loaded: the middle peer's, or what its margins leave."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.look import Look
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

_ENOUGH_SOLD: Final = 0.5
"""Of the ad sales so many at least have to be of products whose margin is known."""


class From(StrEnum):
    """Where an offered target comes from."""

    PEERS = "peers"
    MARGINS = "margins"


@dataclass(frozen=True, slots=True)
class OfferedTarget:
    """A target ACOS as a fraction, and where it comes from."""

    value: float
    source: From


def offered(facts: Facts, look: Look) -> list[OfferedTarget]:
    """What the window's figures offer; nothing where neither peers nor margins are loaded."""
    found = []
    peers = standing.account_places(facts, look)["acos"].standing
    if peers.typical is not None and peers.peers is not None and not peers.peers.own:
        found.append(OfferedTarget(peers.typical, From.PEERS))
    margin = _margin_of_what_sold(facts, look)
    if margin is not None:
        found.append(OfferedTarget(margin, From.MARGINS))
    return [each for each in found if 0 < each.value < 1]


def _margin_of_what_sold(facts: Facts, look: Look) -> float | None:
    """The margin before ads as a fraction, weighed by ad sales: the ACOS at which nothing is earned and nothing lost."""
    sold = product_frames.placed_ads(facts, look.account.id, look.window)
    margins = product_frames.catalog(facts, look.account.id).select(pl.col("sku").cast(pl.String), "margin")
    rows = sold.select(pl.col("sku").cast(pl.String), pl.col("sales").cast(pl.Float64)).join(
        margins, on="sku", how="left"
    )
    known = rows.drop_nulls("margin")
    whole, told = float(rows["sales"].sum()), float(known["sales"].sum())
    if not told or told < _ENOUGH_SOLD * whole:
        return None
    return float((known["margin"] * known["sales"]).sum()) / told / 100
