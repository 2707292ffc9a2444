"""
The course of a scope over the price of a click: four lanes over one log axis, with three marks through all of them.

Drawn on the server; the target's mark follows a range input by the numbers in `Chart.moving`.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from nimbus_reef.analysis.solver import Quartiles
from nimbus_reef.core import solver
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.solver import Outcome, ScopeSums
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.axes import round_steps

LEFT: Final = 74.0
RIGHT: Final = 748.0
_LANES: Final[tuple[tuple[str, float, float], ...]] = (
    ("sales", 28.0, 68.0),
    ("spend", 82.0, 124.0),
    ("profit", 138.0, 196.0),
    ("acos", 210.0, 242.0),
)
_USUAL: Final = (0.55, 1.6)
_FARTHEST: Final = (0.2, 3.0)
_POINTS: Final = 61


@dataclass(frozen=True, slots=True)
class Lane:
    """One figure over the price: where its name stands, its line near and far from what was tried, its 80 % range."""

    key: str
    label: str
    y: float
    near: str
    far: Sequence[str]
    band: str
    zero: float | None = None


@dataclass(frozen=True, slots=True)
class Dot:
    """What a figure is at a mark."""

    lane: str
    y: float
    words: str


@dataclass(frozen=True, slots=True)
class Mark:
    """One price that is marked: its line, its dots; side: on which their words stand."""

    kind: str
    words: str
    x: float
    side: str
    dots: Sequence[Dot]


@dataclass(frozen=True, slots=True)
class Chart:
    """The chart. peers: the quartiles of what peers pay, as x; moving: what the target's mark is moved by."""

    lanes: Sequence[Lane]
    marks: Sequence[Mark]
    ticks: Sequence[tuple[float, str]]
    tried: tuple[float, float]
    peers: Sequence[tuple[float, str]]
    moving: dict[str, Any]


def chart(
    now: ScopeSums, response: ClickResponse, at: Sequence[tuple[str, float]], peers: Quartiles | None, figures: Figures
) -> Chart:
    """
    Lays it out.

    at: kinds of marks ("now", "target", "peak") with their price in parts of today's; the target's can be moved.
    """
    factors = [factor for _, factor in at]
    low = max(_FARTHEST[0], min(_USUAL[0], 0.92 * min(factors)))
    high = min(_FARTHEST[1], max(_USUAL[1], 1.08 * max(factors)))
    price = now.price

    def x(factor: float) -> float:
        share = math.log(factor / low) / math.log(high / low)
        return round(LEFT + min(max(share, 0.0), 1.0) * (RIGHT - LEFT), 1)

    grid = [float(each) for each in np.unique([*np.geomspace(low, high, _POINTS), *_within(solver.TRIED, low, high)])]
    course = [(x(each), solver.at_price(now, each, response), solver.between(now, each, response)) for each in grid]
    near = (max(low, solver.TRIED[0]), min(high, solver.TRIED[1]))
    shown = [each for each in _LANES if each[0] != "profit" or now.margin is not None]
    drawn = [_lane(*each, course, [bool(near[0] <= factor <= near[1]) for factor in grid], figures) for each in shown]
    lanes, places = [lane for lane, _ in drawn], {lane.key: y for lane, y in drawn}
    marks = [_mark(kind, factor, at, now, response, places, x, figures) for kind, factor in at]
    return Chart(
        lanes,
        marks,
        [(x(each / price), figures.number(each)) for each in _ticks(price * low, price * high)],
        (x(near[0]), x(near[1])),
        [
            (x(each / price), words)
            for each, words in zip(peers, ("lower quarter", "median", "upper quarter"), strict=True)
            if low < each / price < high
        ]
        if peers
        else [],
        {
            "low": math.log(low),
            "high": math.log(high),
            "left": LEFT,
            "right": RIGHT,
            "acos": now.acos,
            "sales": now.sales,
            "price": price,
            "margin": now.margin,
            "e": response.e,
            "p": response.p,
            "scales": {key: _line(y, *_ends(key, course)) for key, y in places.items()},
        },
    )


_READ: Final[dict[str, Callable[[Outcome], float]]] = {
    "sales": lambda each: each.sales,
    "spend": lambda each: each.spend,
    "profit": lambda each: each.profit or 0.0,
    "acos": lambda each: each.acos,
}
_LABELS: Final = {"sales": "sales {symbol}", "spend": "spend {symbol}", "profit": "profit {symbol}", "acos": "ACOS %"}


