"""What stands behind a row: its days, its bids, its report rows and their files."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.contract import CellKind
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.models import KEYS_OF


def daily(facts: Facts, account_id: int, kind: str, window: Window, keys: list[int]) -> pl.DataFrame:
    """Measures per day of some keys of one report kind, every day held by day, zeros where idle."""
    versions = facts.days(account_id, kind, window)
    (key,) = KEYS_OF[kind]
    rows = (
        snapshots.read(facts.store, account_id, kind, versions, [key, *MEASURES])
        .filter(pl.col(key).is_in(keys))
        .group_by("day")
        .agg(pl.col(MEASURES).cast(pl.Int64).sum())
        .collect()
    )
    days = pl.DataFrame({"day": [span.last for span in versions]}, schema={"day": pl.Date})
    return days.join(rows, on="day", how="left").with_columns(pl.col(MEASURES).fill_null(0)).sort("day")


def target_days(facts: Facts, account_id: int, source: str, window: Window, target_ids: Sequence[int]) -> pl.DataFrame:
    """target_id, day and measures of some targets on every day held by day, zeros where idle; in order."""
    versions = facts.days(account_id, source, window)
    (key,) = KEYS_OF[source]
    wanted = pl.DataFrame({"target_id": list(target_ids)}, schema={"target_id": pl.UInt32})
    keys = wanted
    if key != "target_id":
        terms = target_frames.term_names(facts, account_id)
        keys = terms.select(key, "target_id").join(wanted, on="target_id", how="semi")
    rows = (
        snapshots.read(facts.store, account_id, source, versions, [key, *MEASURES])
        .join(keys.lazy(), on=key)
        .group_by("target_id", "day")
        .agg(pl.col(MEASURES).cast(pl.Int64).sum())
        .collect()
    )
    days = pl.DataFrame({"day": [span.last for span in versions]}, schema={"day": pl.Date})
    return (
        wanted.join(days, how="cross")
        .join(rows, on=["target_id", "day"], how="left")
        .with_columns(pl.col(MEASURES).fill_null(0))
        .sort("target_id", "day")
    )


def bids(facts: Facts, account_id: int, target_ids: Sequence[int], window: Window) -> pl.DataFrame:
    """target_id, day, bid (micro), state on every day with settings up to the window's end."""
    versions = facts.versions(account_id, "targets", Window(date(2000, 1, 1), window.last))
    return (
        snapshots.read(facts.store, account_id, "targets", versions, ["target_id", "state", "bid", "ad_group_bid"])
        .filter(pl.col("target_id").is_in(list(target_ids)))
        .select("target_id", "day", pl.coalesce("bid", "ad_group_bid").alias("bid"), "state")
        .sort("target_id", "day")
        .collect()
    )


def terms_of(facts: Facts, account_id: int, target_id: int, window: Window) -> pl.DataFrame:
    """The terms one target brought in the window: normal_id, term, measures."""
    terms = target_frames.term_names(facts, account_id)
    return (
        facts.sums(account_id, "search_term_daily", window)
        .join(terms.filter(pl.col("target_id") == target_id), on="target_term_id")
        .sort("spend", descending=True)
    )


def term_keys(facts: Facts, account_id: int, ad_group_id: int, normal_id: int) -> pl.DataFrame:
    """target_term_id and target_id of every target of an ad group that brought one term."""
    own = target_frames.targets(facts, account_id).filter(pl.col("ad_group_id") == ad_group_id)
    return (
        target_frames.term_names(facts, account_id).filter(pl.col("normal_id") == normal_id).join(own, on="target_id")
    )


