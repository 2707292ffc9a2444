"""Product pages: what each lacks, what changed and when, and which to mend first by money."""

from __future__ import annotations

from typing import Final

import polars as pl

from nimbus_reef.analysis.falls import falls, page_changes
from nimbus_reef.analysis.lost_pages import lost
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import listings
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.windows import per_month
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

KIND: Final = "listings"
ADS: Final = "product_ad_daily"


def listed(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    The newest page of every product; pages do not mature, so the window does not matter: product_id, sku, what it
    shows, lost (what it showed
    before: see `core.listings.lost`) and lost_on, lacks (keys of `LACKS`, the gravest first), the measures of its ads,
    monthly spend, changed (its newest change since the window began, null for none), fell (conversion fell with a
    change) and stake (micro-units per 30 days that the fall wastes). What costs most first: what was lost, falls, then
    what is spent on pages that lack most.
    """
    return facts.kept(
        "listed pages", selection.account.id, lambda: _listed(facts, selection), *selection.judging, selection.part
    )


def _listed(facts: Facts, selection: Selection) -> pl.DataFrame:
    account, window = selection.account, selection.window

    def make() -> pl.DataFrame:
        pages = product_frames.newest_pages(facts, account.id, account.settings.fall_days)
        newest = pages.sort("day").group_by("product_id").last()
        changed = page_changes(facts, selection).group_by("product_id").agg(changed=pl.col("day").max())
        ads = product_frames.product_rows(facts, account.id, window).group_by("product_id").agg(pl.col(MEASURES).sum())
        skus = product_frames.skus(facts, account.id).with_columns(pl.col("sku").cast(pl.String))
        texts = pl.col("title", "rich_content", "brand_section", "in_stock").cast(pl.String)
        return (
            newest.join(skus, on="product_id")
            .join(ads, on="product_id", how="left")
            .join(changed, on="product_id", how="left")
            .with_columns(texts, pl.col(MEASURES).fill_null(0))
            .with_columns(lacks=listings.lacks(selection.account.settings.pages))
        )

    frame = facts.kept("pages", account.id, make, window, account.settings)
    fell = falls(facts, selection).select(sku=pl.col("name"), stake="stake", fell_on="day")
    value = facts.monthly_days(account.id, ADS, window)
    gone = lost(facts, selection.whole).select(sku="name", lost="lost", lost_on="since")
    rows = (
        frame.join(fell, on="sku", how="left")
        .join(gone, on="sku", how="left")
        .with_columns(
            pl.col("stake").fill_null(0),
            row_id=pl.col("sku").str.head(64),
            month=per_month(pl.col("spend") / MICRO, value),
            missing=pl.col("lacks").list.len(),
        )
    )
    if selection.part:
        here = selection.within(facts, product_frames.ad_rows(facts, account.id, window)).select("sku").unique()
        rows = rows.join(here.with_columns(pl.col("sku").cast(pl.String)), on="sku", how="semi")
    return rows.sort(
        [
            pl.col("lost").is_not_null(),
            pl.col("month") * pl.col("lost").is_not_null(),
            pl.col("stake"),
            pl.col("month") * (pl.col("missing") > 0),
            "missing",
            "sku",
        ],
        descending=[True, True, True, True, True, False],
    )
