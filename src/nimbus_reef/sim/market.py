"""What all sellers together get from a search, beside what this brand gets of it, week by week."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.sim.trade import Trade
from nimbus_reef.sim.world import World

_QUERIES: Final = 70
_ORGANIC: Final = 0.9
"""Looks, clicks and orders that come without an ad, for each that comes with one."""
_CARTS_WITHOUT_ORDER: Final = 0.1
_LEAKS: Final = ("clicks", "cart_adds", "purchases")


def funnel(world: World, trade: Trade, seed: int, last_day: date) -> pl.DataFrame:
    """
    Query funnel rows of the largest queries, each week that lies wholly in the days.

    Own figures are what really happened in the world, and as much again without ads. The market
    is drawn around them: a share of looks per query, and the market's own rates from there on.
    """
    rng = np.random.default_rng([seed, 13, *world.spec.key.encode()])
    own = _own(world, trade, last_day, rng)
    queries = world.queries.filter(pl.col("misspelt") == "").sort("volume", descending=True).head(_QUERIES)
    share = rng.beta(2.2, 9.0, len(queries)) + 0.02
    rates = {"clicks": 1.0, "cart_adds": 1.0, "purchases": 1.0}
    marked = queries.with_columns(
        share=pl.Series(share),
        # At one stage of each query the market does better than we do; which one differs.
        stage=pl.Series(rng.choice(_LEAKS, len(queries), p=(0.5, 0.3, 0.2))),
        lead=pl.Series(rng.uniform(1.25, 2.0, len(queries))),
    ).select(pl.col("query_no").cast(pl.Int64), pl.col("text").alias("query"), "share", "stage", "lead", "volume")
    frame = own.join(marked, on="query_no").sort("week", "volume", descending=[False, True])
    market = {"impressions": frame["own_impressions"].to_numpy() / frame["share"].to_numpy()}
    before = "impressions"
    for name in rates:
        mine, mine_before = (frame[f"own_{each}"].to_numpy() for each in (name, before))
        usual = frame[f"usual_{name}"].to_numpy()
        leads = np.where(frame["stage"].to_numpy() == name, frame["lead"].to_numpy(), 1.0)
        rate = np.minimum(0.95, usual * leads * rng.lognormal(0, 0.04, len(frame)))
        # Nobody in the market has more than the market, and it is never without the rest.
        market[name] = np.maximum(market[before] * rate, mine + (mine_before > 0))
        before = name
    counted = {f"market_{name}": np.ceil(values).astype(np.int64) for name, values in market.items()}
    return frame.with_columns(
        **{name: pl.Series(values) for name, values in counted.items()},
        search_volume=(pl.col("volume") * 7).round().cast(pl.Int64),
    ).select(
        "week",
        "query",
        "search_volume",
        *counted,
        *(f"own_{name}" for name in ("impressions", "clicks", "cart_adds", "purchases")),
    )


def _own(world: World, trade: Trade, last_day: date, rng: np.random.Generator) -> pl.DataFrame:
    """query_no, week, own counts, and the rates that are usual in this brand (usual_…)."""
    first = last_day - timedelta(days=world.days - 1)
    monday = first + timedelta(days=-first.weekday() % 7)
    weeks = ((last_day - monday).days + 1) // 7
    query_of = world.pairs.select(pl.col("pair_no", "query_no").cast(pl.Int64))
    week = ((pl.col("day") - (monday - first).days) // 7).alias("number")
    key = ["query_no", "number"]
    shown = trade.shown.join(query_of, on="pair_no").group_by("query_no", week).agg(pl.col("impressions").sum())
    clicked = (
        trade.clicked.with_columns(pl.col("pair_no").cast(pl.Int64), pl.col("day").cast(pl.Int64))
        .join(query_of, on="pair_no")
        .group_by("query_no", week)
        .agg(clicks=pl.len().cast(pl.Int64), orders=pl.col("ordered").sum())
    )
    frame = (
        shown.join(clicked, on=key, how="left")
        .with_columns(pl.col("clicks", "orders").fill_null(0))
        .filter(pl.col("number").is_between(0, weeks - 1))
        .sort(key)
    )
    own = {}
    for name, column in (("impressions", "impressions"), ("clicks", "clicks"), ("purchases", "orders")):
        ads = frame[column].to_numpy().astype(np.int64)
        own[f"own_{name}"] = ads + rng.poisson(ads * _ORGANIC)
    own["own_clicks"] = np.minimum(own["own_clicks"], own["own_impressions"])
    own["own_purchases"] = np.minimum(own["own_purchases"], own["own_clicks"])
    idle = own["own_clicks"] - own["own_purchases"]
    own["own_cart_adds"] = own["own_purchases"] + rng.binomial(idle, _CARTS_WITHOUT_ORDER)
    sums = {name: int(values.sum()) for name, values in own.items()}
    usual = {
        "usual_clicks": sums["own_clicks"] / max(1, sums["own_impressions"]),
        "usual_cart_adds": sums["own_cart_adds"] / max(1, sums["own_clicks"]),
        "usual_purchases": sums["own_purchases"] / max(1, sums["own_cart_adds"]),
    }
    return frame.with_columns(
        **{name: pl.Series(values) for name, values in own.items()},
        **{name: pl.lit(value) for name, value in usual.items()},
        week=pl.lit(monday) + pl.duration(days=7 * pl.col("number")),
    )
