"""What leaves Catalog as files, for pages, the workbook and the command line alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Final

import polars as pl

from nimbus_reef.analysis.catalog import ads, families, gaps, pages, structure
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import evidence
from nimbus_reef.core import gaps as gap_rules
from nimbus_reef.core.model import MICRO
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.reading.facts import TARGET_SOURCES, Facts

RESTS: Final[Mapping[str, str]] = {
    gap_rules.OWN: "what its ads sold in the 30 days before",
    gap_rules.FAMILY: "average of another variation’s ads",
    "": "",
}
"""What the likely cost of an ineligible product rests on."""


def families_table(rows: pl.DataFrame) -> Table:
    """Children of families as a file."""
    ordered = rows.sort(["family", "spend"], descending=[False, True])
    frame = ordered.select(
        "family",
        "family_name",
        "sku",
        "title",
        "share_spend",
        "share_sales",
        "index",
        pl.col("spend", "sales", "sold") / MICRO,
        "clicks",
        "orders",
        "cvr",
        "acos",
        "verdict",
        "own_test",
        "costly_child",
        pl.col("excess") / MICRO,
    )
    return Table("families", frame, {"spend": "0.00", "sales": "0.00", "sold": "0.00", "excess": "0.00"})


def ads_table(rows: pl.DataFrame) -> Table:
    """Product ads as a file."""
    frame = rows.select(
        pl.col("campaign", "ad_group", "sku").cast(pl.String),
        "title",
        "running",
        "impressions",
        "clicks",
        pl.col("spend") / MICRO,
        "orders",
        "units",
        pl.col("sales") / MICRO,
        "cvr",
        "cpc",
        "acos",
        "needed_cvr",
        "p_over",
        "verdict",
        "own_test",
        "own_fault",
        evidence.counted_stake() / MICRO,
        "siblings",
        "beside_clicks",
        "beside_orders",
        pl.col("beside_spend") / MICRO,
        pl.col("beside_sales") / MICRO,
        "to_pause",
    )
    formats = {"spend": "0.00", "sales": "0.00", "stake": "0.00", "cvr": "0.0%", "acos": "0.0%", "cpc": "0.00"}
    return Table("product-ads", frame, formats)


def eligibility_table(rows: pl.DataFrame) -> Table:
    """Products that shoppers do not see, as a file."""
    frame = rows.select(
        "sku",
        "title",
        "status",
        "reason",
        "since",
        pl.col("cost").alias("missed ad sales per 30 days"),
        pl.col("rests_on").fill_null("").replace_strict(RESTS, return_dtype=pl.String).alias("rests on"),
        pl.col("shadow").alias("impressions go to"),
    )
    return Table("eligibility", frame, {"missed ad sales per 30 days": "0.00"})


def gaps_table(rows: pl.DataFrame) -> Table:
    """Products without ads as a file."""
    frame = rows.select(
        "sku",
        "title",
        "family",
        "launched",
        "fulfilment",
        "replaces",
        "total_orders",
        sales_per_30_days=pl.col("month"),
    )
    return Table("not-advertised", frame, {"sales_per_30_days": "0.00"})


def listings_table(rows: pl.DataFrame) -> Table:
    """Pages as a file."""
    frame = rows.select(
        "sku",
        "title",
        "images",
        "bullets",
        "rich_content",
        "brand_section",
        "rating",
        "reviews",
        pl.col("price") / MICRO,
        "in_stock",
        pl.col("lost").list.eval(pl.element().struct.field("field")).list.join(", "),
        "lost_on",
        pl.col("lacks").list.join(", "),
        "changed",
        "fell_on",
        wasted_per_30_days=pl.col("stake") / MICRO,
        spend_per_30_days="month",
    )
    return Table("listings", frame, {"wasted_per_30_days": "0.00", "spend_per_30_days": "0.00", "price": "0.00"})


def faults_table(rows: pl.DataFrame) -> Table:
    """What cannot be steered, as a file."""
    return Table("structure", rows.select("fault", "campaign", "ad_group", "count", "limit", "detail"), {})


def duplicates_table(rows: pl.DataFrame) -> Table:
    """Keywords bought twice, as a file."""
    if rows.is_empty():
        return Table("duplicates", pl.DataFrame({"target": []}, schema={"target": pl.String}), {})
    frame = rows.select(
        "target",
        pl.col("match_type", "main_product", "campaign", "ad_group").cast(pl.String),
        "twins",
        "keep",
        "keep_why",
        "clicks",
        "orders",
        pl.col("spend") / MICRO,
        pl.col("sales") / MICRO,
        "acos",
        "acos_by_evidence",
        pl.col("bid") / MICRO,
        "verdict",
    )
    return Table("duplicates", frame, {"spend": "0.00", "sales": "0.00", "bid": "0.00", "acos": "0.0%"})


FILES: Final[Mapping[str, Callable[[Facts, Selection], Table]]] = {
    "families": lambda facts, selection: families_table(families.children(facts, selection)),
    "ads": lambda facts, selection: ads_table(
        ads.listed(facts, selection).sort("stake", descending=True, maintain_order=True)
    ),
    "eligibility": lambda facts, selection: eligibility_table(gaps.not_shown(facts, selection)),
    "gaps": lambda facts, selection: gaps_table(gaps.unadvertised(facts, selection)),
    "listings": lambda facts, selection: listings_table(pages.listed(facts, selection)),
    "structure": lambda facts, selection: faults_table(structure.faults(facts, selection)),
    "duplicates": lambda facts, selection: duplicates_table(structure.duplicates(facts, selection)),
}
"""Every table of the area, whole."""
NEEDS: Final[Mapping[str, tuple[str, ...]]] = {
    "families": ("product_ad_daily",),
    "ads": ("product_ad_daily",),
    "eligibility": ("product_ad_daily", "product_sales_daily"),
    "gaps": ("product_sales_daily",),
    "listings": ("listings",),
    "structure": TARGET_SOURCES,
    "duplicates": TARGET_SOURCES,
}
"""Reports of which any one makes a table."""
