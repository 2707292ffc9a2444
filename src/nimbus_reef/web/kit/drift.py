"""
The drift chart: spend against sales on log axes, an arrow from then to now per row.

Drawn on the server, so that an arrow is a link: it can be hovered, tabbed to and opened.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np
from numpy.typing import NDArray

WIDTH: Final = 640
HEIGHT: Final = 478
_LEFT, _RIGHT, _TOP, _BOTTOM = 50.0, 626.0, 16.0, 440.0
_STEPS: Final = (1, 2, 5)
_ACOS_LINES: Final = (0.05, 0.1, 0.2, 0.4, 0.8, 1.6)
_LINE: Final = 13.0
_DISTANCES: Final = (9.0, 20.0, 34.0, 50.0)
_ANGLES: Final = (0.0, 180.0, -90.0, 90.0, -35.0, 35.0, -145.0, 145.0)
_NEAR: Final = 18.0
_AROUND: Final = np.array(
    [
        (
            distance * math.cos(math.radians(angle)),
            distance * math.sin(math.radians(angle)),
            0.0 if abs(angle) < 90 else 1.0 if abs(angle) > 90 else 0.5,
            distance,
        )
        for distance in _DISTANCES
        for angle in _ANGLES
    ]
)
"""
Places for a label around a head, the best first: to the right and down in px, the share of its width left of it, how
far.
"""

Box = tuple[float, float, float, float]
"""Left, top, right, bottom."""
Boxes = NDArray[np.float64]
"""Boxes in rows of an array."""


@dataclass(frozen=True, slots=True)
class Mover:
    """One row to draw: money per 30 days in units; weight: its spend, for the width."""

    key: str
    name: str
    spend0: float
    sales0: float
    spend1: float
    sales1: float
    tone: str
    thin: bool
    words: str


@dataclass(frozen=True, slots=True)
class Arrow:
    """An arrow on the chart: its shaft, its head as a path, its label and the leader to it."""

    key: str
    name: str
    words: str
    tone: str
    thin: bool
    x0: float
    y0: float
    x1: float
    y1: float
    width: float
    head: str
    label: tuple[float, float] | None
    leader: tuple[float, float, float, float] | None


@dataclass(frozen=True, slots=True)
class AcosLine:
    """
    A line of equal cost of sale; name stands at the frame's edge, empty for the faint ones;
    upper: it ends there, and begins there otherwise.
    """

    x0: float
    y0: float
    x1: float
    y1: float
    kind: str
    name: str
    name_x: float
    name_y: float
    upper: bool


@dataclass(frozen=True, slots=True)
class Drift:
    """The whole chart. ticks: position and words of each axis."""

    arrows: tuple[Arrow, ...]
    lines: tuple[AcosLine, ...]
    x_ticks: tuple[tuple[float, str], ...]
    y_ticks: tuple[tuple[float, str], ...]
    frame: tuple[float, float, float, float] = (_LEFT, _TOP, _RIGHT, _BOTTOM)


@dataclass(frozen=True, slots=True)
class _Axis:
    """A log axis from low to high between two pixels."""

    low: float
    high: float
    start: float
    end: float

    def at(self, value: float) -> float:
        """Where a value stands; what is below the axis stands at its start."""
        share = (math.log(max(value, self.low)) - math.log(self.low)) / (math.log(self.high) - math.log(self.low))
        return self.start + share * (self.end - self.start)


def _axis(values: Iterable[float], start: float, end: float) -> _Axis:
    known = [value for value in values if value > 0] or [1.0]
    low, high = min(known) / 1.5, max(known) * 1.5
    # At least a decade, or a small move would look like a large one.
    if high / low < 10:
        middle = math.sqrt(high * low)
        low, high = middle / math.sqrt(10), middle * math.sqrt(10)
    return _Axis(low, high, start, end)


def _ticks(axis: _Axis) -> tuple[tuple[float, str], ...]:
    first, last = math.floor(math.log10(axis.low)), math.ceil(math.log10(axis.high))
    found = []
    for decade in range(first, last + 1):
        for step in _STEPS:
            value = step * 10.0**decade
            if axis.low <= value <= axis.high:
                found.append((axis.at(value), f"{value:,.0f}" if value >= 1 else f"{value:g}"))
    return tuple(found)


def drift(movers: Sequence[Mover], target: float, break_even: float | None, percent: str = "{:.0f} %") -> Drift:
    """Lays the chart out; labels cover neither each other nor a bold line, one without room is left to the list."""
    x = _axis((value for each in movers for value in (each.spend0, each.spend1)), _LEFT, _RIGHT)
    y = _axis((value for each in movers for value in (each.sales0, each.sales1)), _BOTTOM, _TOP)
    heaviest = max((each.spend1 for each in movers), default=0) or 1
    shafts = [(x.at(each.spend0), y.at(each.sales0), x.at(each.spend1), y.at(each.sales1)) for each in movers]
    boxes = [_box(shaft[2] - 6, shaft[3] - 6, 12, 12) for shaft in shafts]
    boxes += [_box(px - 2, py - 2, 4, 4) for shaft in shafts for px, py in _along(shaft)]
    lines = _lines(x, y, target, break_even, percent)
    named = [line for line in lines if line.name]
    boxes += [name_box(line) for line in named]
    boxes += [_box(px - 2, py - 2, 4, 4) for line in named for px, py in _along((line.x0, line.y0, line.x1, line.y1))]
    taken = np.array(boxes).reshape(-1, 4)
    arrows = []
    for each, shaft in sorted(zip(movers, shafts, strict=True), key=lambda pair: -pair[0].spend1):
        label, leader = None, None
        if found := _label(each.name, shaft[2], shaft[3], taken):
            place, leader = found
            taken = np.vstack([taken, place])
            label = (_tenth(place[0]), _tenth((place[1] + place[3]) / 2 + 4))
        width = _tenth(1.2 + 3.6 * math.sqrt(max(each.spend1, 0) / heaviest))
        x0, y0, x1, y1 = (_tenth(end) for end in shaft)
        arrows.append(
            Arrow(
                each.key,
                each.name,
                each.words,
                each.tone,
                each.thin,
                x0,
                y0,
                x1,
                y1,
                width,
                _head(shaft, width),
                label,
                leader,
            )
        )
    return Drift(tuple(arrows), lines, _ticks(x), _ticks(y))


def _tenth(pixels: float) -> float:
    """Finer is not seen, and only makes the page longer."""
    return round(pixels, 1)


def _head(shaft: tuple[float, float, float, float], width: float) -> str:
    """A triangle at the shaft's end, along it; a row that did not move gets a small square."""
    x0, y0, x1, y1 = shaft
    length = math.hypot(x1 - x0, y1 - y0)
    size = 5.5 + width
    if length < 3:
        half = size / 2.4
        return f"M{x1 - half:.1f} {y1 - half:.1f} h{2 * half:.1f} v{2 * half:.1f} h{-2 * half:.1f} Z"
    ux, uy = (x1 - x0) / length, (y1 - y0) / length
    bx, by = x1 - ux * size, y1 - uy * size
    half = size * 0.55
    return f"M{x1:.1f} {y1:.1f} L{bx - uy * half:.1f} {by + ux * half:.1f} L{bx + uy * half:.1f} {by - ux * half:.1f} Z"


