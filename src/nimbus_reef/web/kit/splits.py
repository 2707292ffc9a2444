"""Why a cost of sale moved, written: one sentence, and a signed bar per factor."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from nimbus_reef.core import change
from nimbus_reef.core.metrics import METRICS
from nimbus_reef.formats.figures import Figures

_PARTS: Final = (("cpc", "CPC"), ("cvr", "CVR"), ("aov", "AOV"))


@dataclass(frozen=True, slots=True)
class SplitBar:
    """One factor's part of the change of ACOS. x, width: 0 … 100 of the bar's line, 50 the middle."""

    name: str
    text: str
    x: float
    width: float
    loss: bool


@dataclass(frozen=True, slots=True)
class Why:
    """Why ACOS moved, of one row: a sentence, and a bar per factor (none where it cannot be split)."""

    words: str
    bars: tuple[SplitBar, ...]


def why(then: Mapping[str, float] | None, now: Mapping[str, float], figures: Figures) -> Why:
    """The one-row split: exact, or the reason why there is none."""
    if then is None:
        return Why("No comparison period.", ())
    split = change.split_row(then, now)
    if split.reason:
        return Why(f"Its ACOS cannot be split: {split.reason}.", ())
    before, after = (METRICS["acos"].value(row) for row in (then, now))
    values = [(words, getattr(split, name)) for name, words in _PARTS]
    return Why(
        f"ACOS {figures.rate(before)} → {figures.rate(after)}: {split_words(values, figures)}.",
        split_bars(values, figures),
    )


def split_words(parts: Sequence[tuple[str, float]], figures: Figures) -> str:
    """The parts of a change, largest first, in a half sentence."""
    texts = [
        f"{name} {'added' if value > 0 else 'took'} {figures.number(abs(value) * 100, 1)}"
        for name, value in sorted(parts, key=lambda each: -abs(each[1]))
        if abs(value) >= 0.0005
    ]
    return ", ".join(texts) + " points" if texts else "unchanged"


def split_bars(parts: Sequence[tuple[str, float]], figures: Figures) -> tuple[SplitBar, ...]:
    """Signed bars from the middle of one line, all on one scale."""
    largest = max((abs(value) for _, value in parts), default=0) or 1
    return tuple(
        SplitBar(
            name,
            f"{figures.signed(value * 100, 1)} pt",
            50 if value > 0 else 50 - 50 * abs(value) / largest,
            50 * abs(value) / largest,
            value > 0,
        )
        for name, value in parts
    )
