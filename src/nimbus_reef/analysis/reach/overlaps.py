"""Own against own: ads where we rank first, two own products on one phrase, what ranks did after ads stopped."""

from __future__ import annotations

from datetime import timedelta
from typing import Final

import polars as pl

from nimbus_reef.analysis.reach import market
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.market_fit import SEEN_WITHIN
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.own_overlaps import OwnOverlap
from nimbus_reef.core.windows import month_factor
from nimbus_reef.store.reading import market_frames, product_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

_QUIET: Final = timedelta(days=14)
"""Ads have stopped where they brought no click for so long."""
_LEAST_CLICKS: Final = 5
"""Ads that brought fewer clicks before had little to stop."""


def rows(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Phrases on which we compete with ourselves, once for each way: row_id, normal_id, phrase, overlap, sku, category,
    volume, own_rank, items (own items that rank within 40), skus (which, the best first, with their ranks), buying
    (products that ads buy it for, with their clicks), spend, sales
    (by ads in 30 days, units), paid_clicks, paid_orders, free_clicks, free_orders (in 90 days), before (own rank before
    ads stopped), stopped (day of the last click by ads); the most spend first. Kept.
    """

    def make() -> pl.DataFrame:
        every = market.phrases(facts, selection).join(_paid(facts, selection), on="normal_id", how="left")
        own = _own_ranks(facts, selection)
        here = (
            every.join(own, on="normal_id", how="left")
            .join(_buying(facts, selection), on="normal_id", how="left")
            .with_columns(pl.col("items", "buyers").fill_null(0), pl.col("spend", "sales").fill_null(0.0))
        )
        first = here.filter(
            pl.col("own_rank") <= selection.account.settings.first_rank, pl.col("own_clicks") > 0, pl.col("spend") > 0
        )
        two = here.filter((pl.col("items") > 1) | (pl.col("buyers") > 1))
        stopped = here.join(_stopped(facts, selection), on="normal_id")
        parts = [
            part.with_columns(overlap=pl.lit(what.value))
            for what, part in (
                (OwnOverlap.PAID_FIRST, first),
                (OwnOverlap.TWO_ITEMS, two),
                (OwnOverlap.STOPPED, stopped),
            )
        ]
        return (
            pl.concat(parts, how="diagonal")
            .with_columns(
                row_id=pl.concat_str("normal_id", pl.lit("/"), pl.col("overlap").str.slice(0, 3)),
                sku=pl.col("sku").cast(pl.String),
                paid_clicks="own_clicks",
                paid_orders="own_orders",
            )
            .select(_COLUMNS)
            .sort(["spend", "volume", "row_id"], descending=[True, True, False], nulls_last=True)
        )

    of = (*market.key(selection), selection.window, selection.account.settings)
    return selection.products_only.within(facts, facts.kept("own against own", selection.account.id, make, *of))


_COLUMNS: Final = (
    *(
        "row_id",
        "normal_id",
        "phrase",
        "overlap",
        "sku",
        "category",
        "volume",
        "own_rank",
        "items",
        "skus",
        "spend",
        "buying",
    ),
    *("sales", "paid_clicks", "paid_orders", "free_clicks", "free_orders", "before", "stopped"),
)


def _paid(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, spend, sales: by ads in 30 days, units."""
    account_id, window = selection.account.id, selection.window
    factor = month_factor(facts.monthly_days(account_id, "search_term_daily", window)) / MICRO
    sums = target_frames.term_sums(facts, account_id, window).group_by("normal_id")
    money = sums.agg(pl.col("spend", "sales").cast(pl.Int64).sum() * factor)
    return money.with_columns(pl.col("normal_id").cast(pl.UInt32))


def _own_ranks(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, items, skus."""
    account_id = selection.account.id
    every = product_frames.catalog(facts, account_id).select(pl.col("item", "sku").cast(pl.String)).drop_nulls("item")
    # One page may be sold under several SKUs.
    mine = every.sort("sku").unique("item", keep="first", maintain_order=True)
    ranks = market_frames.newest_ranks(facts, account_id, market.as_of(selection))
    within = ranks.filter(pl.col("organic") <= SEEN_WITHIN).join(mine, on="item").sort("normal_id", "organic", "sku")
    told = pl.concat_str("sku", pl.lit(" "), pl.col("organic").round().cast(pl.Int64).cast(pl.String))
    return within.group_by("normal_id", maintain_order=True).agg(
        items=pl.len().cast(pl.Int64), skus=told.str.join(", ")
    )


def _buying(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, buyers (products whose ad groups bought it often enough to tell), buying (which, and how often)."""
    account_id, days = selection.account.id, market.window(selection)
    main = target_frames.advertised_products(facts, account_id, days).select("ad_group_id", sku="main_product")
    clicks = (
        target_frames.term_sums(facts, account_id, days)
        .join(main, on="ad_group_id")
        .group_by("normal_id", "sku")
        .agg(pl.col("clicks").cast(pl.Int64).sum())
        .filter(pl.col("clicks") >= _LEAST_CLICKS)
        .sort(["clicks", "sku"], descending=[True, False])
    )
    told = pl.concat_str("sku", pl.lit(" "), pl.col("clicks").cast(pl.String))
    sums = clicks.group_by("normal_id", maintain_order=True).agg(
        buyers=pl.len().cast(pl.Int64), buying=told.str.join(", ")
    )
    return sums.with_columns(pl.col("normal_id").cast(pl.UInt32))


def _stopped(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    normal_id, stopped, before: phrases whose ads brought clicks once and for two weeks or more none, though reports of
    search terms go on; before is the own rank of the newest list up to the last click.
    """
    account_id, days = selection.account.id, market.window(selection)
    last = market_frames.last_clicks(facts, account_id, days)
    gone = last.filter(pl.col("last_click") <= days.last - _QUIET, pl.col("clicks") >= _LEAST_CLICKS)
    own = product_frames.catalog(facts, account_id)["item"].cast(pl.String).drop_nulls().unique()
    lists = market_frames.rank_days(facts, account_id, own.sort().to_list(), market.as_of(selection))
    then = lists.join(gone, on="normal_id").filter(pl.col("day") <= pl.col("last_click"))
    before = (
        then.filter(pl.col("day") == pl.col("day").max().over("normal_id"))
        .group_by("normal_id")
        .agg(before=pl.col("organic").min())
    )
    return gone.join(before, on="normal_id", how="left").select("normal_id", "before", stopped="last_click")
