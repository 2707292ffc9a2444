"""One axis of money for a page: a promise as a hairline with ends, a result as a bar with a diamond, zero as a line."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

WIDTH, SMALL = 260.0, 84.0
_EDGE = 6.0


@dataclass(frozen=True, slots=True)
class AxisMark:
    """Where a promise (None for none), a result and its range lie; hollow: too early; tone: gain, loss or nothing."""

    promised: float | None
    result: float
    low: float
    high: float
    tone: str
    hollow: bool


@dataclass(frozen=True, slots=True)
class MoneyAxis:
    """The axis: its ends in money, how wide it is drawn, where zero lies, ticks as (place, amount)."""

    low: float
    high: float
    width: float

    @property
    def zero(self) -> float:
        """Where zero lies."""
        return self.place(0.0)

    def place(self, amount: float) -> float:
        """Where an amount lies; beyond the ends at them."""
        part = (amount - self.low) / (self.high - self.low)
        return round(_EDGE + (self.width - 2 * _EDGE) * min(max(part, 0.0), 1.0), 1)

    def mark(self, promised: float | None, result: float, low: float, high: float, verdict: str) -> AxisMark:
        """A result beside its promise."""
        tone = {"kept": "gain", "did not": "loss"}.get(verdict, "")
        place = None if promised is None else self.place(promised)
        return AxisMark(place, self.place(result), self.place(low), self.place(high), tone, not tone)

    def ticks(self, count: int = 5) -> list[tuple[float, float]]:
        """Round amounts with their places."""
        step = _round_step((self.high - self.low) / count)
        first = int(self.low // step)
        amounts = [step * number for number in range(first, int(self.high // step) + 1)]
        return [(self.place(each), each) for each in amounts if self.low <= each <= self.high]


def _round_step(raw: float) -> float:
    size = 1.0
    while size * 10 <= raw:
        size *= 10
    while size > raw:
        size /= 10
    return next((size * part for part in (1, 2, 5, 10) if size * part >= raw), size * 10)


def axis(ranges: Sequence[tuple[float, float]], width: float = WIDTH) -> MoneyAxis:
    """The axis that holds all of the ranges, and zero."""
    low = min([0.0, *(low for low, _ in ranges)])
    high = max([0.0, *(high for _, high in ranges)])
    room = max(high - low, 1.0) * 0.03
    return MoneyAxis(low - room, high + room, width)