def _box(x: float, y: float, width: float, height: float) -> Box:
    return x, y, x + width, y + height


def _along(shaft: tuple[float, float, float, float]) -> list[tuple[float, float]]:
    x0, y0, x1, y1 = shaft
    steps = max(2, int(math.hypot(x1 - x0, y1 - y0) // 8))
    return [(x0 + (x1 - x0) * n / steps, y0 + (y1 - y0) * n / steps) for n in range(steps + 1)]


def _label(name: str, x: float, y: float, taken: Boxes) -> tuple[Box, tuple[float, float, float, float] | None] | None:
    """The nearest free place around a head, and the leader to it from further off; none where there is no room."""
    width = width_of(name)
    cx, cy = x + _AROUND[:, 0], y + _AROUND[:, 1]
    left = cx - width * _AROUND[:, 2]
    places = np.stack([left, cy - _LINE / 2, left + width, cy + _LINE / 2], axis=1)
    inside = (places[:, 0] > _LEFT + 2) & (places[:, 2] < _RIGHT - 2) & (places[:, 1] > _TOP) & (places[:, 3] < _BOTTOM)
    around = np.concatenate([places[:, :2].min(axis=0), places[:, 2:].max(axis=0)])
    near = taken[_meet(around, taken)]
    free = np.flatnonzero(inside & ~_meet(places[:, None], near[None]).any(axis=1))
    if not len(free):
        return None
    left_edge, top, right_edge, bottom = (float(edge) for edge in places[free[0]])
    place = (left_edge, top, right_edge, bottom)
    far = _AROUND[free[0], 3] > _NEAR
    end = min(max(x, left_edge), right_edge), (top + bottom) / 2
    return place, (_tenth(x), _tenth(y), _tenth(end[0]), _tenth(end[1])) if far else None


def width_of(text: str) -> float:
    """About how wide a text is at 11.5 px."""
    return sum(7.4 if char.isupper() else 3.6 if char in " -·.,il" else 6.4 for char in text)


def _meet(one: Boxes, other: Boxes) -> NDArray[np.bool_]:
    """Which boxes overlap, edges in the last axis; others as numpy fits them together."""
    return (
        (one[..., 0] < other[..., 2])
        & (other[..., 0] < one[..., 2])
        & (one[..., 1] < other[..., 3])
        & (other[..., 1] < one[..., 3])
    )


def _lines(x: _Axis, y: _Axis, target: float, break_even: float | None, percent: str) -> tuple[AcosLine, ...]:
    """Faint lines, then those that are named: the upper one at its upper end, the other at its lower."""
    named = [(target, "target", f"target {percent.format(target * 100)}")]
    if break_even:
        named.append((break_even, "even", f"break-even {percent.format(break_even * 100)}"))
    named.sort()
    faint = [(acos, "faint", "") for acos in _ACOS_LINES if all(abs(acos / other - 1) > 0.2 for other, _, _ in named)]
    found = [
        _line(x, y, acos, kind, name, upper=(acos, kind, name) == named[0]) for acos, kind, name in (*faint, *named)
    ]
    return tuple(line for line in found if line)


def name_box(line: AcosLine) -> Box:
    """Where a line’s name stands."""
    width = width_of(line.name)
    left = line.name_x - (width if line.upper else 0)
    return _box(left, line.name_y - _LINE + 2, width, _LINE)


def _line(x: _Axis, y: _Axis, acos: float, kind: str, name: str, *, upper: bool) -> AcosLine | None:
    """
    Sales = spend / acos, cut to the frame. Lines run upwards: above its upper end and below its
    lower end a name crosses neither its own line nor the other one.
    """
    low, high = max(x.low, y.low * acos), min(x.high, y.high * acos)
    if low >= high:
        return None
    x0, y0, x1, y1 = (_tenth(end) for end in (x.at(low), y.at(low / acos), x.at(high), y.at(high / acos)))
    if x1 - x0 < 1 or y0 - y1 < 1:
        return None
    name_x, name_y = _name_place(x0, y0, x1, y1, upper=upper)
    return AcosLine(x0, y0, x1, y1, kind, name, _tenth(name_x), _tenth(name_y), upper)


def _name_place(x0: float, y0: float, x1: float, y1: float, *, upper: bool) -> tuple[float, float]:
    """Where a name ends above a line's upper end, or begins below its lower end: beside the line, in the frame."""
    rise = (y0 - y1) / (x1 - x0)
    if upper:
        base = max(y1 - 4, _TOP + 11)
        return max(x1 - max(8, (base + 2 - y1) / rise + 2), _LEFT + 120), base
    base = min(y0 + 4, _BOTTOM - 5)
    return min(x0 + max(14, (y0 - base + _LINE - 2) / rise + 2), _RIGHT - 120), base
