"""What lies outside the account: peers, and the market's path per query."""

from __future__ import annotations

from datetime import date, timedelta

import polars as pl

from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import OPENED, Facts
from nimbus_reef.store.record import snapshots


def peer_feed(facts: Facts, account_id: int, kind: str, last: date) -> pl.DataFrame:
    """Rows of a peer report up to a day, with month as "2026-10"."""
    ever = facts.versions(account_id, kind, Window(date(2000, 1, 1), date.max))

    def make() -> pl.DataFrame:
        rows = snapshots.read(facts.store, account_id, kind, ever).collect()
        texts = [name for name in ("category", "country", "format", "metric") if name in rows.columns]
        return rows.with_columns(pl.col("day").dt.strftime("%Y-%m").alias("month"), pl.col(texts).cast(pl.String))

    return facts.kept(kind, account_id, make, dear=OPENED).filter(pl.col("day") <= last)


def query_weeks(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """Query funnel rows of weeks wholly inside the window: day (Monday), query, sku (or null), counts."""
    inside = Window(window.first, max(window.first, window.last - timedelta(days=6)))
    versions = facts.versions(account_id, "query_funnel", inside)

    def make() -> pl.DataFrame:
        if window.days < 7:
            versions.clear()
        texts = facts.query(
            "SELECT DISTINCT p.id AS query_phrase_id, p.text AS query FROM query_funnel f "
            "JOIN phrase p ON p.id = f.query_phrase_id WHERE f.account_id = :account",
            account=account_id,
        )
        return (
            snapshots.read(facts.store, account_id, "query_funnel", versions)
            .collect()
            .join(texts, on="query_phrase_id")
            .join(product_frames.skus(facts, account_id), on="product_id", how="left")
        )

    return facts.kept("queries", account_id, make, window)
