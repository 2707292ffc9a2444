"""Limits and goals of bids below the account's: of portfolios, products, campaigns, targets; the nearest wins (N48)."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from enum import StrEnum
from typing import Any, Final

import polars as pl

from nimbus_reef.core.bids import BidLimits, Goal
from nimbus_reef.core.targeting import TARGET_KEY, nearest, target_key


class Limit(StrEnum):
    """What is limited: what a bid may be at most and at least, how far it moves in one step, what bids are to bring."""

    CEILING = "ceiling"
    FLOOR = "floor"
    STEP_DOWN = "step_down"
    STEP_UP = "step_up"
    GOAL = "goal"


OF_BIDS: Final = (Limit.CEILING, Limit.FLOOR, Limit.STEP_DOWN, Limit.STEP_UP)
GOALS: Final = (Goal.SALES, Goal.PROFIT, Goal.LEAVE)
"""A goal is kept as its place among these, counted from 1."""
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
    """
    One limit of something: level, name, what, and to what (money in units, steps as fractions, goals by place); until:
    the day from which it holds no more.
    """

    level: str
    name: str
    what: Limit
    value: float
    until: date | None = None


def columns(own: Sequence[OwnLimit], usual: BidLimits, rows: Collection[str]) -> list[pl.Expr]:
    """The limits in force on rows that have some columns: limit_ceiling and so on, of those that are set anywhere."""
    return [
        _in_force(own, getattr(usual, what.value), what, rows)
        for what in OF_BIDS
        if any(each.what is what for each in own)
    ]


def place_of(goal: Goal | None) -> float | None:
    """What a goal is kept as; None where none is."""
    return None if goal is None else float(GOALS.index(goal) + 1)


def goal_at(place: float) -> Goal:
    """The goal that is kept as a place."""
    return GOALS[int(place) - 1]


def goal(own: Sequence[OwnLimit], usual: Goal, rows: Collection[str], on: date) -> pl.Expr:
    """goal: what the bids of each row are to bring on a day."""
    own = [each for each in own if each.until is None or on < each.until]
    names = {float(place): each.value for place, each in enumerate(GOALS, start=1)}
    place = _in_force(own, place_of(usual), Limit.GOAL, rows)
    return place.replace_strict(names, return_dtype=pl.String).alias("goal")


def _in_force(own: Sequence[OwnLimit], usual: float | None, what: Limit, rows: Collection[str]) -> pl.Expr:
    levels = [
        (column, {each.name: each.value for each in own if each.level == level and each.what is what})
        for level in LEVELS
        for column in _COLUMNS[level]
    ]
    return nearest(levels, usual, rows).alias(f"limit_{what.value}")


def in_force(own: Sequence[OwnLimit], usual: BidLimits, row: Mapping[str, Any]) -> BidLimits:
    """The limits of a row that has the columns above."""
    if not own:
        return usual
    values = {what.value: row[f"limit_{what.value}"] for what in OF_BIDS if f"limit_{what.value}" in row}
    return replace(usual, **values)


def name_of(level: str, row: Mapping[str, Any]) -> str:
    """What a row is called at a level."""
    if level == "target":
        return target_key(row)
    return str(row[level if level != "product" else "sku"])
