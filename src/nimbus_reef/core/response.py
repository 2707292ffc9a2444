"""
How clicks and their price answer a bid: learned from an account's own changes of bids, one answer for all of it.

Clicks follow x to the power of e, prices x to the power of p, where x is the new bid ÷ the old one. Formulas: "Bids" in
docs/calculations.md.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import numpy.typing as npt
import polars as pl

Floats = npt.NDArray[np.float64]

SIDE_DAYS: Final = 14
"""Whole days before and after a change that are compared."""
LEAST_CLICKS: Final = 4
LEAST_PRICED: Final = 3
SIBLING_CLICKS: Final = 200
OWN_SPREAD: Final = 0.35
"""Above this spread the answer is the usual one, and not yet the account's own."""
WIDTH: Final = 1.28
"""Standard deviations to each end of an 80 % range."""
_GRID: Final[Floats] = np.linspace(0.0, 2.5, 101)
_DRIFT: Final = 1.5
"""Rows drift by so much more than chance alone would have it."""
_PRICE_ENDS: Final = (0.2, 1.2)


@dataclass(frozen=True, slots=True)
class ClickResponse:
    """
    By how many % clicks (e) and the price of a click (p) change when a bid changes by 1 %. spread: standard error of e;
    changes: how many changes of bids it was learned from.
    """

    e: float = 0.9
    spread: float = 0.5
    p: float = 0.9
    changes: int = 0

    @property
    def is_own(self) -> bool:
        """Whether the account's own changes say it, not the usual answer."""
        return self.spread <= OWN_SPREAD

    @property
    def powers(self) -> tuple[float, float, float]:
        """E at the low end of its 80 % range, in the middle, at the high end."""
        return max(0.0, self.e - WIDTH * self.spread), self.e, self.e + WIDTH * self.spread

    @property
    def of_spend(self) -> float:
        """By how many % spend changes when a bid changes by 1 %: clicks and their price together."""
        return self.e + self.p

    @property
    def peak(self) -> float:
        """The part of its margin that a product spends where its profit peaks."""
        return self.e / (self.e + self.p) if self.e > 0 else 0.0


USUAL: Final = ClickResponse()


def learned(changes: pl.DataFrame) -> ClickResponse:
    """
    The answer of clicks and prices to an account's changes of bids.

    Parameters
    ----------
    changes : frame
        One row a change that stood alone: x (new ÷ old bid), clicks_before, clicks_after (whole days on each side),
        spend_before, spend_after (money in one unit), siblings (ln of what the clicks of targets that nothing touched
        did at the same time, 0 where they are few).

    Returns
    -------
    ClickResponse
        The usual one without any change.

    References
    ----------
    docs/calculations.md, “Bids”: a logistic likelihood of clicks after and before, on a grid of e, with a normal prior.
    """
    used = changes.filter(pl.col("clicks_before") + pl.col("clicks_after") >= LEAST_CLICKS, pl.col("x") != 1)
    if used.is_empty():
        return USUAL
    before, after, x, siblings = (
        used[name].cast(pl.Float64).to_numpy() for name in ("clicks_before", "clicks_after", "x", "siblings")
    )
    e, spread = _of_clicks(before, after, np.log(x), siblings)
    return ClickResponse(e, spread, _of_price(used), len(used))


def _of_clicks(before: Floats, after: Floats, ln_x: Floats, siblings: Floats) -> tuple[float, float]:
    z = siblings + _GRID[:, None] * ln_x
    likelihood = (after * z - (before + after) * np.logaddexp(0.0, z)).sum(axis=1) / _DRIFT
    log = likelihood - ((_GRID - USUAL.e) / USUAL.spread) ** 2 / 2
    weights = np.exp(log - log.max())
    mean = float(np.average(_GRID, weights=weights))
    return mean, float(np.sqrt(np.average((_GRID - mean) ** 2, weights=weights)))


def _of_price(used: pl.DataFrame) -> float:
    """The price's answer, by least squares drawn to the usual one."""
    before, after, ln_x = pl.col("clicks_before"), pl.col("clicks_after"), pl.col("x").log()
    paid_before, paid_after = pl.col("spend_before") / before, pl.col("spend_after") / after
    priced = used.filter(
        before >= LEAST_PRICED, after >= LEAST_PRICED, pl.col("spend_before") > 0, pl.col("spend_after") > 0
    ).select(weight=before * after / (before + after), ln_x=ln_x, moved=(paid_after / paid_before).log())
    weight, ln, moved = (priced[name].cast(pl.Float64).to_numpy() for name in ("weight", "ln_x", "moved"))
    raw = (25 * USUAL.p + 4 * float((weight * ln * moved).sum())) / (25 + 4 * float((weight * ln**2).sum()))
    return min(max(raw, _PRICE_ENDS[0]), _PRICE_ENDS[1])
