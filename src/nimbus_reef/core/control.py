"""
What clicks did in the same days where nobody touched anything: the control of a change.

Formulas: “Did it work” in docs/calculations.md.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

LEAST_ROWS: Final = 5
LEAST_CLICKS: Final = 100
PRICED_CLICKS: Final = 200
"""Clicks on both sides from which on the control's price of a click says how prices moved by themselves."""
NEARLY_SAME: Final = 0.1
"""A bid that moved by less, as a logarithm, is control too where nothing else is left."""
DRIFT_CLICKS: Final = 20
DRIFT_ROWS: Final = 20
_DRIFT: Final = 0.2
_DRIFT_ENDS: Final = (0.1, 0.35)
_UNKNOWN: Final = 0.15


@dataclass(frozen=True, slots=True)
class Control:
    """
    How clicks of untouched rows moved: growth (after ÷ before, per day) and the variance of its logarithm; price: how
    the price of a click moved; drift: how far single untouched rows move beyond chance; rows: how many there were, with
    their clicks before and after, none where nothing was untouched.
    """

    growth: float = 1.0
    variance: float = _UNKNOWN**2
    price: float = 1.0
    drift: float = _DRIFT
    rows: int = 0
    clicks: tuple[float, float] = (0.0, 0.0)

    def later(self, longer: float) -> Control:
        """The same after so many times as long."""
        before, after = self.clicks
        if not self.rows:
            return self
        saved = 1 / after - 1 / (after * longer)
        return replace(self, variance=self.variance - saved, clicks=(before, after * longer))


def control(candidates: Sequence[pl.DataFrame], moved: pl.DataFrame, days: tuple[int, int], drift: float) -> Control:
    """
    The control of a change.

    Parameters
    ----------
    candidates : frames
        Untouched rows of the campaign, of the product, of the account, the nearest first: clicks_before, clicks_after,
        spend_before, spend_after. The first that is enough is taken.
    moved : frame
        The same of rows whose bid hardly moved, with expected, by what their clicks are expected to have grown.
    days : whole days before and after
    drift : see `drift_of`

    Returns
    -------
    Control
        With no rows where none of them is enough.
    """
    for rows in candidates:
        if _enough(rows):
            return _of(rows, days, drift, priced=True)
    eased = moved.with_columns(clicks_after=pl.col("clicks_after") / pl.col("expected"))
    return _of(eased, days, drift, priced=False) if _enough(eased) else Control(drift=drift)


def _enough(rows: pl.DataFrame) -> bool:
    if len(rows) < LEAST_ROWS:
        return False
    return min(_sum(rows, "clicks_before"), _sum(rows, "clicks_after")) >= LEAST_CLICKS


def _sum(rows: pl.DataFrame, name: str) -> float:
    return float(rows[name].sum())


def _of(rows: pl.DataFrame, days: tuple[int, int], drift: float, *, priced: bool) -> Control:
    before, after = _sum(rows, "clicks_before"), _sum(rows, "clicks_after")
    growth = (after / days[1]) / (before / days[0])
    price = _price_moved(rows) if priced else 1.0
    return Control(growth, 1 / before + 1 / after + drift**2 / len(rows), price, drift, len(rows), (before, after))


def _price_moved(rows: pl.DataFrame) -> float:
    """
    How the price of a click moved row by row, weighed by the clicks after: not that other rows had the clicks. 1 where
    rows with clicks on both sides have too few.
    """
    both = rows.filter(pl.col("clicks_before") > 0, pl.col("clicks_after") > 0, pl.col("spend_before") > 0)
    if both.is_empty() or min(_sum(both, "clicks_before"), _sum(both, "clicks_after")) < PRICED_CLICKS:
        return 1.0
    as_before = both.select((pl.col("clicks_after") * pl.col("spend_before") / pl.col("clicks_before")).sum()).item()
    return _sum(both, "spend_after") / float(as_before)


def drift_of(rows: pl.DataFrame, days: tuple[int, int]) -> float:
    """
    How far single untouched rows of an account drift beyond chance between two periods, as a logarithm. rows:
    clicks_before and clicks_after; of few rows the usual drift.
    """
    used = rows.filter(pl.col("clicks_before") >= DRIFT_CLICKS, pl.col("clicks_after") >= DRIFT_CLICKS)
    if len(used) < DRIFT_ROWS:
        return _DRIFT
    growth = (_sum(used, "clicks_after") / days[1]) / (_sum(used, "clicks_before") / days[0])
    before, after = pl.col("clicks_before") + 0.5, pl.col("clicks_after") + 0.5
    moved = (after / days[1] / (before / days[0] * growth)).log()
    beyond = float(used.select((moved**2 - 1 / before - 1 / after).mean()).item())
    low, high = _DRIFT_ENDS
    return math.sqrt(min(max(beyond, low**2), high**2))
