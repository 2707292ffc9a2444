"""How much of the searches is ours: the top of search by target, impressions and rank by search term."""

from __future__ import annotations

from typing import Final

import numpy as np

from nimbus_reef.sim.world import World

SEARCHED: Final = ("exact", "phrase", "broad")
"""Targets of other kinds have no place at the top of a search."""
_ANSWER: Final = 0.6
"""The share follows the bid as impressions do."""
_MOST: Final = 0.95
_STRONG: Final = (1.4, 3.2)
_DAILY: Final = 0.1
_OTHERS: Final = 9


def at_the_top(world: World, target: np.ndarray, day: np.ndarray, seed: int) -> np.ndarray:
    """The share of the top of search that each target has on each day, 0 … 1: it follows its bid."""
    rng = np.random.default_rng([seed, 31, *world.spec.key.encode()])
    first = rng.beta(*_STRONG, len(world.targets))
    raised = (world.bids / world.targets["bid"].to_numpy()[:, None]) ** _ANSWER
    share = first[:, None] * raised * rng.lognormal(0, _DAILY, raised.shape)
    return np.asarray(np.round(np.minimum(_MOST, share[target, day]), 4))


def of_searches(world: World, query: np.ndarray, day: np.ndarray, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """
    The part of a search's impressions that we have on each day, 0 … 1, and our rank by it among all advertisers: the
    same for every target that brings it.
    """
    rng = np.random.default_rng([seed, 37, *world.spec.key.encode()])
    usual = rng.beta(1.2, 4.0, len(world.queries))
    daily = rng.lognormal(0, _DAILY, (len(world.queries), world.days))
    share = np.minimum(_MOST, usual[query] * daily[query, day])
    # Who has a share s is behind those of the others that have more of the rest.
    crowd = rng.uniform(0.5, 1.0, len(world.queries))
    rank = 1 + np.floor(_OTHERS * crowd[query] * (1 - share) ** 4)
    return np.round(share, 4), rank
