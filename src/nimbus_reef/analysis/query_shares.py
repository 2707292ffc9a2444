"""What shoppers search for, and what of it is ours: the query funnel, query by query."""

from __future__ import annotations

import polars as pl

from nimbus_reef.analysis.look import Look
from nimbus_reef.core import funnel
from nimbus_reef.core.words import words
from nimbus_reef.store.reading import market_frames, product_frames
from nimbus_reef.store.reading.facts import Facts


def shares(facts: Facts, look: Look) -> pl.DataFrame:
    """One row per query of the window's weeks: counts, shares, lost_at, volume a week, missing (words in no own title). Kept."""
    account, window = look.account, look.window

    def make() -> pl.DataFrame:
        titles = product_frames.catalog(facts, account.id)["title"].cast(pl.String).to_list()
        titles += (
            product_frames.listings(facts, account.id, window)["title"].cast(pl.String).unique().to_list()
        )
        known = frozenset(word for title in titles for word in words(title))
        rows = (
            market_frames.query_weeks(facts, account.id, window)
            .filter(pl.col("sku").is_null())
            .group_by("query")
            .agg(pl.col(funnel.COUNTS).cast(pl.Int64).sum(), pl.col("search_volume").mean())
            .sort("query")
        )
        missing = [" ".join(funnel.missing_words(query, known)) for query in rows["query"].to_list()]
        return funnel.shares(rows).with_columns(missing=pl.Series(missing, dtype=pl.String))

    return facts.kept("query shares", account.id, make, window)
