"""Products whose conversion fell when their page changed, as a check reads them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import listings
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

COMMON: Final[Mapping[str, Any]] = {
    "row_id": pl.String,
    "name": pl.String,
    "where": pl.String,
    "stake": pl.Int64,
    "campaign": pl.String,
    "ad_group": pl.String,
    "target": pl.String,
    "match_type": pl.String,
    **dict.fromkeys(MEASURES, pl.Int64),
}
"""What all rows that checks read have."""
_FALL: Final[Mapping[str, Any]] = {
    "day": pl.Date,
    "cvr_before": pl.Float64,
    "cvr_after": pl.Float64,
    "page": pl.List(pl.Struct({"field": pl.String, "old": pl.String, "new": pl.String})),
}


def around_of(selection: Selection) -> Window:
    """The window with the days before it that a change on its first day is compared with."""
    window = selection.window
    return Window(window.first - timedelta(days=selection.account.settings.fall_days), window.last)


def page_changes(facts: Facts, selection: Selection) -> pl.DataFrame:
    """What changed on product pages since the window began, up to the newest load: see `core.listings.page_changes`."""
    window = selection.window

    def make() -> pl.DataFrame:
        since = Window(around_of(selection).first, date.max)
        pages = product_frames.listings(facts, selection.account.id, since)
        return listings.page_changes(pages).filter(pl.col("day") >= window.first)

    return facts.kept("page changes", selection.account.id, make, window)


def falls(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Products whose conversion fell at a page change of the window: day, cvr_before, cvr_after, page
    (what changed).
    """
    account, window = selection.account, selection.window
    changes = page_changes(facts, selection)
    if changes.is_empty():
        return pl.DataFrame(schema={**COMMON, **_FALL})
    around = selection.at(around_of(selection))
    daily = _days(facts, around, changes["product_id"].unique())
    sold = daily.group_by("product_id").agg(pl.col("clicks", "orders", "spend", "sales").sum())
    titles = product_frames.catalog(facts, account.id).select("product_id", pl.col("title").cast(pl.String))
    named = (
        product_frames.skus(facts, account.id)
        .with_columns(pl.col("sku").cast(pl.String))
        .join(sold, on="product_id")
        .join(titles, on="product_id", how="left")
    )
    mature = min(window.last, _mature(facts, selection))
    page = changes.group_by("product_id", "day", maintain_order=True).agg(page=pl.struct("field", "old", "new"))
    found = (
        listings.falls(daily, changes, mature, account.settings.fall_days)
        .join(page, on=["product_id", "day"], maintain_order="left")
        .join(named, on="product_id", maintain_order="left")
    )
    return found.select(
        row_id=pl.col("sku").str.head(64),
        name="sku",
        where=pl.col("title").fill_null(""),
        stake="stake",
        campaign=pl.lit(""),
        ad_group=pl.lit(""),
        target="sku",
        match_type=pl.lit(""),
    ).hstack(
        found.select(
            *((pl.col(name) if name in named.columns else pl.lit(0)).cast(pl.Int64).alias(name) for name in MEASURES),
            *_FALL,
        )
    )


_CHANGED_WITHIN: Final = timedelta(days=60)


def _mature(facts: Facts, selection: Selection) -> date:
    newest = facts.newest_day(selection.account.id) or selection.window.last
    return newest - timedelta(days=selection.account.maturing_days)


@dataclass(frozen=True, slots=True)
class Watched:
    """
    What a product's conversion did since its fall was ticked off: clicks and orders from the last change of its page
    until then (`before`; of as many days as a fall is told by where none is held), and since then, up to the last day
    whose sales are complete.
    """

    before: tuple[int, int]
    after: tuple[int, int]
    repaired: listings.Repaired


def watched(facts: Facts, selection: Selection, done: Mapping[str, date]) -> dict[str, Watched]:
    """
    Products, by SKU, whose fall was ticked off on a day: what all of their ads did since; none that
    had no ads by day.
    """
    if not done:
        return {}
    side = timedelta(days=selection.account.settings.fall_days)
    last = max(_mature(facts, selection), *done.values())
    skus = product_frames.skus(facts, selection.account.id).with_columns(pl.col("sku").cast(pl.String))
    asked = skus.join(pl.DataFrame({"sku": list(done), "done": list(done.values())}), on="sku")
    window = Window(min(done.values()) - side - _CHANGED_WITHIN, last)
    changed = (
        listings.page_changes(product_frames.listings(facts, selection.account.id, window))
        .join(asked, on="product_id")
        .filter(pl.col("day") < pl.col("done"))
        .group_by("product_id")
        .agg(fell=pl.col("day").max())
    )
    asked = asked.join(changed, on="product_id", how="left").with_columns(
        pl.col("fell").fill_null(pl.col("done") - side)
    )
    daily = product_frames.product_days(facts, selection.account.id, window, asked["product_id"], ("clicks", "orders"))
    after = pl.col("day") >= pl.col("done")
    sums = (
        daily.join(asked, on="product_id")
        .filter(pl.col("day") >= pl.col("fell"), ~after | (pl.col("day") <= _mature(facts, selection)))
        .group_by("sku", after=after)
        .agg(pl.col("clicks", "orders").sum())
    )
    by_key = {(sku, late): (clicks, orders) for sku, late, clicks, orders in sums.rows()}
    return {
        sku: Watched(before, then, listings.repaired(before, then))
        for sku in {each for each, _ in by_key}
        for before, then in [(by_key.get((sku, False), (0, 0)), by_key.get((sku, True), (0, 0)))]
    }


def _days(facts: Facts, around: Selection, products: pl.Series) -> pl.DataFrame:
    """
    By day (a sum of several says nothing of before and after) what ads of the part did for products
    whose page changed.
    """
    if not around.part:
        return product_frames.product_days(facts, around.account.id, around.window, products)
    ads = product_frames.named_ads(facts, around.account.id, around.window).filter(
        pl.col("product_id").is_in(products.implode())
    )
    asked = around.within(facts, ads).select("product_ad_id", "product_id")
    days = product_frames.ad_days(facts, around.account.id, around.window, asked)
    return days.filter(pl.col("first_day") == pl.col("day"))
