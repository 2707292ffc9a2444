"""
The picture of luck: what a verdict rests on, one step under the other on one scale of conversion.

From what the account converts, by the row's cohort and its words, to what its own clicks leave: the hill is what is
likely of it, the upright line what it needs.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np

from nimbus_reef.core import costly_words, evidence
from nimbus_reef.core.evidence import Floats
from nimbus_reef.core.metrics import ratio
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.verdicts import mark_of

LEFT: Final = 176.0
WIDTH: Final = 322.0
_ROW: Final = 19.0
_TOP: Final = 20.0
_HILL: Final = 44.0
_POINTS: Final = 81
_SCALE: Final = WIDTH - LEFT - 8
_EVEN: Final = 0.5
_TELLING: Final = 0.01
"""A step that moves what is expected by less than this part of it is not drawn."""


@dataclass(frozen=True, slots=True)
class LuckStep:
    """One line of the picture: what is looked at, what is to be expected then, where it stands."""

    label: str
    value: str
    x: float
    y: float
    before: float


@dataclass(frozen=True, slots=True)
class Luck:
    """
    The picture, ready to draw: steps, the last of them the row's own; hill: an SVG path of what is likely, from
    low to high four times in five; needed_x: None where nothing is needed or it lies off the scale.
    """

    steps: tuple[LuckStep, ...]
    hill: str
    low: float
    high: float
    height: float
    base: float
    needed_x: float | None
    needed: str
    needed_left: bool
    tone: str
    solid: bool
    note: str


ALIKE: Final = "phrases of the same length"


def of_judged(row: Mapping[str, Any], figures: Figures, alike: str = ALIKE) -> Luck | None:
    """
    What the verdict of a row rests on; None where it has no prior or no click. alike: what rows without a cohort of
    their own are compared with.
    """
    if row["prior_a"] is None or not row["clicks"]:
        return None
    tone = {"above": ("loss", True), "likely": ("loss", False), "within": ("gain", True)}.get(
        mark_of(row, "evidence"), ("", False)
    )
    if row.get("factor") is not None:
        return of_word(row, f"{figures.counted(row['came'], 'order')} came", tone, figures)
    brought = figures.counted(row["orders"], "order") if row["orders"] else "no order"
    posterior = (row["prior_a"] + row["k"], row["prior_b"] + row["n"] - row["k"])
    return of_row(row, posterior, f"{figures.counted(row['clicks'], 'click')}, {brought}", tone, figures, alike)


def of_row(
    row: Mapping[str, Any],
    posterior: tuple[float, float],
    own: str,
    tone: tuple[str, bool],
    figures: Figures,
    alike: str = ALIKE,
) -> Luck:
    """
    A judged target, term, phrase, product ad, campaign or ad group. posterior: a and b; own: what it did itself, in
    short words; tone: the verdict's, and whether it is settled; alike: see `of_judged`.
    """
    a, b = posterior
    expected = row["prior_a"] / (row["prior_a"] + row["prior_b"])
    pairs: list[tuple[str, float]] = [(alike, expected)]
    if row.get("product_ad_id") is not None and row.get("account_cvr") is not None:
        pairs = [
            ("the account", row["account_cvr"]),
            ("its product elsewhere", row["cohort_cvr"]),
            ("its ad group", expected),
        ]
    elif row.get("account_cvr") is not None:
        group = "its product and ad group" if evidence.knows_product(row) else "its ad group"
        pairs = [
            ("the account", row["account_cvr"]),
            (group, row["cohort_cvr"]),
            ("what brought it", row["free_cvr"]),
            ("its words", expected),
        ]
    return _drawn(
        pairs,
        own,
        a / (a + b),
        lambda x: evidence.density(a, b, x),
        evidence.interval(a, b),
        evidence.interval(a, b, 0.998)[1],
        (row["needed_cvr"], "needs"),
        tone,
        figures.rate,
    )


def of_phrase(row: Mapping[str, Any], account: float, own: str, figures: Figures) -> Luck:
    """
    A phrase that was never bought: what the account converts, what its product, words and ranks make of it, what came
    without ads. own: that in short words.
    """
    a, b = row["a"], row["b"]
    needed = ratio(row["price"], row["aov"] * row["target_acos"]) if row["price"] and row["aov"] else None
    return _drawn(
        [("the account", account), ("product, words, ranks", row["mean"])],
        own,
        a / (a + b),
        lambda x: evidence.density(a, b, x),
        evidence.interval(a, b),
        evidence.interval(a, b, 0.998)[1],
        (needed, "needs"),
        ("gain", True) if row["pays"] is not None and row["pays"] >= _EVEN else ("", False),
        figures.rate,
    )


def of_word(row: Mapping[str, Any], own: str, tone: tuple[str, bool], figures: Figures) -> Luck:
    """A word: what came of every order that was due without it."""
    shape, rate = row["shape"], row["rate"]
    return _drawn(
        [("expected without it", 1.0)],
        own,
        row["factor"],
        lambda x: costly_words.density(shape, rate, x),
        costly_words.interval(shape, rate),
        costly_words.interval(shape, rate, 0.998)[1],
        (row["limit"], "needs"),
        tone,
        lambda value: figures.rate(value, 0),
    )


def _drawn(
    pairs: Sequence[tuple[str, float]],
    own: str,
    mean: float,
    density: Callable[[Floats], Floats],
    likely: tuple[float, float],
    furthest: float,
    needed: tuple[float | None, str],
    tone: tuple[str, bool],
    say: Callable[[float], str],
) -> Luck:
    kept = [pairs[0]]
    for label, value in pairs[1:]:
        if abs(value - kept[-1][1]) > _TELLING * kept[-1][1]:
            kept.append((label, value))
    marks = [value for _, value in kept] + ([needed[0]] if needed[0] is not None and needed[0] < 1.5 else [])
    right = max([furthest, *(mark * 1.08 for mark in marks)])

    def place(value: float) -> float:
        return round(LEFT + _SCALE * min(value, right) / right, 1)

    steps, before = [], kept[0][1]
    for number, (label, value) in enumerate([*kept, (own, mean)]):
        down = _HILL - _ROW if number == len(kept) else 0.0
        steps.append(LuckStep(label, say(value), place(value), _TOP + number * _ROW + _ROW / 2 + down, place(before)))
        before = value
    base = steps[-1].y
    x = np.linspace(right / _POINTS / 8, right, _POINTS)
    y = density(x)
    top = float(y.max()) or 1.0
    points = " L".join(f"{place(px)} {base - (_HILL - 8) * py / top:.1f}" for px, py in zip(x, y, strict=True))
    needs, left = needed[0], needed[0] is not None and place(needed[0]) > LEFT + _SCALE * 0.55
    return Luck(
        tuple(steps),
        f"M{LEFT} {base} L{points} L{place(right)} {base} Z",
        place(likely[0]),
        place(likely[1]),
        base + 12,
        base,
        None if needs is None or needs > right else place(needs),
        f"{needed[1]} {say(needs)}" if needs is not None else "",
        left,
        tone[0],
        tone[1],
        f"{say(likely[0])} to {say(likely[1])} likely (80 %)",
    )
