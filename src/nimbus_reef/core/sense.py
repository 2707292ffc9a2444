"""
Plausibility of a report's totals: against each other, against the account's usual ratios, and against other reports of
the same days (data.md, "Look-alikes").
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Final

OFF: Final = 3.0
"""Largest plausible ratio of two figures that should agree."""
_ENOUGH: Final = {"clicks": 30.0, "orders": 10.0}
"""Fewest clicks or orders on both sides; smaller samples differ that much by chance."""
_PART_OF: Final = (
    ("clicks", "impressions"),
    ("orders", "clicks"),
    ("own_clicks", "own_impressions"),
    ("own_cart_adds", "own_clicks"),
    ("market_clicks", "market_impressions"),
    ("market_cart_adds", "market_clicks"),
    ("own_impressions", "market_impressions"),
    ("own_clicks", "market_clicks"),
    ("own_cart_adds", "market_cart_adds"),
    ("own_purchases", "market_purchases"),
)
"""A measure and the measure that is its upper bound."""
_RATIOS: Final = (("spend", "clicks"), ("sales", "orders"))
"""Numerator and denominator of click price and order value."""

Sums = Mapping[str, float]
"""Totals by measure, money in one unit; measures that a report does not have are absent."""


@dataclass(frozen=True, slots=True)
class Doubt:
    """
    An implausible pair of figures. of: the measure; per: its denominator or upper bound, if any; found: the figure in
    the file; known: the figure it contradicts.
    """

    of: str
    found: float
    known: float
    per: str = ""


def among_themselves(found: Sums) -> list[Doubt]:
    """Measures that exceed their upper bound, such as more clicks than impressions."""
    return [
        Doubt(part, found[part], found[whole], whole)
        for part, whole in _PART_OF
        if found.get(part, 0) > found.get(whole, 0) and whole in found and found[part] >= _ENOUGH["orders"]
    ]


def against_usual(found: Sums, usual: Sums) -> list[Doubt]:
    """Click price and order value that differ from the usual ones by more than a factor of `OFF`."""
    doubts = []
    for money, count in _RATIOS:
        if min(found.get(count, 0), usual.get(count, 0)) < _ENOUGH[count]:
            continue
        ratio, known = found.get(money, 0) / found[count], usual.get(money, 0) / usual[count]
        if _far_apart(ratio, known):
            doubts.append(Doubt(money, ratio, known, count))
    return doubts


def against_range(found: Sums, money: str, count: str, least: float, most: float) -> list[Doubt]:
    """A ratio above `OFF` times `most` or below `least` divided by `OFF`; `known` is the nearer bound."""
    if found.get(count, 0) < _ENOUGH[count]:
        return []
    ratio = found.get(money, 0) / found[count]
    nearest = min(max(ratio, least), most)
    return [Doubt(money, ratio, nearest, count)] if _far_apart(ratio, nearest) else []


def against_others(found: Sums, other: Sums, measures: Iterable[str]) -> list[Doubt]:
    """Measures whose totals in two reports of the same campaigns and days differ by more than a factor of `OFF`."""
    if min(found.get("clicks", 0), other.get("clicks", 0)) < _ENOUGH["clicks"]:
        return []
    return [
        Doubt(name, found[name], other[name])
        for name in measures
        if name in found and name in other and _far_apart(found[name], other[name])
    ]


def _far_apart(one: float, other: float) -> bool:
    """True when both are above 0 and their ratio exceeds `OFF`."""
    return min(one, other) > 0 and max(one, other) > OFF * min(one, other)