def _within(values: Sequence[float], low: float, high: float) -> list[float]:
    return [each for each in values if low < each < high]


_Course = Sequence[tuple[float, Outcome, tuple[Outcome, Outcome]]]
"""Where each price stands, what the scope does at it, and the same at both ends of how clicks answer."""
_Place = Callable[[float], float]


def _lane(
    key: str, top: float, bottom: float, course: _Course, near: Sequence[bool], figures: Figures
) -> tuple[Lane, _Place]:
    """One figure on a scale of its own, and where a value of it stands. near: which prices lie near anything tried."""
    read = _READ[key]
    edges = [sorted((read(first), read(second))) for _, _, (first, second) in course]
    known = [value for pair in edges for value in pair] + [read(at) for _, at, _ in course]
    y = _scale(min(*known, 0.0) if key == "profit" else min(known), max(known), bottom, top)
    points = [(x, y(read(at))) for x, at, _ in course]
    first = near.index(True) if True in near else 0
    last = len(near) - 1 - near[::-1].index(True) if True in near else len(near) - 1
    upper = [(x, y(high)) for (x, _, _), (_, high) in zip(course, edges, strict=True)]
    lower = [(x, y(low)) for (x, _, _), (low, _) in zip(course, edges, strict=True)]
    far = [_path(part) for part in (points[: first + 1], points[last:]) if len(part) > 1]
    lane = Lane(
        key,
        _LABELS[key].format(symbol=figures.symbol),
        round((top + bottom) / 2 + 4, 1),
        _path(points[first : last + 1]),
        far,
        _path([*upper, *reversed(lower)]) + "Z" if key != "acos" else "",
        y(0.0) if key == "profit" else None,
    )
    return lane, y


def _scale(low: float, high: float, bottom: float, top: float) -> _Place:
    """What is beyond an end of the lane stands at it."""
    width = high - low or 1.0
    return lambda value: bottom + min(max((value - low) / width, 0.0), 1.0) * (top - bottom)


def _ends(key: str, course: _Course) -> tuple[float, float]:
    """Two different values of a lane."""
    values = [_READ[key](at) for _, at, _ in course]
    return min(values), max(values)


def _line(y: _Place, low: float, high: float) -> list[float]:
    """Where 0 would stand, and how far one more moves it: for the mark that is moved."""
    slope = (y(high) - y(low)) / (high - low) if high > low else 0.0
    return [y(low) - slope * low, slope]


def _path(points: Sequence[tuple[float, float]]) -> str:
    return "M" + "L".join(f"{x:g} {y:.1f}" for x, y in points)


_ASIDE: Final = 0.06


def _mark(
    kind: str,
    factor: float,
    at: Sequence[tuple[str, float]],
    now: ScopeSums,
    response: ClickResponse,
    places: dict[str, Callable[[float], float]],
    x: Callable[[float], float],
    figures: Figures,
) -> Mark:
    """A mark; its words stand away from the nearest other one, on the left where it is the lower of two."""
    found = solver.at_price(now, factor, response)
    others = [each for other, each in at if other != kind]
    nearest = min(others, key=lambda each: abs(math.log(each / factor)), default=factor)
    side = "left" if nearest > factor or (nearest == factor and kind == "target") else "right"
    place = x(factor)
    if place < LEFT + 60:
        side = "right"
    elif place > RIGHT - 60:
        side = "left"
    texts = {
        "sales": figures.count(found.sales),
        "spend": figures.count(found.spend),
        "profit": figures.count(found.profit),
        "acos": figures.percent(found.acos),
    }
    price = now.price * factor
    return Mark(
        kind,
        f"{_NAMES[kind]} {figures.number(price)}",
        place,
        side,
        [Dot(key, round(y(_READ[key](found)), 1), texts[key]) for key, y in places.items()],
    )


_NAMES: Final = {"now": "now", "target": "target", "peak": "profit peaks"}


def _ticks(low: float, high: float) -> list[float]:
    """Round prices on a log axis, none too near to the one before."""
    step = round_steps(high - low, 9)
    width = step[1] if len(step) > 1 else high
    first = math.ceil(low / width)
    prices = [width * number for number in range(first, math.floor(high / width) + 1) if number > 0]
    kept = prices[:1]
    for each in prices[1:]:
        if math.log(each / kept[-1]) > _ASIDE:
            kept.append(each)
    return kept
