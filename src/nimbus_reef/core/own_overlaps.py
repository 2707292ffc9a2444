"""Where we compete with ourselves: paid clicks where we rank first, and what a test without ads would tell."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum
from typing import Final

OWN_FIRST: Final = 1
"""Own rank at which an ad may buy clicks that come anyway."""
_SURE: Final = 1.2816
"""80 % on both sides, as of all ranges."""
HALF: Final = 0.5
"""A test tells whether more or less than half of the paid clicks come back without ads."""
_LONGEST: Final = 84


class OwnOverlap(StrEnum):
    """How we compete with ourselves."""

    PAID_FIRST = "paid where you rank first"
    TWO_ITEMS = "two of your products"
    STOPPED = "ads stopped"


@dataclass(frozen=True, slots=True)
class AdFreeTest:
    """
    A test without ads. days: how long it has to last, None where twelve weeks would not tell; clicks: the paid ones it
    goes without by then, orders: those of them that bought.
    """

    days: int | None
    clicks: float
    orders: float


def ad_free_test(paid: float, free: float, orders: float, days: int) -> AdFreeTest:
    """
    How long ads have to rest to tell whether more or less than half of their clicks come back by themselves.

    Parameters
    ----------
    paid, free, orders : counts
        Clicks by ads, clicks without, orders by ads in the period.
    days : days
        Of the period.

    Returns
    -------
    AdFreeTest
        In whole weeks, so that weekdays balance: the first in which all and half of the paid clicks coming back lie
        further apart than the 80 % ranges of both (counts as Poisson).

    References
    ----------
    docs/calculations.md, “Reach”.
    """
    a_day, free_a_day = paid / max(1, days), free / max(1, days)
    for length in range(7, _LONGEST + 1, 7):
        whole, half = (length * (free_a_day + part * a_day) for part in (1.0, HALF))
        if whole - half > _SURE * (math.sqrt(whole) + math.sqrt(half)):
            return AdFreeTest(length, a_day * length, orders / max(1, days) * length)
    return AdFreeTest(None, a_day * _LONGEST, orders / max(1, days) * _LONGEST)
