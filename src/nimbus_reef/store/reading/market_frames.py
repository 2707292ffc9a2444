"""What lies outside the account: peers, the market's path per query, keyword lists and rivals."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, timedelta
from typing import Final

import polars as pl

from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import product_frames, target_frames
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
    """Query funnel rows of weeks wholly inside the window: day (Monday), query, normal_id, sku (or null), counts."""
    inside = Window(window.first, max(window.first, window.last - timedelta(days=6)))
    versions = facts.versions(account_id, "query_funnel", inside)

    def make() -> pl.DataFrame:
        if window.days < 7:
            versions.clear()
        texts = facts.query(
            "SELECT DISTINCT p.id AS query_phrase_id, p.text AS query, p.normal_id FROM query_funnel f "
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


def newest_ranks(facts: Facts, account_id: int, last: date) -> pl.DataFrame:
    """
    What keyword lists say of each phrase and item, by their newest row up to a day: normal_id, item, brand, category,
    volume (searches a month), organic, sponsored (ranks, null for none), suggested (a bid, micro-units), day.
    """
    versions = facts.versions(account_id, _RANKS, Window(last - timedelta(days=RANKS_KEPT - 1), last))

    def make() -> pl.DataFrame:
        rows = snapshots.read(facts.store, account_id, _RANKS, versions).collect()
        # Read in the order of days: the last row of each is its newest.
        newest = rows.join(_keywords(facts), on="keyword_phrase_id", maintain_order="left")
        return newest.unique(["normal_id", "item_id"], keep="last", maintain_order=True).select(
            "normal_id",
            pl.col("item_id").cast(pl.String).alias("item"),
            pl.col("brand", "category").cast(pl.String),
            pl.col("search_volume").cast(pl.Int64).alias("volume"),
            pl.col("organic_rank").alias("organic"),
            pl.col("sponsored_rank").alias("sponsored"),
            pl.col("suggested_bid").alias("suggested"),
            "day",
        )

    return facts.kept("newest ranks", account_id, make, last)


def rank_days(facts: Facts, account_id: int, items: Sequence[str], last: date) -> pl.DataFrame:
    """The organic ranks of some items on every day of keyword lists up to a day: day, normal_id, item, organic."""
    versions = facts.versions(account_id, _RANKS, Window(last - timedelta(days=_COURSE_DAYS - 1), last))

    def make() -> pl.DataFrame:
        columns = ["keyword_phrase_id", "item_id", "organic_rank"]
        rows = snapshots.read(facts.store, account_id, _RANKS, versions, columns)
        own = rows.filter(pl.col("item_id").cast(pl.String).is_in(list(items)), pl.col("organic_rank").is_not_null())
        found = own.collect().join(_keywords(facts), on="keyword_phrase_id")
        return found.select("day", "normal_id", item=pl.col("item_id").cast(pl.String), organic="organic_rank")

    return facts.kept("days of ranks", account_id, make, last, tuple(items))


def _keywords(facts: Facts) -> pl.DataFrame:
    """keyword_phrase_id, normal_id of every phrase there is: those of the lists alone would be a read of all ranks."""
    return facts.query("SELECT id AS keyword_phrase_id, normal_id FROM phrase")


def last_clicks(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """normal_id, last_click (day), clicks of search terms that ads brought a click on in the window."""
    versions = facts.versions(account_id, "search_term_daily", window)

    def make() -> pl.DataFrame:
        rows = snapshots.read(facts.store, account_id, "search_term_daily", versions, ["target_term_id", "clicks"])
        names = target_frames.term_names(facts, account_id).select("target_term_id", "normal_id").lazy()
        clicked = rows.filter(pl.col("clicks") > 0).join(names, on="target_term_id").group_by("normal_id")
        sums = clicked.agg(last_click=pl.col("day").max(), clicks=pl.col("clicks").cast(pl.Int64).sum())
        return sums.with_columns(pl.col("normal_id").cast(pl.UInt32)).sort("normal_id").collect()

    return facts.kept("last clicks", account_id, make, window)


def rank_course(facts: Facts, account_id: int, normal_id: int, last: date) -> pl.DataFrame:
    """Ranks for one phrase on every day of keyword lists up to a day: day, item, brand, organic, sponsored."""
    held = facts.versions(account_id, _RANKS, Window(last - timedelta(days=_COURSE_DAYS - 1), last))
    ids = facts.query("SELECT id FROM phrase WHERE normal_id = :normal", normal=normal_id)["id"]
    # Days and phrases by name: each pair is one place of the key, where a range of days would be read whole.
    of = ", ".join(map(str, ids)) or "NULL"
    days = ", ".join(f"'{span.last}'" for span in held) or "NULL"
    query = (
        "SELECT day, item_id AS item, brand, organic_rank AS organic, sponsored_rank AS sponsored FROM keyword_ranks"
        f" WHERE account_id = :account AND day IN ({days}) AND keyword_phrase_id IN ({of})"
        " ORDER BY day, item_id"
    )
    found = facts.query(query, account=account_id)
    schema = {"day": pl.Date, "item": pl.String, "brand": pl.String, "organic": pl.Float64, "sponsored": pl.Float64}
    return found.cast(schema) if len(found) else pl.DataFrame(schema=schema)  # type: ignore[arg-type]


def brought_phrases(facts: Facts, account_id: int) -> pl.DataFrame:
    """Phrases of lists that were brought in: normal_id, lists (their names), told (category), volume (a month)."""
    query = (
        "SELECT p.normal_id, l.name, l.category, l.search_volume AS volume FROM phrase_lists l"
        " JOIN phrase p ON p.id = l.keyword_phrase_id WHERE l.account_id = :account ORDER BY p.normal_id, l.day, l.name"
    )

    def make() -> pl.DataFrame:
        schema = {"normal_id": pl.UInt32, "name": pl.String, "category": pl.String, "volume": pl.Int64}
        rows = facts.query(query, account=account_id)
        told = rows.cast(schema) if len(rows) else pl.DataFrame(schema=schema)  # type: ignore[arg-type]
        return told.group_by("normal_id", maintain_order=True).agg(
            lists=pl.col("name").unique(maintain_order=True).str.join(", "),
            told=pl.col("category").drop_nulls().last(),
            volume=pl.col("volume").drop_nulls().last(),
        )

    return facts.kept("brought phrases", account_id, make)


_RANKS: Final = "keyword_ranks"
RANKS_KEPT: Final = 60
"""Ranks that are older say nothing of today."""
_COURSE_DAYS: Final = 180
"""So far back the course of ranks is followed."""


def rivals(facts: Facts, account_id: int) -> pl.DataFrame:
    """
    Other brands' items, each as it was loaded last: item, brand, title, category, launched, price (micro-units),
    rating, reviews, monthly_sales (micro-units).
    """
    query = (
        "SELECT r.item_id AS item, r.brand, r.title, r.category, r.launch_date AS launched, r.price, r.rating,"
        " r.reviews, r.monthly_sales_estimate AS monthly_sales FROM rivals r WHERE r.account_id = :account"
        " AND r.day = (SELECT MAX(n.day) FROM rivals n WHERE n.account_id = r.account_id AND n.item_id = r.item_id)"
        " ORDER BY r.item_id"
    )
    return facts.kept("rivals", account_id, lambda: facts.query(query, account=account_id))


def phrases(facts: Facts, account_id: int) -> pl.DataFrame:
    """
    The phrases that keyword lists, query funnels and own search terms hold, by their normal form: normal_id, phrase,
    words (word_id, in their order).
    """
    query = (
        "SELECT DISTINCT n.id AS normal_id, n.text AS phrase, n.words FROM ("
        "SELECT id FROM phrase WHERE id IN ({listed})"
        " UNION SELECT keyword_phrase_id FROM phrase_lists WHERE account_id = :account"
        " UNION SELECT query_phrase_id FROM query_funnel WHERE account_id = :account"
        " UNION SELECT w.phrase_id FROM campaign c JOIN ad_group g ON g.campaign_id = c.id"
        " JOIN target t ON t.ad_group_id = g.id JOIN target_term w ON w.target_id = t.id"
        " WHERE c.account_id = :account) u"
        " JOIN phrase p ON p.id = u.id JOIN phrase n ON n.id = p.normal_id WHERE n.words IS NOT NULL"
    )

    def make() -> pl.DataFrame:
        held = facts.versions(account_id, _RANKS, Window(date.min, date.max))
        lists = snapshots.read(facts.store, account_id, _RANKS, held, ["keyword_phrase_id"])
        listed = lists.select(pl.col("keyword_phrase_id").unique()).collect().to_series()
        rows = facts.query(query.format(listed=", ".join(map(str, listed)) or "NULL"), account=account_id)
        ids = pl.col("words").str.split(",").list.eval(pl.element().cast(pl.UInt32, strict=False).drop_nulls())
        return rows.with_columns(pl.col("normal_id").cast(pl.UInt32), words=ids).sort("normal_id")

    return facts.kept("phrases", account_id, make)


def word_texts(facts: Facts) -> pl.DataFrame:
    """word_id, word of every word that any phrase is made of."""
    rows = facts.query("SELECT id AS word_id, text AS word FROM word")
    return rows.with_columns(pl.col("word_id").cast(pl.UInt32))
