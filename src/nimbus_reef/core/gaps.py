"""Gaps: what sells without ads, newer SKUs without them, products that may not have any, what spend follows."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from typing import Final

import polars as pl

from nimbus_reef.core.windows import per_month

BEFORE_DAYS: Final = 30
FAMILY: Final = "family"
OWN: Final = "own"


def unadvertised(products: pl.DataFrame) -> pl.DataFrame:
    """
    Products that sold and have no ad, most sales first.

    products: sku, item, total_sales, advertised (it has an enabled ad), eligible. Adds replaces: an advertised SKU of
    the same item, null where there is none. What may not be advertised is no gap.
    """
    rows = products.filter(pl.col("advertised") & pl.col("item").is_not_null())
    older = rows.group_by("item").agg(replaces=pl.col("sku").sort().first())
    return (
        products.filter(~pl.col("advertised") & pl.col("eligible") & (pl.col("total_sales") > 0))
        .join(older, on="item", how="left")
        .sort(["total_sales", "sku"], descending=[True, False])
    )


def stopped_since(shown: Sequence[date], listed: Sequence[date], window_last: date) -> date | None:
    """
    Since when a product is not advertised: the first day on which the catalog calls it ineligible, or the day after its
    ads were last shown, whichever is earlier; None where neither is known.

    shown: days with impressions; listed: days of the catalog on which it is ineligible, since the last on which it was
    not (none where it was never called eligible).
    """
    days = [min(listed)] if listed else []
    if shown and max(shown) < window_last:
        days.append(max(shown) + timedelta(days=1))
    return min(days, default=None)


def likely_cost(
    own_sales: float, own_days: int, family_sales: float, family_children: int, days: int
) -> tuple[float, str]:
    """
    Ad sales per 30 days that a product likely misses, in the unit of the sales given, and what that rests on.

    own_sales in own_days: what its ads sold in the (up to) 30 days before they stopped; without any, what a sibling's
    ads sell on average: family_sales of family_children in `days`. Empty text where nothing is known.
    """
    if own_days > 0 and own_sales > 0:
        return per_month(own_sales, own_days), OWN
    if family_children > 0 and days > 0:
        return per_month(family_sales / family_children, days), FAMILY
    return 0.0, ""


def concentration(products: pl.DataFrame) -> pl.DataFrame:
    """
    How much of spend the top sellers get: rank, share_of_sales and share_of_spend, both running, most sales first.

    products: sku, sold, spend. One row per product, from the best seller on.
    """
    ordered = products.sort(["sold", "spend", "sku"], descending=[True, True, False])
    spent, sold = float(ordered["spend"].sum()), float(ordered["sold"].sum())
    return ordered.select(
        "sku",
        rank=pl.int_range(1, pl.len() + 1),
        share_of_sales=pl.col("sold").cum_sum() / sold if sold else pl.lit(0.0),
        share_of_spend=pl.col("spend").cum_sum() / spent if spent else pl.lit(0.0),
    )
