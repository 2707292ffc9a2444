"""Keeps the usual days of every account judged, the newest account first, whenever a worker has nothing to load."""

from __future__ import annotations

import fcntl
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from threading import Event
from typing import Final
from zoneinfo import ZoneInfo

import structlog

from nimbus_reef.analysis import ahead
from nimbus_reef.errors import StoreAway
from nimbus_reef.store.people import accounts, hidden_findings
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.target_acos import aims as aims_of
from nimbus_reef.store.reading.cache import Cache
from nimbus_reef.store.reading.disk_cache import DiskCache, generation_name
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads, snapshot_reads
from nimbus_reef.store.record.engine import Store

log = structlog.get_logger("ahead")

_MOST_BYTES: Final = 64 << 20
_LOOKS_EVERY: Final = 2.0
_SWEEPS_EVERY: Final = 60.0


class _Stopped(Exception):
    """Something more urgent came."""


class Ahead:
    """What one worker judges ahead. busy: whether something more urgent is to be done."""

    def __init__(self, store: Store, folder: Path, most_bytes: int, busy: Callable[[], bool]) -> None:
        self._store, self._folder, self._busy = store, folder, busy
        self._shelf = DiskCache(folder, most_bytes)
        self.facts = Facts(store, Cache(most_bytes=_MOST_BYTES), self._shelf)
        self._swept = 0.0

    def keep_on(self, done: Event) -> None:
        """
        Until it is done: judges what is not judged yet, and removes what is over; one worker of a
        machine at a time.
        """
        pause = _LOOKS_EVERY
        while not done.wait(pause):
            pause = _LOOKS_EVERY
            try:
                self._folder.mkdir(parents=True, exist_ok=True)
                with (self._folder / "lock").open("w") as lock:
                    fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    self.once()
            except BlockingIOError:
                # Another worker does it; should that die, its lock goes with it.
                continue
            except StoreAway:
                log.warning("the database is away; nothing is judged ahead")
            except Exception:
                # As with jobs: a worker must survive whatever comes of it, and the log must say so.
                log.exception("nothing can be judged ahead")
                pause = _SWEEPS_EVERY

    def once(self) -> int:
        """One round over all accounts; how many were judged."""
        newest = loads.newest_batches(self._store)
        every = sorted(accounts.all_accounts(self._store), key=lambda each: -newest.get(each.id, 0))
        judged = 0
        for account in every:
            try:
                judged += self._judge(account)
            except _Stopped:
                return judged
        if judged or time.monotonic() - self._swept > _SWEEPS_EVERY:
            self._shelf.settle()
            self._shelf.sweep(self._present())
            self._swept = time.monotonic()
        return judged

    def _present(self) -> dict[int, str]:
        """What is loaded of every account, as the disk cache calls it."""
        return {each.id: generation_name(self.facts.generation(each.id)) for each in accounts.all_accounts(self._store)}

    def _judge(self, account: Account) -> bool:
        begun = snapshot_reads.begin()
        try:
            aims, away = aims_of(self._store, account), hidden_findings.away(self._store, account.id)
            today = datetime.now(ZoneInfo(account.timezone)).date()
            present = False

            def work() -> bool:
                nonlocal present
                present = True
                for selection in ahead.selections(self.facts, account, aims):
                    # The days looked at most come first: others must not drive them out.
                    if self._shelf.is_full(self._present(), account.id):
                        log.info(
                            "no room to judge more ahead",
                            account=account.key,
                            days=f"{selection.window.first}..{selection.window.last}",
                        )
                        break
                    for step in ahead.steps(self.facts, selection, away, today):
                        self._do(step, account)
                return True

            # Kept like any other result, so that it is done once for what is loaded and set, and once after each change
            # of it.
            names = tuple(sorted((each.check, each.row_id) for each in away))
            self.facts.kept("judged ahead", account.id, work, account, aims, names)
        finally:
            snapshot_reads.end(begun)
        if present:
            self._shelf.settle()
            log.debug("judged ahead", account=account.key)
        return present

    def _do(self, step: Callable[[], object], account: Account) -> None:
        if self._busy():
            raise _Stopped
        try:
            step()
        except StoreAway:
            raise
        except Exception:
            # One page's trouble with odd reports is that page's to tell, and keeps no other from being ready.
            log.exception("could not be judged ahead", account=account.key)
