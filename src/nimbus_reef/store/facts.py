"""
What all frames for the core begin with: day files, summed over a window, and what is held.

What they are joined with stands beside this, by subject: `setting_frames`, `product_frames`,
`target_frames`, `campaign_frames`, `market_frames`, and `row_frames` for what is behind a row.

Everything is cached by the account's generation (the sum of its day versions), so a
load makes all of it new at once and nothing else has to.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Final

import polars as pl
from sqlalchemy import text

from nimbus_reef.core.coverage import Span, held_days, labels_in_use
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store import loads, moments, snapshots
from nimbus_reef.store.cache import Cache
from nimbus_reef.store.engine import Store
from nimbus_reef.store.models import KEYS_OF
from nimbus_reef.store.moments import Generation, Loaded

TARGET_SOURCES: Final = ("target_daily", "search_term_daily")
"""Reports that can tell what a target did, the better first."""
_LOADED: Final = text(
    "SELECT kind, SUM(version) AS version, MAX(CASE WHEN `rows` > 0 THEN day END) AS newest "
    "FROM day_version WHERE account_id = :account GROUP BY kind ORDER BY kind"
)
TOTAL_SOURCES: Final = ("campaign_daily", "placement_daily", "target_daily", "product_ad_daily", "hourly")
"""Reports that a total may come from, the better first ("Which report gives a total")."""


@dataclass(frozen=True, slots=True)
class Held:
    """Which report a window's figures come from, and how many of its days it holds."""

    kind: str
    days: int
    of: int


@dataclass(frozen=True, slots=True)
class Facts:
    """The frames of one store. Safe to share between threads."""

    store: Store
    cache: Cache = field(default_factory=Cache)

    def generation(self, account_id: int) -> Generation:
        """Changes whenever anything is loaded into the account; one small query, one per moment."""
        return self._loaded(account_id).generation

    def newest_day(self, account_id: int) -> date | None:
        """The newest day of any report that tells what targets did."""
        return self._loaded(account_id).newest

    def _loaded(self, account_id: int) -> Loaded:
        moment = moments.current()
        if moment is None:
            return self._look(account_id)
        if account_id not in moment.seen:
            moment.seen[account_id] = self._look(account_id)
        return moment.seen[account_id]

    def _look(self, account_id: int) -> Loaded:
        with self.store.read() as connection:
            rows = connection.execute(_LOADED, {"account": account_id}).all()
        newest = [row.newest for row in rows if row.kind in TARGET_SOURCES and row.newest]
        return Loaded(tuple((row.kind, int(row.version)) for row in rows), max(newest, default=None))

    def versions(self, account_id: int, kind: str, window: Window) -> dict[date, int]:
        """The version of every day of the window that holds rows, in order."""
        key = ("versions", account_id, self.generation(account_id), kind)
        known = self.cache.get(key, lambda: snapshots.versions(self.store, account_id, kind))
        return {day: version for day, version in known.items() if window.first <= day <= window.last}

    def spans(self, account_id: int, zone: str = "UTC") -> dict[str, list[Span]]:
        """The batches of each kind that stand, kept; zone: in which the day of loading counts."""
        key = ("spans", account_id, self.generation(account_id), zone)
        return self.cache.get(key, lambda: loads.spans(self.store, account_id, zone))

    def held(self, account_id: int, window: Window) -> Held:
        """The report target figures come from: the one that holds most days of the window."""
        counts = {kind: len(self.versions(account_id, kind, window)) for kind in TARGET_SOURCES}
        kind = max(TARGET_SOURCES, key=lambda name: counts[name])
        return Held(kind, counts[kind], window.days)

    def total_source(self, account_id: int, days: Sequence[Window]) -> str | None:
        """
        The report that totals come from: the first that holds every day of the windows, else
        the one that holds most of them; null when none holds any. Never a mixture.
        """
        spans = self.spans(account_id)
        counts: dict[str, int] = {}
        for kind in TOTAL_SOURCES:
            own = spans.get(kind, [])
            labels = labels_in_use(own)
            counts[kind] = sum(held_days(window, own, labels) for window in days)
        wanted = sum(window.days for window in days)
        whole = [kind for kind in TOTAL_SOURCES if counts[kind] == wanted]
        if whole:
            return whole[0]
        best = max(TOTAL_SOURCES, key=lambda kind: counts[kind])
        return best if counts[best] else None

    def by_day(self, account_id: int, kind: str, window: Window, measures: Sequence[str]) -> pl.DataFrame:
        """Day and the sums of a report's columns over the whole account, every held day, in order."""
        versions = self.versions(account_id, kind, window)

        def make() -> pl.DataFrame:
            rows = snapshots.read(self.store, account_id, kind, versions, list(measures))
            return rows.group_by("day").agg(pl.col(measures).cast(pl.Int64).sum()).sort("day").collect()

        key = ("by day", account_id, kind, window, tuple(measures), tuple(versions.items()))
        return self.cache.get(key, make)

    def sums(self, account_id: int, kind: str, window: Window) -> pl.DataFrame:
        """Measures per key of one report kind over the window."""
        versions = self.versions(account_id, kind, window)
        (key,) = KEYS_OF[kind]

        def make() -> pl.DataFrame:
            rows = snapshots.read(self.store, account_id, kind, versions, [key, *MEASURES])
            return rows.group_by(key).agg(pl.col(MEASURES).cast(pl.Int64).sum()).collect()

        return self.cache.get(("sums", account_id, kind, window, tuple(versions.items())), make)

    def query(self, statement: str) -> pl.DataFrame:
        """The rows of a query, ids as unsigned 32-bit."""
        frame = snapshots.query(self.store, statement)
        return frame.with_columns(
            pl.col(name).cast(pl.UInt32) for name in frame.columns if name.endswith("_id")
        )
