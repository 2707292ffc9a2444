"""For how many phrases each product is seen by ads and by rank, beside what it converts and the next sale event."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import market
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import evidence, keyword_coverage
from nimbus_reef.core.keyword_coverage import CoverageGoals
from nimbus_reef.core.market_fit import SEEN_WITHIN
from nimbus_reef.store.reading import delivery_frames, market_frames, product_frames
from nimbus_reef.store.reading.facts import Facts

NEAR: Final = timedelta(days=60)
"""A sale event that begins later is not named."""


@dataclass(frozen=True, slots=True)
class NextEvent:
    """A sale event that begins soon."""

    name: str
    first: date
    days: int


def rows(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Families, each counted once: row_id (family), name, sku (of the product that ranks for most), products, category,
    age (days since its first product was launched), phrases (of keyword lists of its category), ranked (for which one
    of its items ranks within 40), first_page (within 10), shown (with an ad), both, clicks, orders (ads, in the
    window), cvr, cohort_cvr, p_worse, goal, advice; the largest gap to the goal first. Kept.
    """

    def make() -> pl.DataFrame:
        account_id, as_of = selection.account.id, market.as_of(selection)
        catalog = _families(facts, selection)
        families = catalog.group_by("family", maintain_order=True).agg(
            products=pl.len().cast(pl.Int64),
            category=pl.col("category").drop_nulls().first(),
            age=(pl.lit(as_of) - pl.col("launched").min()).dt.total_days(),
            first_sku=pl.col("sku").first(),
        )
        names = product_frames.family_names(facts, account_id)
        seen = _seen(facts, selection, catalog)
        sold = _sold(facts, selection)
        asked = market.phrases(facts, selection).filter("listed").group_by("category").agg(phrases=pl.len())
        counts = ("ranked", "first_page", "shown", "both", "clicks", "orders")
        found = (
            families.join(seen, on="family", how="left", maintain_order="left")
            .join(sold, on="family", how="left", maintain_order="left")
            .join(asked, on="category", how="left", maintain_order="left")
            .with_columns(pl.col(counts).fill_null(0), pl.col("phrases").fill_null(0))
            .with_columns(
                row_id="family",
                name=pl.col("family").replace_strict(names, default=None, return_dtype=pl.String),
                sku=pl.coalesce("best_sku", "first_sku"),
                goal=pl.min_horizontal(keyword_coverage.goal(_goals(selection)), "phrases"),
            )
        )
        worse = evidence.probability_over(*(found[name].to_numpy() for name in ("cohort_cvr", "a", "b")))
        return (
            found.with_columns(p_worse=pl.when(pl.col("a").is_not_null()).then(pl.Series(worse)))
            .with_columns(
                name=pl.coalesce("name", "sku"), advice=keyword_coverage.advice(), gap=pl.col("goal") - pl.col("ranked")
            )
            .drop("a", "b", "first_sku", "best_sku")
            .sort(["gap", "row_id"], descending=[True, False])
        )

    of = (*market.key(selection), selection.window, selection.account.settings)
    found = facts.kept("coverage", selection.account.id, make, *of)
    if not selection.part:
        return found
    families = _families(facts, selection)
    looked_at = selection.products_only.within(facts, families)["family"]
    return found.filter(pl.col("family").is_in(looked_at.unique().implode()))


def _families(facts: Facts, selection: Selection) -> pl.DataFrame:
    """family, item, sku, category, launched of each product."""
    return product_frames.catalog(facts, selection.account.id).select(
        pl.coalesce("parent", "item", "sku").cast(pl.String).alias("family"),
        pl.col("item", "sku", "category").cast(pl.String),
        "launched",
    )


def _goals(selection: Selection) -> CoverageGoals:
    of = selection.account.settings
    return CoverageGoals(of.coverage_young, of.coverage_year, of.coverage_old)


def _seen(facts: Facts, selection: Selection, catalog: pl.DataFrame) -> pl.DataFrame:
    """family, ranked, first_page, shown, both, best_sku."""
    ranks = market_frames.newest_ranks(facts, selection.account.id, market.as_of(selection))
    own = ranks.join(catalog.select("item", "family", "sku").drop_nulls("item"), on="item")
    phrases = own.group_by("family", "normal_id").agg(
        rank=pl.col("organic").min(), ad=pl.col("sponsored").is_not_null().any()
    )
    within, ad = pl.col("rank") <= SEEN_WITHIN, pl.col("ad")
    best = (
        own.filter(pl.col("organic") <= SEEN_WITHIN)
        .group_by("family", "sku")
        .len()
        .sort(["len", "sku"], descending=[True, False])
        .unique("family", keep="first", maintain_order=True)
    )
    return (
        phrases.group_by("family")
        .agg(
            ranked=within.sum().cast(pl.Int64),
            first_page=(pl.col("rank") <= 10).sum().cast(pl.Int64),
            shown=ad.sum().cast(pl.Int64),
            both=(within & ad).sum().cast(pl.Int64),
        )
        .join(best.select("family", best_sku="sku"), on="family", how="left")
    )


def _sold(facts: Facts, selection: Selection) -> pl.DataFrame:
    """family, clicks, orders, cvr, cohort_cvr, a, b: what it converts by ads, drawn to its category."""
    ads = product_frames.ad_rows(facts, selection.account.id, selection.window)
    sums = (
        ads.group_by("family", "category")
        .agg(pl.col("clicks", "orders", "sales").cast(pl.Int64).sum())
        .drop_nulls("family")
        .sort("family")
        .unique("family", keep="first", maintain_order=True)
    )
    if sums.is_empty():
        schema = {"family": pl.String, "clicks": pl.Int64, "orders": pl.Int64}
        return pl.DataFrame(schema=schema | dict.fromkeys(("cvr", "cohort_cvr", "a", "b"), pl.Float64))
    n, k = pl.col("clicks"), pl.min_horizontal("orders", "clicks")
    return evidence.with_priors(sums, ("category",)).select(
        "family",
        "clicks",
        "orders",
        cvr=pl.when(n > 0).then(pl.col("orders") / n),
        cohort_cvr="cohort_cvr",
        a=pl.col("prior_a") + k,
        b=pl.col("prior_b") + n - k,
    )


def next_event(facts: Facts, selection: Selection) -> NextEvent | None:
    """The sale event that begins next, within two months of the newest ranks."""
    today = market.as_of(selection)
    for name, first, country in (
        delivery_frames.events(facts, selection.account.id).select("name", "from", "country").rows()
    ):
        here = not country or country == selection.account.country
        if here and today < first <= today + NEAR:
            return NextEvent(name, first, (first - today).days)
    return None
