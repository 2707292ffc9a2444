"""
The same reports as people download them: one sum for some days, with its dates or without, and a sheet
in which rows of several kinds stand together, told apart by a column.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date
from pathlib import Path
from typing import Final

import polars as pl

from nimbus_reef.core.model import MEASURES
from nimbus_reef.formats.tables import Sheet, SheetColumn, write_xlsx

_HEADS: Final = {
    "campaign": "Name of campaign",
    "campaign_id": "Campaign number",
    "ad_group": "Ad group",
    "sku": "Article",
    "target": "Bid on",
    "match_type": "Matching",
    "placement": "Where shown",
    "percent": "Percentage",
    "state": "State",
    "bid": "Bid",
    "daily_budget": "Budget per day",
    "format": "Ad type",
    "targeting": "Targeting",
    "impressions": "Times shown",
    "clicks": "Clicks",
    "spend": "Cost",
    "orders": "Purchases",
    "units": "Pieces",
    "sales": "Revenue",
}
_SHARES: Final = ("top_of_search_share", "impression_share", "impression_rank")
"""A sum of days tells their mean."""
TOLD_BY: Final = "What this row is"


def within(frame: pl.DataFrame, first: date, last: date) -> pl.DataFrame:
    """The days of a report that lie in a span."""
    return frame.filter(pl.col("date").is_between(first, last))


def one_sum(frame: pl.DataFrame, first: date, last: date) -> pl.DataFrame:
    """A report by day as one sum of a span: `from` and `to` in place of the day, a row a key."""
    measures = [name for name in (*MEASURES, *_trade(frame)) if name in frame.columns]
    shares = [name for name in _SHARES if name in frame.columns]
    keys = [name for name in frame.columns if name not in (*measures, *shares, "date")]
    of_keys = within(frame, first, last).group_by(keys, maintain_order=True)
    sums = of_keys.agg(pl.col(measures).sum().round(2), pl.col(shares).mean().round(4))
    return sums.select(pl.lit(first).alias("from"), pl.lit(last).alias("to"), *keys, *measures, *shares)


def _trade(frame: pl.DataFrame) -> list[str]:
    return [name for name in frame.columns if name.startswith("total_") or name == "sessions"]


def undated(frame: pl.DataFrame, first: date, last: date) -> pl.DataFrame:
    """The same sum without a word on its days."""
    return one_sum(frame, first, last).drop("from", "to")


def mixed(frames: Mapping[str, pl.DataFrame], first: date, last: date) -> pl.DataFrame:
    """
    One sheet with a row for each campaign, ad group, product, target, negative and placement: settings as
    they were on the last day, sums of the span beside those of products and targets. Only campaigns'
    rows have their name; the others have its number. No date.
    """
    settings = {kind: _as_on(frames[kind], last) for kind in ("campaigns", "targets") if kind in frames}
    campaigns = settings["campaigns"].sort("campaign").with_row_index("number", offset=70_001)
    numbers = campaigns.select("campaign", pl.col("number").cast(pl.String).alias("campaign_id"))
    parts = [
        campaigns.select(
            pl.lit("campaign").alias("what"),
            "campaign",
            pl.col("number").cast(pl.String).alias("campaign_id"),
            "state",
            "daily_budget",
            "format",
            "targeting",
        ),
        settings["targets"]
        .select("campaign", "ad_group")
        .unique(maintain_order=True)
        .select(
            pl.lit("ad group").alias("what"),
            "campaign",
            "ad_group",
            pl.lit("enabled").alias("state"),
            pl.lit(0.5).alias("bid"),
        ),
        undated(frames["product_ad_daily"], first, last).with_columns(what=pl.lit("product ad")),
        settings["targets"]
        .join(
            undated(frames["target_daily"], first, last),
            on=["campaign", "ad_group", "target", "match_type"],
            how="left",
        )
        .with_columns(what=pl.lit("keyword")),
        _negatives(settings["targets"]),
        _adjustments(campaigns),
    ]
    whole = pl.concat(parts, how="diagonal_relaxed").drop("campaign_id", strict=False)
    whole = whole.join(numbers, on="campaign", how="left", maintain_order="left")
    named = pl.when(pl.col("what") == "campaign").then("campaign")
    return whole.select(
        pl.col("what").alias(TOLD_BY),
        named.alias(_HEADS["campaign"]),
        *(pl.col(name).alias(head) for name, head in _HEADS.items() if name != "campaign" and name in whole.columns),
    )


def _as_on(frame: pl.DataFrame, last: date) -> pl.DataFrame:
    keys = [name for name in ("campaign", "ad_group", "target", "match_type") if name in frame.columns]
    return frame.filter(pl.col("date") <= last).sort("date").group_by(keys, maintain_order=True).last().drop("date")


def _negatives(targets: pl.DataFrame) -> pl.DataFrame:
    """A few searches that are kept away, one of them from a whole campaign."""
    some = targets.unique("campaign", maintain_order=True).head(4).with_row_index("number")
    return some.select(
        pl.lit("negative keyword").alias("what"),
        "campaign",
        pl.when(pl.col("number") > 0).then("ad_group").alias("ad_group"),
        pl.lit("free samples").alias("target"),
        pl.lit("exact").alias("match_type"),
        pl.lit("enabled").alias("state"),
    )


def _adjustments(campaigns: pl.DataFrame) -> pl.DataFrame:
    """What the first campaigns add to their bids at the top of search."""
    return campaigns.head(5).select(
        pl.lit("placement").alias("what"),
        "campaign",
        pl.lit("top of search").alias("placement"),
        pl.lit(25).alias("percent"),
    )


def write_workbook(path: Path, sheets: Mapping[str, pl.DataFrame]) -> Path:
    """A workbook with a sheet for each frame, dates as ISO text."""
    entries = []
    for name, frame in sheets.items():
        dated = frame.with_columns(pl.col(pl.Date).dt.to_string())
        entries.append(Sheet(name, [SheetColumn(header) for header in dated.columns], dated.rows()))
    with path.open("wb") as file:
        write_xlsx(file, entries)
    return path
