"""Products whose page lost something with the newest load, and their ad spend."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.falls import COMMON
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import listings
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import per_month
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

ADS: Final = "product_ad_daily"
_LOST: Final[Mapping[str, Any]] = {
    "spent": pl.Int64,
    "since": pl.Date,
    "lost": pl.List(pl.Struct({"field": pl.String, "old": pl.String, "new": pl.String})),
}


def lost(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Products of the part looked at whose page lost something, by the newest load whatever the window: what checks read,
    with lost (field, old, new), since and spent: what their ads cost per 30 days of the window, in micro-units; most
    first. Nothing of it is at stake for sure.
    """
    return facts.kept(
        "lost pages",
        selection.account.id,
        lambda: _lost(facts, selection),
        selection.window,
        selection.part,
        selection.account.settings,
    )


def _lost(facts: Facts, selection: Selection) -> pl.DataFrame:
    account, limits = selection.account, selection.account.settings
    frame = pl.concat(
        listings.lost(pages, limits.pages, limits.fall_days)
        for pages in (
            product_frames.newest_eligibility(facts, account.id, limits.fall_days),
            product_frames.newest_pages(facts, account.id, limits.fall_days),
        )
    )
    ads = selection.within(facts, product_frames.ad_rows(facts, account.id, selection.window))
    spent = ads.group_by(pl.col("sku").cast(pl.String)).agg(pl.col(MEASURES).sum().cast(pl.Int64))
    days = facts.monthly_days(account.id, ADS, selection.window)
    titles = product_frames.catalog(facts, account.id).select("product_id", pl.col("title").cast(pl.String))
    rows = (
        frame.group_by("product_id", maintain_order=True)
        .agg(pl.col("since").max(), lost=pl.struct("field", "old", "new"))
        .join(product_frames.skus(facts, account.id).with_columns(pl.col("sku").cast(pl.String)), on="product_id")
        .join(spent, on="sku", how="inner" if selection.part else "left")
        .join(titles, on="product_id", how="left")
        .with_columns(pl.col(MEASURES).fill_null(0))
        .with_columns(spent=per_month(pl.col("spend"), days).round().cast(pl.Int64))
        .sort(["spent", "sku"], descending=[True, False])
    )
    return (
        rows.select(
            row_id=pl.col("sku").str.head(64),
            name="sku",
            where=pl.col("title").fill_null(""),
            stake=pl.lit(0, pl.Int64),
            campaign=pl.lit(""),
            ad_group=pl.lit(""),
            target="sku",
            match_type=pl.lit(""),
        ).hstack(rows.select(*(pl.col(name).cast(pl.Int64) for name in MEASURES), *_LOST))
        if len(rows)
        else pl.DataFrame(schema={**COMMON, **_LOST})
    )
