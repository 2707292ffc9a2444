"""What happens to some products in the newest weeks, and what somebody did that made it happen."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.sim.world import World

_MATURES: Final = 3
_NEWEST_DAYS: Final = 30
_BREAKS_AFTER: Final = 8
_BOUGHT_BIDS: Final = 2.2
_LEAK_BIDS: Final = 1.3
_LEAK_CVR: Final = 0.45
_GAIN_CVR: Final = 1.75
_BROKEN_CVR: Final = 0.22


@dataclass(frozen=True, slots=True)
class PageChange:
    """What a product's page shows from a day on."""

    product_no: int
    day: int
    images: int
    bullets: int


@dataclass(frozen=True, slots=True)
class Stories:
    """
    Who they happen to, as SKUs. turn: the day on which the newest weeks begin; broke: the day
    on which a page broke. lost: whose page lost its texts and pictures on the last day; pages: changes of product
    pages.
    """

    turn: int
    broke: int
    collapsed: tuple[str, ...]
    bought: tuple[str, ...]
    gained: tuple[str, ...]
    leaked: tuple[str, ...]
    lost: tuple[str, ...]
    pages: tuple[PageChange, ...]


def turn_of(days: int) -> int:
    """The day from which things differ: a month before the newest mature day, or half of all days."""
    return max(days - _MATURES - _NEWEST_DAYS, (days - _MATURES) // 2)


def tell(world: World) -> tuple[World, Stories]:
    """
    The world with its stories in it: conversion by product and day, bids by target and day.

    The families with most ad products play the parts, the family of the product that drags
    its siblings left out: four families, one part each.
    """
    turn = turn_of(world.days)
    broke = min(turn + _BREAKS_AFTER, world.days - 1)
    worth = pl.col("price") * pl.col("cvr")
    families = (
        world.products.group_by("family", maintain_order=True)
        .agg(pl.len().alias("size"), pl.col("drags").any(), worth.sum().alias("worth"))
        .filter(~pl.col("drags"))
        .sort(["size", "worth"], descending=True, maintain_order=True)["family"]
        .to_list()
    )
    collapsed, bought, gained, leaked = families[:4]
    mood, bids = world.mood.copy(), world.bids.copy()
    first = _members(world, collapsed)[:1]
    mood[first, broke:] *= _BROKEN_CVR
    mood[_members(world, gained), turn:] *= _GAIN_CVR
    mood[_members(world, leaked), turn:] *= _LEAK_CVR
    for family, factor in ((bought, _BOUGHT_BIDS), (leaked, _LEAK_BIDS)):
        mine = _targets(world, family)
        bids[mine, turn:] = np.round(bids[mine, turn:] * factor, 2)
    pages = [PageChange(first[0], broke, images=1, bullets=0)]
    pages += [PageChange(number, turn, images=9, bullets=6) for number in _members(world, gained)]
    last = [number for family in families[4:5] for number in _members(world, family)[:1]]
    pages += [PageChange(number, world.days - 1, images=1, bullets=0) for number in last]
    stories = Stories(
        turn=turn,
        broke=broke,
        collapsed=_skus(world, first),
        bought=_skus(world, _members(world, bought)),
        gained=_skus(world, _members(world, gained)),
        leaked=_skus(world, _members(world, leaked)),
        lost=_skus(world, last),
        pages=tuple(pages),
    )
    return replace(world, mood=mood, bids=bids), stories


def _members(world: World, family: str) -> list[int]:
    return world.products.filter(pl.col("family") == family)["product_no"].to_list()


def _skus(world: World, numbers: list[int]) -> tuple[str, ...]:
    return tuple(world.products["sku"][number] for number in numbers)


def _targets(world: World, family: str) -> list[int]:
    campaigns = world.campaigns.filter(pl.col("family") == family)["campaign_no"]
    return world.targets.filter(pl.col("campaign_no").is_in(campaigns.implode()))["target_no"].to_list()