def changes(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    What somebody changed in the window, in order: day, at, the ids of what it was about (0
    for none), field, old, new, by.
    """
    versions = facts.versions(account_id, "changes", window)

    def make() -> pl.DataFrame:
        keys = [key for key in KEYS_OF["changes"] if key not in ("account_id", "day")]
        rows = snapshots.read(facts.store, account_id, "changes", versions, [*keys, "old", "new", "by"])
        return rows.with_columns(pl.col("field", "old", "new", "by").cast(pl.String)).sort("at").collect()

    return facts.kept("changes", account_id, make, window)


def keys_of_terms(facts: Facts, account_id: int, terms: pl.DataFrame) -> pl.DataFrame:
    """target_term_id of every target that brought one of the terms (ad_group_id, normal_id)."""
    groups = target_frames.targets(facts, account_id).select("target_id", "ad_group_id")
    return (
        target_frames.term_names(facts, account_id)
        .join(terms.select("normal_id").unique(), on="normal_id", how="semi")
        .join(groups, on="target_id")
        .join(terms, on=["ad_group_id", "normal_id"], how="semi")
        .select("target_term_id")
    )


def rows_behind(facts: Facts, account_id: int, kind: str, window: Window, keys: Sequence[int]) -> pl.DataFrame:
    """The report's own rows of some keys: first_day, day, key, measures, batch_id and its file_name, loaded_at."""
    versions = facts.versions(account_id, kind, window)
    (key,) = KEYS_OF[kind]
    rows = (
        snapshots.read(facts.store, account_id, kind, versions, [key, "batch_id", *MEASURES])
        .filter(pl.col(key).is_in(list(keys)))
        .sort("day", key)
        .collect()
    )
    files = facts.query(
        "SELECT id AS batch_id, file_name, loaded_at FROM batch WHERE account_id = :account", account=account_id
    )
    return rows.join(files, on="batch_id", how="left")


_NAMED: Final = {
    "campaign_id": "SELECT id, name AS campaign FROM campaign WHERE account_id = :account",
    "ad_group_id": (
        "SELECT g.id, c.name AS campaign, g.name AS ad_group FROM ad_group g "
        "JOIN campaign c ON c.id = g.campaign_id WHERE c.account_id = :account"
    ),
    "target_id": (
        "SELECT t.id, c.name AS campaign, g.name AS ad_group, p.text AS target, t.match_type FROM target t "
        "JOIN phrase p ON p.id = t.phrase_id JOIN ad_group g ON g.id = t.ad_group_id "
        "JOIN campaign c ON c.id = g.campaign_id WHERE c.account_id = :account"
    ),
    "target_term_id": (
        "SELECT w.id, c.name AS campaign, g.name AS ad_group, p.text AS target, t.match_type, s.text AS search_term "
        "FROM target_term w JOIN phrase s ON s.id = w.phrase_id JOIN target t ON t.id = w.target_id "
        "JOIN phrase p ON p.id = t.phrase_id JOIN ad_group g ON g.id = t.ad_group_id "
        "JOIN campaign c ON c.id = g.campaign_id WHERE c.account_id = :account"
    ),
    "product_ad_id": (
        "SELECT a.id, c.name AS campaign, g.name AS ad_group, p.sku FROM product_ad a "
        "JOIN product p ON p.id = a.product_id JOIN ad_group g ON g.id = a.ad_group_id "
        "JOIN campaign c ON c.id = g.campaign_id WHERE c.account_id = :account"
    ),
    "product_id": "SELECT id, sku FROM product WHERE account_id = :account",
    "query_phrase_id": (
        "SELECT DISTINCT p.id, p.text AS query FROM query_funnel f JOIN phrase p "
        "ON p.id = f.query_phrase_id WHERE f.account_id = :account"
    ),
    "keyword_phrase_id": (
        "SELECT p.id, p.text AS keyword FROM phrase p JOIN (SELECT keyword_phrase_id AS id FROM keyword_ranks"
        " WHERE account_id = :account UNION SELECT keyword_phrase_id FROM phrase_lists WHERE account_id = :account) f"
        " USING (id)"
    ),
}
"""What the ids of rows stand for, in the contract's words."""


def largest(facts: Facts, account_id: int, kind: str, window: Window, most: int) -> pl.DataFrame:
    """The rows of a report that cost most in the window, dearest first: names in the contract's words, the measures."""
    (key,) = KEYS_OF[kind]
    rows = facts.sums(account_id, kind, window).top_k(most, by="spend").sort("spend", key, descending=[True, False])
    ids = ", ".join(str(int(each)) for each in rows[key]) or "0"
    names = facts.query(f"SELECT * FROM ({_NAMED[key]}) AS named WHERE id IN ({ids})", account=account_id)
    return rows.join(
        names.with_columns(pl.col("id").cast(pl.UInt32)), left_on=key, right_on="id", how="left", maintain_order="left"
    )


def named_rows(facts: Facts, account_id: int, kind: str, window: Window) -> pl.DataFrame:
    """
    The rows held of a report in a window, in the contract's words, with their file: first_day and day,
    names in place of ids, money in units.
    """
    versions = facts.versions(account_id, kind, window)
    rows = snapshots.read(facts.store, account_id, kind, versions).collect()
    given: list[str] = []
    for key in [key for key in KEYS_OF[kind] if key in _NAMED]:
        names = facts.query(_NAMED[key], account=account_id)
        fresh = [name for name in names.columns if name != "id" and name not in rows.columns]
        rows = rows.join(names.select(pl.col("id").cast(pl.UInt32).alias(key), *fresh), on=key, how="left")
        given += fresh
    files = facts.query(
        "SELECT id AS batch_id, file_name AS file FROM batch WHERE account_id = :account", account=account_id
    )
    rows = rows.join(files, on="batch_id", how="left")
    ids = [name for name in rows.columns if name in _NAMED]
    money = [
        column.name for column in KINDS[kind].columns if column.holds is CellKind.MONEY and column.name in rows.columns
    ]
    rest = [name for name in rows.columns if name not in (*ids, *given, "day", "first_day", "file", "batch_id")]
    return (
        rows.with_columns((pl.col(name) / MICRO).round(6).alias(name) for name in money)
        .select(
            pl.col("first_day").alias("from"),
            pl.col("day").alias("to"),
            *given,
            *(name for name in rest if name not in ("from", "to")),
            "file",
            pl.col("batch_id").alias("batch"),
        )
        .sort("to", "from", *given)
    )
