"""
The catch-all: one automatic campaign at a low bid for the whole eligible catalog, and what it is likely to bring.

Formulas: "Catch-all" in docs/calculations.md.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.core.model import MICRO
from nimbus_reef.core.windows import MONTH_DAYS

HISTORY_DAYS: Final = 90
_LEAST_CVR: Final = 0.5
"""Of the account's own conversion: what cheap clicks are taken to convert at least."""


@dataclass(frozen=True, slots=True)
class Expected:
    """
    What a bid is likely to bring in 30 days, money in units; cheap: how many clicks that rests on; aov: what an order
    is worth.
    """

    clicks: float
    orders: float
    spend: float
    sales: float
    cvr: float
    acos: float | None
    cheap: int
    aov: float


def expected(
    target_days: pl.DataFrame, account: tuple[int, int, float], sku_days: int, eligible: int, bid: float
) -> Expected | None:
    """
    Clicks, orders and cost of sale of a bid from the account's own clicks that were as cheap; None where it has none.

    target_days: clicks, orders, spend (micro-units) of each target and day of 90 days. account: clicks, orders and
    sales (units) of the same. sku_days: eligible SKUs × days with impressions; eligible: how many products get an ad.
    """
    # In whole micro-units: 2.01 · 1,000,000 as a float is a little less than what a click of 2.01 cost.
    cheap = target_days.filter(
        (pl.col("clicks") > 0)
        & (pl.col("spend").cast(pl.Int64) <= round(bid * MICRO) * pl.col("clicks").cast(pl.Int64))
    )
    clicks = int(cheap["clicks"].sum())
    all_clicks, all_orders, all_sales = account
    if not clicks or not sku_days or not all_clicks or not all_orders:
        return None
    k = int(cheap.select(pl.min_horizontal("orders", "clicks").sum()).item())
    cvr = max(k / clicks, _LEAST_CVR * all_orders / all_clicks)
    aov = all_sales / all_orders
    due = clicks / sku_days * eligible * MONTH_DAYS
    acos = bid / (cvr * aov) if aov else None
    return Expected(due, due * cvr, due * bid, due * cvr * aov, cvr, acos, clicks, aov)
