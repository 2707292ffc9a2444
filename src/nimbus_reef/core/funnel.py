"""The shopper's path against the market: shares of each stage, and where they fall ("Query funnel")."""

from __future__ import annotations

from itertools import pairwise
from typing import Final

import polars as pl

from nimbus_reef.core.metrics import METRICS, SHOP_METRICS
from nimbus_reef.core.words import normal_forms, words

STAGES: Final = ("impressions", "clicks", "cart_adds", "purchases")
FEWEST_DUE: Final = 5
ABANDONED: Final = "cart abandonment"
COUNTS: Final = tuple(f"{who}_{stage}" for who in ("market", "own") for stage in STAGES)


def by_query(rows: pl.DataFrame) -> pl.DataFrame:
    """
    Sums of a brand's rows by query: query (as most often searched), `COUNTS`, search_volume (mean of its weeks), in
    order.

    rows: week rows with day, query and the counts, and product_id where they are of single products. Spellings of one
    normal form are one query. Rows of several products share one market: in a week its counts stand in each of them,
    and count once.
    """
    market = [name for name in COUNTS if name.startswith("market_")]
    own = [name for name in COUNTS if name.startswith("own_")]
    whose = ["product_id"] if "product_id" in rows.columns else []
    spelt = rows.with_columns(normal=normal_forms(rows["query"])).sort("day", "query")
    by_product = spelt.group_by("normal", "day", *whose, maintain_order=True).agg(
        pl.col(COUNTS).cast(pl.Int64).sum(), pl.col("search_volume").sum()
    )
    weeks = by_product.group_by("normal", "day", maintain_order=True).agg(
        pl.col(own).sum(), pl.col(*market, "search_volume").max()
    )
    names = (
        spelt.group_by("normal", "query", maintain_order=True)
        .agg(pl.col("search_volume").cast(pl.Int64).sum())
        .sort("search_volume", "query", descending=[True, False])
        .group_by("normal", maintain_order=True)
        .agg(pl.col("query").first())
    )
    sums = weeks.group_by("normal", maintain_order=True).agg(pl.col(COUNTS).sum(), pl.col("search_volume").mean())
    return sums.join(names, on="normal").select("query", *COUNTS, "search_volume").sort("query")


def shares(rows: pl.DataFrame) -> pl.DataFrame:
    """
    Our share of each stage, and the stage at which most of it is lost.

    rows: `COUNTS`, summed over weeks wholly inside the window. Adds share_… per stage
    (own/market, null without a market), fall_… = share/share of the stage before, and lost_at:
    the stage with the smallest fall, null where no fall is known; thin: our share of the stage
    before would have brought under five there, so luck may have done it.
    """
    share = {
        stage: pl.when(pl.col(f"market_{stage}") > 0).then(pl.col(f"own_{stage}") / pl.col(f"market_{stage}"))
        for stage in STAGES
    }
    out = rows.with_columns(**{f"share_{stage}": expr for stage, expr in share.items()})
    falls, due = {}, {}
    for before, stage in pairwise(STAGES):
        base = pl.col(f"share_{before}")
        falls[f"fall_{stage}"] = pl.when(base > 0).then(pl.col(f"share_{stage}") / base)
        due[stage] = base * pl.col(f"market_{stage}")
    out = out.with_columns(**falls)
    least = pl.min_horizontal(*falls)
    lost = pl.coalesce(*(pl.when(pl.col(name) == least).then(pl.lit(name[5:])) for name in falls))
    out = out.with_columns(lost_at=pl.when(least.is_not_null()).then(lost), fall=least)
    expected = pl.coalesce(*(pl.when(pl.col("lost_at") == stage).then(count) for stage, count in due.items()))
    return out.with_columns(thin=(expected < FEWEST_DUE).fill_null(True))


def rates(row: dict[str, int], who: str) -> dict[str, float | None]:
    """CTR, cart rate, purchase rate and cart abandonment of one summed row, by key; who: own or market."""
    sums = {stage: float(row[f"{who}_{stage}"]) for stage in STAGES}
    found = {metric.key: metric.value(sums) for metric in (METRICS["ctr"], *SHOP_METRICS)}
    bought = found["purchase_rate"]
    return {**found, ABANDONED: None if bought is None else 1 - bought}


def missing_words(query: str, titles: frozenset[str]) -> tuple[str, ...]:
    """The words of a query that stand in no own title; titles: all words of all own titles."""
    return tuple(word for word in words(query) if word not in titles)
