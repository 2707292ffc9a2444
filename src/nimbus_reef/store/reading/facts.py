"""
What all frames for the core begin with: day files, summed over a window, and what is held.

What they are joined with stands beside this, by subject: `setting_frames`, `product_frames`,
`target_frames`, `campaign_frames`, `market_frames`, and `row_frames` for what is behind a row.

Everything is cached by the account's generation (the sum of its day versions, and that of its settings), so a
load or a setting makes all of it new at once and nothing else has to.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from functools import partial
from typing import Any, Final, TypeVar

import polars as pl
from sqlalchemy import text

from nimbus_reef.core import coverage
from nimbus_reef.core.coverage import Span, held_days, labels_in_use
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window, month_of
from nimbus_reef.store.reading import month_grids
from nimbus_reef.store.reading.cache import Cache, Mapped
from nimbus_reef.store.reading.disk_cache import DiskCache
from nimbus_reef.store.reading.month_grids import MonthGrid
from nimbus_reef.store.record import loads, snapshot_reads, snapshots
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import KEYS_OF
from nimbus_reef.store.record.snapshot_reads import Generation, LoadedVersion

T = TypeVar("T")

_RECENT_DAYS: Final = 31
"""Most days between the end of a report total and the newest day for the total to be part of the default window."""
TARGET_SOURCES: Final = ("target_daily", "search_term_daily")
"""Reports that can tell what a target did, the better first."""
_LOADED: Final = text(
    "SELECT kind, SUM(version) AS version FROM day_version WHERE account_id = :account GROUP BY kind UNION ALL SELECT"
    " 'settings', settings_version FROM account WHERE id = :account AND settings_version > 0 ORDER BY kind"
)
_NEWEST: Final = text(
    "SELECT kind, first_day, day FROM day_version WHERE account_id = :account AND `rows` > 0 "
    "AND (first_day < day OR (kind, day) IN (SELECT kind, MAX(day) FROM day_version "
    "WHERE account_id = :account AND `rows` > 0 GROUP BY kind)) ORDER BY kind, day"
)
MANY: Final = 1_000_000
"""Rows from which on their sums are a helper's to make."""
OPENED: Final = 0.002
"""
Seconds: what takes long in a process that has to open a file for each day first takes no longer in one that has read
them.
"""
WEEKLY: Final = ("query_funnel",)
"""Reports of whole weeks, which alone can be looked at too."""
TOTAL_SOURCES: Final = (
    "campaign_daily",
    "placement_daily",
    "target_daily",
    "product_ad_daily",
    "hourly",
    "search_term_daily",
)
"""Reports that a total may come from, the better first ("Which report gives a total")."""


@dataclass(frozen=True, slots=True)
class TargetSource:
    """Which report a window's figures come from, and how many of its days it holds."""

    kind: str
    days: int
    of: int


Asked = tuple[str, tuple[Any, ...]]
"""What another process is asked to work out: what it is called, and what of."""


def _weeks(spans: Mapping[str, Sequence[Window]]) -> Window | None:
    """The newest five weeks of a weekly report (its rows are dated on Mondays), used when no daily report is loaded."""
    mondays = [span.last for kind in WEEKLY for span in spans.get(kind, [])]
    if not mondays:
        return None
    last = max(mondays)
    return Window(last - timedelta(weeks=4), last + timedelta(days=6))


