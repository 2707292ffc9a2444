"""Limits of bids below the account's: of portfolios, products, campaigns and single targets; the nearest wins (N48)."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any, Final

import polars as pl

from nimbus_reef.core.bids import BidLimits
from nimbus_reef.core.targeting import TARGET_KEY, nearest, target_key


class Limit(StrEnum):
    """What is limited: what a bid may be at most and at least, and how far it moves in one step."""

    CEILING = "ceiling"
    FLOOR = "floor"
    STEP_DOWN = "step_down"
    STEP_UP = "step_up"


LEVELS: Final = ("target", "campaign", "portfolio", "product")
"""The nearest first, as for target ACOS."""
_COLUMNS: Final[Mapping[str, tuple[str, ...]]] = {
    "target": (TARGET_KEY,),
    "campaign": ("campaign",),
    "portfolio": ("portfolio",),
    "product": ("sku", "main_product"),
}


@dataclass(frozen=True, slots=True)
class OwnLimit:
    """One limit of something: level, name, what is limited, and to what (money in units, steps as fractions)."""

    level: str
    name: str
    what: Limit
    value: float


def columns(own: Sequence[OwnLimit], usual: BidLimits, rows: Collection[str]) -> list[pl.Expr]:
    """The limits in force on rows that have some columns: limit_ceiling and so on, of those that are set anywhere."""
    return [_in_force(own, usual, what, rows) for what in Limit if any(each.what is what for each in own)]


def _in_force(own: Sequence[OwnLimit], usual: BidLimits, what: Limit, rows: Collection[str]) -> pl.Expr:
    levels = [
        (column, {each.name: each.value for each in own if each.level == level and each.what is what})
        for level in LEVELS
        for column in _COLUMNS[level]
    ]
    return nearest(levels, getattr(usual, what.value), rows).alias(f"limit_{what.value}")


def in_force(own: Sequence[OwnLimit], usual: BidLimits, row: Mapping[str, Any]) -> BidLimits:
    """The limits of a row that has the columns above."""
    if not own:
        return usual
    values = {what.value: row[f"limit_{what.value}"] for what in Limit if f"limit_{what.value}" in row}
    return replace(usual, **values)


def name_of(level: str, row: Mapping[str, Any]) -> str:
    """What a row is called at a level."""
    if level == "target":
        return target_key(row)
    return str(row[level if level != "product" else "sku"])
