"""Products whose conversion fell when their page changed, as a check reads them."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.look import Look
from nimbus_reef.core import listings
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

COMMON: Final[Mapping[str, Any]] = {
    "row_id": pl.String, "name": pl.String, "where": pl.String, "stake": pl.Int64, "campaign": pl.String,
    "ad_group": pl.String, "target": pl.String, "match_type": pl.String, **dict.fromkeys(MEASURES, pl.Int64),
}  # fmt: skip
"""What all rows that checks read have."""
_FALL: Final[Mapping[str, Any]] = {
    "day": pl.Date, "cvr_before": pl.Float64, "cvr_after": pl.Float64,
    "page": pl.List(pl.Struct({"field": pl.String, "old": pl.String, "new": pl.String})),
}  # fmt: skip


def around_of(window: Window) -> Window:
    """The window with the days before it that a change on its first day is compared with."""
    return Window(window.first - timedelta(days=listings.SIDE_DAYS), window.last)


def page_changes(facts: Facts, look: Look) -> pl.DataFrame:
    """What changed on product pages in the window: see `core.listings.page_changes`."""
    window = look.window

    def make() -> pl.DataFrame:
        pages = product_frames.listings(facts, look.account.id, around_of(window))
        return listings.page_changes(pages).filter(pl.col("day").is_between(window.first, window.last))

    return facts.kept("page changes", look.account.id, make, window)


def falls(facts: Facts, look: Look) -> pl.DataFrame:
    """Products whose conversion fell at a page change of the window: day, cvr_before, cvr_after, page (what changed)."""
    account, window = look.account, look.window
    changes = page_changes(facts, look)
    if changes.is_empty():
        return pl.DataFrame(schema={**COMMON, **_FALL})
    around = look.at(around_of(window))
    daily = _days(facts, around, changes["product_id"].unique())
    sold = daily.group_by("product_id").agg(pl.col("clicks", "orders", "spend", "sales").sum())
    titles = product_frames.catalog(facts, account.id).select("product_id", pl.col("title").cast(pl.String))
    named = (
        product_frames.skus(facts, account.id)
        .with_columns(pl.col("sku").cast(pl.String))
        .join(sold, on="product_id")
        .join(titles, on="product_id", how="left")
    )
    newest = facts.newest_day(account.id) or window.last
    mature = min(window.last, newest - timedelta(days=account.maturing_days))
    page = changes.group_by("product_id", "day", maintain_order=True).agg(
        page=pl.struct("field", "old", "new")
    )
    found = listings.falls(daily, changes, mature).join(
        page, on=["product_id", "day"], maintain_order="left"
    ).join(named, on="product_id", maintain_order="left")  # fmt: skip
    return found.select(
        row_id=pl.col("sku").str.head(64), name="sku", where=pl.col("title").fill_null(""), stake="stake",
        campaign=pl.lit(""), ad_group=pl.lit(""), target="sku", match_type=pl.lit(""),
    ).hstack(
        found.select(
            *((pl.col(name) if name in named.columns else pl.lit(0)).cast(pl.Int64).alias(name) for name in MEASURES),
            *_FALL,
        )
    )  # fmt: skip


def _days(facts: Facts, around: Look, products: pl.Series) -> pl.DataFrame:
    """By day (a sum of several says nothing of before and after) what ads of the part did for products whose page changed."""
    if not around.part:
        return product_frames.product_days(facts, around.account.id, around.window, products)
    rows = product_frames.placed_products(facts, around.account.id, around.window).filter(
        (pl.col("first_day") == pl.col("day")) & pl.col("product_id").is_in(products.implode())
    )
    return (
        around.within(facts, rows)
        .group_by("product_id", "day")
        .agg(pl.col("clicks", "orders", "spend", "sales").sum())
    )
