"""
The bids of a target's past, fortnight by fortnight, and the highest at which it met its target.

Money here is in units of currency.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimbus_reef.core.metrics import met_target

BLOCK_DAYS = 14
MOST_BLOCKS = 6
BLOCK_ORDERS = 3
NEAR = 0.03
"""A bid nearer than this to another is the same."""


@dataclass(frozen=True, slots=True)
class PastBlock:
    """Fourteen days of one target: click-weighted bid, clicks, orders, spend, sales."""

    bid: float
    orders: int
    spend: float
    sales: float


@dataclass(frozen=True, slots=True)
class Day:
    """One day of one target; bid None where no settings are known."""

    clicks: int
    orders: int
    spend: float
    sales: float
    bid: float | None


def blocks(days: Sequence[Day]) -> list[PastBlock]:
    """The six newest 14-day blocks counted back from the last day given, whole ones only, newest first."""
    found = []
    for end in range(len(days), max(BLOCK_DAYS - 1, len(days) - MOST_BLOCKS * BLOCK_DAYS), -BLOCK_DAYS):
        part = days[end - BLOCK_DAYS : end]
        weighted = [(day.bid, day.clicks) for day in part if day.bid is not None and day.clicks]
        if not weighted:
            continue
        clicks = sum(count for _, count in weighted)
        found.append(
            PastBlock(
                bid=sum(bid * count for bid, count in weighted) / clicks,
                orders=sum(day.orders for day in part),
                spend=sum(day.spend for day in part),
                sales=sum(day.sales for day in part),
            )
        )
    return found


def best_working(history: Sequence[PastBlock], target_acos: float) -> PastBlock | None:
    """The block with the highest bid of those that met the target with at least 3 orders."""
    worked = [
        block for block in history if block.orders >= BLOCK_ORDERS and met_target(block.spend, block.sales, target_acos)
    ]
    return max(worked, key=lambda block: block.bid, default=None)


def dried_up(days: Sequence[Day], bid: float | None, target_acos: float) -> PastBlock | None:
    """
    The best working block of a target that has dried up since: its last 14 days brought less than half of that block's
    orders, at a bid that is at least 3 % away. None where that is not so.
    """
    best = best_working(blocks(days), target_acos)
    if best is None or bid is None or abs(bid - best.bid) <= NEAR * bid:
        return None
    return best if 2 * sum(day.orders for day in days[-BLOCK_DAYS:]) < best.orders else None
