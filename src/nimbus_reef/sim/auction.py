"""
A second way in which clicks answer bids: eight places, seven rivals for each target, and the price is the next bid.

Beside the power law of `sim.trade`: there 1 % more bid always brings 0.6 % more clicks and costs 1 % more each.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import polars as pl

_RIVALS: Final = 7
_DRAWS: Final = 48
_SHOWN: Final = 0.65 ** np.arange(_RIVALS + 1)
"""How often each place is clicked, beside the first."""
_MARKET_SPREAD: Final = 0.35
_RIVAL_SPREAD: Final = 0.75
_RESERVE: Final = 0.02


@dataclass(frozen=True, slots=True)
class Auction:
    """rivals: target × draw × rival, the highest first."""

    rivals: np.ndarray

    def answer(self, bids: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """How often each target is clicked at a bid, beside the first place, and what a click costs on average."""
        place = (self.rivals > bids[:, None, None]).sum(axis=2)
        below = np.concatenate([self.rivals, np.full((*self.rivals.shape[:2], 1), _RESERVE)], axis=2)
        price = np.take_along_axis(below, place[:, :, None], axis=2)[:, :, 0]
        shown = _SHOWN[place]
        return shown.mean(axis=1), (shown * price).sum(axis=1) / shown.sum(axis=1)


def auction(targets: pl.DataFrame, seed: int) -> Auction:
    """Rivals around each target's market price, which is near its first bid."""
    rng = np.random.default_rng([seed, 11])
    bid = targets["bid"].to_numpy()
    market = bid * rng.lognormal(0, _MARKET_SPREAD, len(bid))
    rivals = market[:, None, None] * rng.lognormal(0, _RIVAL_SPREAD, (len(bid), _DRAWS, _RIVALS))
    return Auction(-np.sort(-rivals, axis=2))
