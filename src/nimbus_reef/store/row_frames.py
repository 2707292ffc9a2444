"""What stands behind a row: its days, its bids, its report rows and their files."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

import polars as pl

from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store import snapshots, target_frames
from nimbus_reef.store.facts import Facts
from nimbus_reef.store.models import KEYS_OF


def daily(facts: Facts, account_id: int, kind: str, window: Window, keys: list[int]) -> pl.DataFrame:
    """Measures per day of some keys of one report kind, every held day, zeros where idle."""
    versions = facts.versions(account_id, kind, window)
    (key,) = KEYS_OF[kind]
    rows = (
        snapshots.read(facts.store, account_id, kind, versions, [key, *MEASURES])
        .filter(pl.col(key).is_in(keys))
        .group_by("day")
        .agg(pl.col(MEASURES).cast(pl.Int64).sum())
        .collect()
    )
    days = pl.DataFrame({"day": list(versions)}, schema={"day": pl.Date})
    return days.join(rows, on="day", how="left").with_columns(pl.col(MEASURES).fill_null(0)).sort("day")


def target_days(
    facts: Facts, account_id: int, source: str, window: Window, target_ids: Sequence[int]
) -> pl.DataFrame:
    """target_id, day and measures of some targets on every held day, zeros where idle; in order."""
    versions = facts.versions(account_id, source, window)
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
    days = pl.DataFrame({"day": list(versions)}, schema={"day": pl.Date})
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
        snapshots.read(
            facts.store, account_id, "targets", versions, ["target_id", "state", "bid", "ad_group_bid"]
        )
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
        target_frames.term_names(facts, account_id)
        .filter(pl.col("normal_id") == normal_id)
        .join(own, on="target_id")
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

    return facts.cache.get(("changes", account_id, window, tuple(versions.items())), make)


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


def rows_behind(
    facts: Facts, account_id: int, kind: str, window: Window, keys: Sequence[int]
) -> pl.DataFrame:
    """The report's own rows of some keys: day, key, measures, batch_id and its file_name, loaded_at."""
    versions = facts.versions(account_id, kind, window)
    (key,) = KEYS_OF[kind]
    rows = (
        snapshots.read(facts.store, account_id, kind, versions, [key, "batch_id", *MEASURES])
        .filter(pl.col(key).is_in(list(keys)))
        .sort("day", key)
        .collect()
    )
    files = facts.query(
        f"SELECT id AS batch_id, file_name, loaded_at FROM batch WHERE account_id = {int(account_id)}"
    )
    return rows.join(files, on="batch_id", how="left")
