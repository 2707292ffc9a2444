"""The course of ranks as a picture: days to the right, rank 1 at the top, on a log scale."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import log
from typing import Final

from nimbus_reef.analysis.reach.two_phrases import RankedItem
from nimbus_reef.formats.figures import Figures

WIDE: Final = 312.0
TALL: Final = 118.0
_LEFT, _RIGHT, _TOP, _FOOT = 24.0, 8.0, 8.0, 18.0
_TICKS: Final = (1, 3, 10, 40, 120)


@dataclass(frozen=True, slots=True)
class CourseLine:
    """An item's ranks. path: by rank, dots: of its ads; said: what it did, in words."""

    name: str
    own: bool
    path: str
    dots: tuple[tuple[float, float], ...]
    said: str


@dataclass(frozen=True, slots=True)
class RankCourse:
    """The picture. ticks: y and rank; first, last: the days at its ends."""

    lines: tuple[CourseLine, ...]
    ticks: tuple[tuple[float, int], ...]
    first: str
    last: str
    wide: float = WIDE
    tall: float = TALL


def drawn(items: Sequence[RankedItem], figures: Figures) -> RankCourse | None:
    """The picture of some items; None where there are no ranks."""
    days = sorted({day for item in items for day, _, _ in item.days})
    ranks = [rank for item in items for _, organic, sponsored in item.days for rank in (organic, sponsored) if rank]
    if not days or not ranks:
        return None
    worst = next((tick for tick in _TICKS[1:] if tick >= max(ranks)), max(ranks))
    span = max(1, (days[-1] - days[0]).days)

    def x(day: object) -> float:
        gone = (day - days[0]).days  # type: ignore[operator]
        return round(_LEFT + (WIDE - _LEFT - _RIGHT) * (gone / span if len(days) > 1 else 0.5), 1)

    def y(rank: float) -> float:
        return round(_TOP + (TALL - _TOP - _FOOT) * log(max(1.0, rank)) / log(worst), 1)

    lines = []
    for item in items:
        told = [(x(day), y(organic)) for day, organic, _ in item.days if organic]
        path = "M" + " L".join(f"{left} {top}" for left, top in told) if told else ""
        dots = tuple((x(day), y(sponsored)) for day, _, sponsored in item.days if sponsored)
        lines.append(CourseLine(item.name, item.own, path, dots, _said(item, figures)))
    ticks = tuple((y(tick), tick) for tick in _TICKS if tick <= worst)
    return RankCourse(tuple(lines), ticks, figures.day(days[0]), figures.day(days[-1]))


def _said(item: RankedItem, figures: Figures) -> str:
    ranks = [organic for _, organic, _ in item.days if organic]
    age = f", {figures.counted(item.age, 'day')} old" if item.age is not None else ""
    if not ranks:
        return f"no rank{age}"
    moved = (
        figures.count(ranks[0]) if ranks[0] == ranks[-1] else f"{figures.count(ranks[0])} → {figures.count(ranks[-1])}"
    )
    return f"rank {moved}{age}"
