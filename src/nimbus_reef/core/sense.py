"""
Whether a report's sums can be true: against each other, against what is usual for the account, and against what other reports say of the
same days (data.md, "Look-alikes").
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Final

OFF: Final = 3.0
"""By what factor a figure may differ from what it stands against before it is asked about."""
_ENOUGH: Final = {"clicks": 30.0, "orders": 10.0}
"""So many at least on both sides: fewer differ that much by chance."""
_PART_OF: Final = (
    ("clicks", "impressions"), ("orders", "clicks"), ("own_clicks", "own_impressions"), ("own_cart_adds", "own_clicks"),
    ("market_clicks", "market_impressions"), ("market_cart_adds", "market_clicks"), ("own_impressions", "market_impressions"),
    ("own_clicks", "market_clicks"), ("own_cart_adds", "market_cart_adds"), ("own_purchases", "market_purchases"),
)  # fmt: skip
"""A measure, and another of which it can be no more than a part."""
_EACH: Final = (("spend", "clicks"), ("sales", "orders"))
"""Money, and what it is paid for or paid by."""

Sums = Mapping[str, float]
"""Measures of a report added up, money in one unit; a measure that it does not have is left out."""


@dataclass(frozen=True, slots=True)
class Doubt:
    """
    Two figures that cannot well both be right. of: the measure in question; per: the one that it was divided by, or that it can be no more
    than a part of; found: what the file says, known: what that stands against.
    """

    of: str
    found: float
    known: float
    per: str = ""


def among_themselves(found: Sums) -> list[Doubt]:
    """Measures that are more than what they are a part of."""
    return [
        Doubt(part, found[part], found[whole], whole)
        for part, whole in _PART_OF
        if found.get(part, 0) > found.get(whole, 0) and whole in found and found[part] >= _ENOUGH["orders"]
    ]


def against_usual(found: Sums, usual: Sums) -> list[Doubt]:
    """What a click costs and what an order brings, more than `OFF` times what they usually do or less than that part of it."""
    doubts = []
    for money, count in _EACH:
        if min(found.get(count, 0), usual.get(count, 0)) < _ENOUGH[count]:
            continue
        each, known = found.get(money, 0) / found[count], usual.get(money, 0) / usual[count]
        if _apart(each, known):
            doubts.append(Doubt(money, each, known, count))
    return doubts


def against_range(found: Sums, money: str, count: str, least: float, most: float) -> list[Doubt]:
    """What a click costs against bids, what an order brings against prices: more than `OFF` times the highest, or less than that part of the lowest."""
    if found.get(count, 0) < _ENOUGH[count]:
        return []
    each = found.get(money, 0) / found[count]
    nearest = min(max(each, least), most)
    return [Doubt(money, each, nearest, count)] if _apart(each, nearest) else []


def against_others(found: Sums, held: Sums, measures: Iterable[str]) -> list[Doubt]:
    """Measures whose sums differ by more than `OFF` from those that another report gives of the same campaigns and days."""
    if min(found.get("clicks", 0), held.get("clicks", 0)) < _ENOUGH["clicks"]:
        return []
    return [
        Doubt(name, found[name], held[name])
        for name in measures
        if name in found and name in held and _apart(found[name], held[name])
    ]


def _apart(one: float, other: float) -> bool:
    """Whether both are known and one is more than `OFF` times the other."""
    return min(one, other) > 0 and max(one, other) > OFF * min(one, other)
