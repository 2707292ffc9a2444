"""How much of the searches was ours, as reports tell it: the top of search by target, impressions by search term."""

from __future__ import annotations

from typing import Final

import polars as pl

from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshots

_TOP: Final = "top_of_search_share"
_OF_SEARCHES: Final = ("impression_share", "impression_rank")


def _mean(name: str) -> pl.Expr:
    """The mean of a share over the days that tell it, weighted by impressions."""
    told = pl.col(name).is_not_null()
    shown = pl.col("impressions").cast(pl.Int64)
    return ((pl.col(name) * shown).sum() / shown.filter(told).sum()).alias(name)


def top_of_search(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """target_id, top_of_search_share, first, last (days that tell it) of targets whose report tells it in a window."""
    versions = facts.versions(account_id, "target_daily", window)

    def make() -> pl.DataFrame:
        rows = snapshots.read(facts.store, account_id, "target_daily", versions, ["target_id", "impressions", _TOP])
        told = rows.filter(pl.col(_TOP).is_not_null(), pl.col("impressions") > 0)
        return (
            told.group_by("target_id")
            .agg(_mean(_TOP), first=pl.col("day").min(), last=pl.col("day").max())
            .sort("target_id")
            .collect()
        )

    return facts.kept("top of search", account_id, make, window)


def of_searches(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """normal_id, impression_share, impression_rank, first, last of search terms whose report tells them."""
    versions = facts.versions(account_id, "search_term_daily", window)

    def make() -> pl.DataFrame:
        columns = ["target_term_id", "impressions", *_OF_SEARCHES]
        rows = snapshots.read(facts.store, account_id, "search_term_daily", versions, columns)
        told = rows.filter(pl.col("impression_share").is_not_null(), pl.col("impressions") > 0)
        names = target_frames.term_names(facts, account_id).select("target_term_id", "normal_id").lazy()
        return (
            told.join(names, on="target_term_id")
            .group_by("normal_id")
            .agg(*map(_mean, _OF_SEARCHES), first=pl.col("day").min(), last=pl.col("day").max())
            .with_columns(pl.col("normal_id").cast(pl.UInt32))
            .sort("normal_id")
            .collect()
        )

    return facts.kept("shares of searches", account_id, make, window)
