"""Whether this process can do its work, and what is wrong where it cannot: for whoever watches over it."""

from __future__ import annotations

import shutil
from dataclasses import dataclass
from typing import Final

from nimbus_reef.config import Config
from nimbus_reef.errors import ReefError
from nimbus_reef.store.record import schema, workers
from nimbus_reef.store.record.engine import Store

_LEAST_FREE: Final = 0.05


@dataclass(frozen=True, slots=True)
class Health:
    """ready: pages can be shown; lines: what was looked at, and status."""

    ready: bool
    lines: tuple[str, ...]


def health(config: Config, store: Store) -> Health:
    """Database and tables, without which nothing goes; workers and room on the disk, without which less does."""
    try:
        with store.read():
            pass
        current = schema.is_current(store.engine)
        present = len(workers.present(store)) if current else 0
    except (ReefError, OSError) as problem:
        return Health(False, (f"database: {problem}", _room(config)))
    tables = "current" if current else "not current: run `reef migrate`"
    working = f"{present} running" if present else "none was heard of: nothing is loaded until one runs"
    return Health(current, ("database: answers", f"tables: {tables}", f"workers: {working}", _room(config)))


def _room(config: Config) -> str:
    try:
        entries = shutil.disk_usage(config.var)
    except OSError as problem:
        return f"disk: {problem.strerror}"
    free = entries.free / entries.total
    return f"disk: {free:.0%} free" + (" - make room in REEF_VAR" if free < _LEAST_FREE else "")
