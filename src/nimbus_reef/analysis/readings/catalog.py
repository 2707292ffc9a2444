"""Rows of what is advertised: product ads, families, eligibility, gaps, keywords bought twice."""

from __future__ import annotations

import polars as pl

from nimbus_reef.analysis.catalog import ads, families, gaps, structure
from nimbus_reef.analysis.falls import COMMON
from nimbus_reef.analysis.readings.register import named_rows, reads
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.windows import month_factor
from nimbus_reef.store.reading.facts import Facts


@reads(Reading.ADS)
def product_ads(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Product ads: to_pause, and what they stand beside."""
    rows = ads.listed(facts, selection)
    where = pl.concat_str(pl.col("campaign").cast(pl.String), pl.lit(" · "), pl.col("ad_group").cast(pl.String))
    return named_rows(
        rows.with_columns(name="sku", where=where),
        "verdict",
        "to_pause",
        "beside_orders",
        "beside_clicks",
        "siblings",
        "campaign_id",
        "ad_group_id",
    )


@reads(Reading.FAMILIES)
def listed_families(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Families: stake is what costly children cost beyond their share of sales; child, the costliest
    of them; pauses.
    """
    monthly = month_factor(facts.monthly_days(selection.account.id, families.KIND, selection.window))
    entries = []
    for family in families.listed(facts, selection):
        rows = family.rows
        worst = max((row for row in rows if row["costly_child"]), key=lambda row: row["excess"], default=None)
        entries.append(
            {
                "row_id": family.key,
                "name": family.name,
                "where": f"{len(family.children)} children",
                "stake": round(family.stake * monthly),
                "child": worst["sku"] if worst else "",
                "child_spend": worst["share_spend"] if worst else None,
                "child_sales": worst["share_sales"] if worst else None,
                "pauses": len(family.shift.pauses),
                **{name: sum(row[name] for row in rows) for name in MEASURES},
            }
        )
    schema = {
        "row_id": pl.String,
        "name": pl.String,
        "where": pl.String,
        "stake": pl.Int64,
        "child": pl.String,
        "child_spend": pl.Float64,
        "child_sales": pl.Float64,
        "pauses": pl.Int64,
        **dict.fromkeys(MEASURES, pl.Int64),
    }
    return named_rows(pl.DataFrame(entries, schema=schema), "child", "child_spend", "child_sales", "pauses")


@reads(Reading.INELIGIBLE)
def ineligible(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Ineligible products: reason, since (null where unknown), rests_on."""
    entries = [
        {
            "row_id": each.row["sku"],
            "name": each.row["sku"],
            "where": each.row["title"],
            "stake": round(each.cost * MICRO),
            "reason": each.row["reason"] or "no reason given",
            "since": each.since,
            "rests_on": each.rests_on,
            **{name: each.row[name] for name in MEASURES},
        }
        for each in gaps.ineligible(facts, selection)
    ]
    schema = {
        "row_id": pl.String,
        "name": pl.String,
        "where": pl.String,
        "stake": pl.Int64,
        "reason": pl.String,
        "since": pl.Date,
        "rests_on": pl.String,
        **dict.fromkeys(MEASURES, pl.Int64),
    }
    return named_rows(pl.DataFrame(entries, schema=schema), "reason", "since", "rests_on")


@reads(Reading.UNADVERTISED)
def unadvertised(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Products that sell without ads; their sales are those of all trade. replaces: the older SKU, null for none."""
    rows = gaps.unadvertised(facts, selection)
    return named_rows(
        rows.with_columns(
            name="sku", where="title", stake=pl.lit(0, pl.Int64), sales="total_sales", orders="total_orders"
        ),
        "replaces",
    )


@reads(Reading.DUPLICATES)
def duplicates(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Keywords bought in several places, a row each: stake is that of all but the one kept; kept, places."""
    rows = structure.duplicates(facts, selection)
    if rows.is_empty():
        return named_rows(pl.DataFrame(schema={**COMMON, "kept": pl.String, "places": pl.Int64}), "kept", "places")
    others = ~pl.col("keep")
    gathered = rows.group_by("group", maintain_order=True).agg(
        pl.col("target").first().alias("name"),
        pl.col("match_type").cast(pl.String).first(),
        pl.col("main_product").cast(pl.String).first(),
        pl.col("stake").filter(others).sum(),
        pl.col(MEASURES).sum(),
        pl.concat_str(pl.col("campaign").cast(pl.String), pl.lit(" · "), pl.col("ad_group").cast(pl.String))
        .first()
        .alias("kept"),
        pl.len().cast(pl.Int64).alias("places"),
    )
    where = pl.concat_str("match_type", pl.lit(" · "), "main_product")
    return named_rows(gathered.with_columns(where=where, row_id=pl.col("group")), "kept", "places")