@dataclass(frozen=True, slots=True)
class Facts:
    """
    The frames of one store. Safe to share between threads. disk_cache: where results lie that other processes share, if
    anywhere; helper: has another process work out what is asked and put it there, if there is one.
    """

    store: Store
    cache: Cache = field(default_factory=Cache)
    disk_cache: DiskCache | None = None
    helper: Callable[[Asked], object] | None = None

    def generation(self, account_id: int) -> Generation:
        """Changes whenever anything is loaded into the account; one small query, one per moment."""
        return self._loaded(account_id).generation

    def kept(
        self,
        name: str,
        account_id: int,
        make: Callable[[], T],
        *of: Hashable,
        asked: Callable[[], Asked | None] | None = None,
        dear: float | None = None,
    ) -> T:
        """
        A result about an account, made once for what is loaded now. of: whatever else it depends on, and no more, so
        that looks that differ in something else share it. asked: what a helper, where there is one, makes it by; None
        where it is so little that this process makes it itself. dear: the seconds from which on it is put on disk,
        where fewer than usual.
        """
        key, disk_cache = (name, account_id, self.generation(account_id), *of), self.disk_cache
        if disk_cache is None:
            return self.cache.get(key, make)

        def found_or_made() -> T | Mapped:
            if (
                asked is not None
                and self.helper is not None
                and disk_cache.peek(account_id, key) is None
                and (work := asked())
            ):
                self.helper(work)
            return disk_cache.get(account_id, key, make, lambda same: self.cache.swap(key, same), dear)

        return self.cache.get(key, found_or_made)

    def known(self, name: str, account_id: int, *of: Hashable) -> Any:
        """The same where it was made already, here or by another process, else None."""
        key = (name, account_id, self.generation(account_id), *of)
        found = self.cache.peek(key)
        if found is None and self.disk_cache is not None:
            on_disk = self.disk_cache.peek(account_id, key)
            if on_disk is not None:
                self.cache.put(key, on_disk)
                return on_disk.result
        return found

    def note(self, name: str, account_id: int, result: Any, *of: Hashable) -> None:
        """Keeps a result that cost nothing to make."""
        self.cache.put((name, account_id, self.generation(account_id), *of), result)

    def newest_day(self, account_id: int) -> date | None:
        """The newest day of the target reports. Without one: of any report with spend, then of the weekly reports."""
        return self._loaded(account_id).newest

    def blocks(self, account_id: int) -> tuple[Window, ...]:
        """Sums of several days that any report which counts money holds, oldest first."""
        return self._loaded(account_id).blocks

    def usual_span(self, account_id: int, maturing_days: int) -> Window | None:
        """
        What is looked at by default where the newest figures of a target report are a block: that block; with the days
        after it that another target report tells by day, but for those that still mature. None where all tell days.
        """
        loaded = self._loaded(account_id)
        if loaded.newest_span and loaded.newest_span.days > 1:
            return loaded.newest_span
        if loaded.newest_sum is None or loaded.newest is None:
            return None
        mature = loaded.newest - timedelta(days=maturing_days)
        return Window(loaded.newest_sum.first, max(loaded.newest_sum.last, mature))

    def block_loaded(self, account_id: int, block: Window | None, zone: str) -> date | None:
        """When a block was loaded, by the report that has waited longest; None where none is."""
        if block is None:
            return None
        loaded = [
            [span.loaded for span in spans if span.block and span.days == block]
            for spans in self.spans(account_id, zone).values()
        ]
        return min((max(days) for days in loaded if days), default=None)

    def _loaded(self, account_id: int) -> LoadedVersion:
        moment = snapshot_reads.current()
        if moment is None:
            return self._look(account_id)
        if account_id not in moment.seen:
            moment.seen[account_id] = self._look(account_id)
        return moment.seen[account_id]

    def _look(self, account_id: int) -> LoadedVersion:
        with self.store.read() as connection:
            rows = connection.execute(_LOADED, {"account": account_id}).all()
        generation = tuple((row.kind, int(row.version)) for row in rows)
        spans: dict[str, list[Window]] = self.cache.get(
            ("newest", account_id, generation), lambda: self._newest(account_id)
        )
        telling: list[str] = [kind for kind in TARGET_SOURCES if kind in spans] or [
            k for k in TOTAL_SOURCES if k in spans
        ]
        ends = [max(spans[kind], key=lambda span: (span.last, -span.days)) for kind in telling]
        newest = max(ends, key=lambda span: (span.last, -span.days), default=_weeks(spans))
        blocks = {span for kind in TOTAL_SOURCES for span in spans.get(kind, []) if span.days > 1}
        recent = [end for end in ends if end.days > 1 and newest and (newest.last - end.last).days <= _RECENT_DAYS]
        return LoadedVersion(
            generation, newest.last if newest else None, newest, max(recent, default=None), tuple(sorted(blocks))
        )

    def _newest(self, account_id: int) -> dict[str, list[Window]]:
        """The newest day of each kind, and all of its blocks."""
        found: dict[str, list[Window]] = {}
        with self.store.read() as connection:
            for row in connection.execute(_NEWEST, {"account": account_id}):
                found.setdefault(row.kind, []).append(Window(row.first_day, row.day))
        return found

    def versions(self, account_id: int, kind: str, window: Window) -> dict[Window, int]:
        """The version of every day and block wholly in the window that holds rows, in order."""
        known = self.kept("versions", account_id, lambda: snapshots.versions(self.store, account_id, kind), kind)
        return {
            span: version for span, version in known.items() if window.first <= span.first and span.last <= window.last
        }

    def days(self, account_id: int, kind: str, window: Window) -> dict[Window, int]:
        """The same without the blocks, for what needs days."""
        return {s: version for s, version in self.versions(account_id, kind, window).items() if s.days == 1}

    def by_day_only(self, account_id: int, kind: str, window: Window) -> bool:
        """True when none of the window's figures of a kind is a sum of several days."""
        return all(span.days == 1 for span in self.versions(account_id, kind, window))

    def cut(self, account_id: int, window: Window) -> dict[str, list[Window]]:
        """Blocks that the window holds only a part of, by kind: their figures are left out."""
        found = {kind: coverage.cut(own, window) for kind, own in self.spans(account_id).items()}
        return {kind: blocks for kind, blocks in found.items() if blocks}

    def spans(self, account_id: int, zone: str = "UTC") -> dict[str, list[Span]]:
        """What is held of each kind, kept; zone: in which the day of loading counts."""
        return self.kept("spans", account_id, lambda: loads.spans(self.store, account_id, zone), zone)

    def held_days(self, account_id: int, kind: str, window: Window) -> int:
        """How many days of the window a report holds, for every ad format in use; blocks by their days."""
        own = self.spans(account_id).get(kind, [])
        return self.kept("held days", account_id, lambda: held_days(window, own, labels_in_use(own)), kind, window)

    def monthly_days(self, account_id: int, kind: str, window: Window) -> int:
        """The days that figures of a month are scaled from: those held, all where none is."""
        return self.held_days(account_id, kind, window) or window.days

    def target_source(self, account_id: int, window: Window) -> TargetSource:
        """The report target figures come from: the one that holds most days of the window."""
        counts = {kind: self.held_days(account_id, kind, window) for kind in TARGET_SOURCES}
        kind = max(TARGET_SOURCES, key=lambda name: (counts[name], bool(self.versions(account_id, name, window))))
        return TargetSource(kind, counts[kind], window.days)

    def total_source(self, account_id: int, days: Sequence[Window]) -> str | None:
        """
        The report that totals come from: the first that holds every day of the windows, else
        the one that holds most of them; None when none holds any. Never a mixture.
        """
        counts = {kind: sum(self.held_days(account_id, kind, window) for window in days) for kind in TOTAL_SOURCES}
        wanted = sum(window.days for window in days)
        whole = [kind for kind in TOTAL_SOURCES if counts[kind] == wanted]
        if whole:
            return whole[0]
        best = max(TOTAL_SOURCES, key=lambda kind: counts[kind])
        return best if counts[best] else None

    def by_day(self, account_id: int, kind: str, window: Window, measures: Sequence[str]) -> pl.DataFrame:
        """
        Day, first_day and the sums of a report's columns over the whole account, every held day and
        block, in order; of a day both are the same. Kept by month, so that other days hardly have to be summed.
        """
        asked = partial(self._days_of_month, account_id, kind, measures=tuple(measures))
        months = [asked(month) for month in self.months(account_id, kind, window)]
        inside = (pl.col("first_day") >= window.first) & (pl.col("day") <= window.last)
        schema = {"day": pl.Date, "first_day": pl.Date, **dict.fromkeys(measures, pl.Int64)}
        return pl.concat([pl.DataFrame(schema=schema), *months]).filter(inside)

    def _days_of_month(self, account_id: int, kind: str, month: Window, measures: tuple[str, ...]) -> pl.DataFrame:
        def make() -> pl.DataFrame:
            versions = self.versions_of(account_id, kind, month)
            rows = snapshots.read(self.store, account_id, kind, versions, list(measures))
            sums = rows.group_by("day", "first_day").agg(pl.col(measures).cast(pl.Int64).sum())
            return sums.sort("day", "first_day").collect()

        return self.kept("by day", account_id, make, kind, month, measures, dear=OPENED)

    def months(self, account_id: int, kind: str, window: Window) -> list[Window]:
        """The calendar months in which the days and blocks of a window end."""
        return list(dict.fromkeys(month_of(span.last) for span in self.versions(account_id, kind, window)))

    def versions_of(self, account_id: int, kind: str, month: Window) -> dict[Window, int]:
        """The version of every day and block that ends in a calendar month, wherever it begins, in order."""
        every = self.versions(account_id, kind, Window(date.min, month.last))
        return {span: version for span, version in every.items() if span.last >= month.first}

    def sums(self, account_id: int, kind: str, window: Window) -> pl.DataFrame:
        """Measures per key of one report kind over the window."""
        if kind in month_grids.GRIDDED:

            def add() -> pl.DataFrame:
                return month_grids.sums(self.grids(account_id, kind, window), kind)

            return self.kept("sums", account_id, add, kind, window)
        versions = self.versions(account_id, kind, window)
        (key,) = KEYS_OF[kind]

        def make() -> pl.DataFrame:
            rows = snapshots.read(self.store, account_id, kind, versions, [key, *MEASURES])
            return rows.group_by(key).agg(pl.col(MEASURES).cast(pl.Int64).sum()).collect()

        many = self.if_many(account_id, kind, window, "sums", account_id, kind, window)
        return self.kept("sums", account_id, make, kind, window, asked=many)

    def month_grid(self, account_id: int, kind: str, month: Window) -> MonthGrid:
        """What the keys of a report did on the days and in the blocks that end in a calendar month. Kept."""
        keys = KEYS_OF[kind]

        def make() -> MonthGrid:
            wanted = self.versions_of(account_id, kind, month)
            rows = snapshots.read(self.store, account_id, kind, wanted, [*keys, *MEASURES]).collect()
            return month_grids.grid(rows, list(wanted), keys)

        many = self.if_many(account_id, kind, month, "month grid", account_id, kind, month)
        return self.kept("month grid", account_id, make, kind, month, asked=many)

    def grids(self, account_id: int, kind: str, window: Window) -> month_grids.Pieces:
        """The grids of a window's months, each with which of its days and blocks lie in it."""
        every = [self.month_grid(account_id, kind, month) for month in self.months(account_id, kind, window)]
        return [(grid, grid.within(window)) for grid in every]

    def if_many(self, account_id: int, kind: str, window: Window, what: str, *of: Any) -> Callable[[], Asked | None]:
        """
        For `kept`: that a helper makes it where the window holds so many rows of a report that even their sums take
        much memory.
        """
        return lambda: (what, of) if self.holds_many(account_id, kind, window) else None

    def holds_many(self, account_id: int, kind: str, window: Window) -> bool:
        """Whether the window holds so many rows of a report that whoever asks for them waits."""
        return self.rows_held(account_id, kind, window) >= MANY

    def rows_held(self, account_id: int, kind: str, window: Window) -> int:
        """How many rows of a report the window holds."""
        counts = self.kept("rows held", account_id, lambda: snapshots.row_counts(self.store, account_id, kind), kind)
        return sum(counts.get(span, 0) for span in self.versions(account_id, kind, window))

    def query(self, statement: str, **values: object) -> pl.DataFrame:
        """The rows of a query with values bound to its `:names`, ids as unsigned 32-bit."""
        frame = snapshots.query(self.store, statement, **values)
        return frame.with_columns(pl.col(name).cast(pl.UInt32) for name in frame.columns if name.endswith("_id"))
