"""What shoppers search for, and what of it is ours: the query funnel, query by query."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import funnel
from nimbus_reef.core.funnel import COUNTS
from nimbus_reef.core.words import words
from nimbus_reef.store.reading import market_frames, product_frames, target_frames
from nimbus_reef.store.reading.facts import Facts


class FunnelOf(StrEnum):
    """Whose searches a query funnel counts; the values are what pages say of it."""

    BRAND = ""
    PRODUCT = "of this product"
    PRODUCTS = "of the products with a loaded funnel"
    BRAND_FOR_PART = "of the whole brand: the query funnel of this product is not loaded"
    BRAND_ALONE = "of the whole brand: a query funnel knows no campaign, portfolio or format"


def weeks(facts: Facts, selection: Selection) -> tuple[pl.DataFrame, FunnelOf]:
    """
    The rows of whole weeks that answer a look, and whose they are. Rows of single products are never added to those of
    the brand: of a product its own where they are loaded, else the brand's; of the brand its own, else those of its
    products.
    """
    rows = market_frames.query_weeks(facts, selection.account.id, selection.window)
    of_brand, of_products = rows.filter(pl.col("sku").is_null()), rows.filter(pl.col("sku").is_not_null())
    if selection.part.product:
        mine = of_products.filter(pl.col("sku").cast(pl.String) == selection.part.product)
        return (mine, FunnelOf.PRODUCT) if len(mine) else (of_brand, FunnelOf.BRAND_FOR_PART)
    if selection.part:
        return of_brand, FunnelOf.BRAND_ALONE
    return (of_products, FunnelOf.PRODUCTS) if of_brand.is_empty() and len(of_products) else (of_brand, FunnelOf.BRAND)


def shares(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    One row per query of the window's weeks: counts, shares, lost_at, volume a week, missing (words in no own title),
    bought (ads brought clicks in the window). Kept.
    """
    account, window = selection.account, selection.window

    def make() -> pl.DataFrame:
        titles = product_frames.catalog(facts, account.id)["title"].cast(pl.String).to_list()
        titles += product_frames.listings(facts, account.id, window)["title"].cast(pl.String).unique().to_list()
        known = frozenset(word for title in titles for word in words(title))
        found = weeks(facts, selection)[0]
        rows = funnel.by_query(found)
        missing = [" ".join(funnel.missing_words(query, known)) for query in rows["query"].to_list()]
        paid = target_frames.term_sums(facts, account.id, window).filter(pl.col("clicks") > 0)["normal_id"]
        bought = found.filter(pl.col("normal_id").is_in(paid.cast(found.schema["normal_id"]).implode()))["query"]
        return funnel.shares(rows).with_columns(
            missing=pl.Series(missing, dtype=pl.String), bought=pl.col("query").is_in(bought.unique().implode())
        )

    return facts.kept("query shares", account.id, make, window, selection.part.product)


def totals(facts: Facts, selection: Selection) -> Mapping[str, int]:
    """Own and market counts over the weeks inside the window, all queries."""
    rows = funnel.by_query(weeks(facts, selection)[0])
    return {name: int(rows[name].sum()) for name in COUNTS}


_COUNTED: Final = ("own_clicks", "own_cart_adds")


def months(facts: Facts, selection: Selection) -> Mapping[str, Mapping[str, float]]:
    """What peer months of cart and purchase rate weigh: the counted weeks' own clicks, own cart adds."""
    found = (
        weeks(facts, selection)[0]
        .group_by(pl.col("day").dt.strftime("%Y-%m").alias("month"))
        .agg(pl.col(_COUNTED).sum())
        .sort("month")
    )
    return {
        name.removeprefix("own_"): dict(found.select("month", pl.col(name).cast(pl.Float64)).rows())
        for name in _COUNTED
    }
