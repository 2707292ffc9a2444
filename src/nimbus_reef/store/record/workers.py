"""
Workers that say they are there, so that a page can say when none is, and their jobs are taken up
when they are gone.
"""

from __future__ import annotations

from datetime import timedelta
from typing import Final

from sqlalchemy import delete, select
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import worker

BEATS_EVERY: Final = 15.0
GONE_AFTER: Final = timedelta(seconds=90)
"""A worker that was silent for so long is taken to be gone."""


def beat(store: Store, name: str) -> None:
    """Says that a worker is there."""
    result = insert(worker).values(name=name, begun_at=utc_now(), seen_at=utc_now())
    store.execute(result.on_duplicate_key_update(seen_at=result.inserted.seen_at))


def leave(store: Store, name: str) -> None:
    """Says that a worker stops."""
    store.execute(delete(worker).where(worker.c.name == name))


def present(store: Store) -> frozenset[str]:
    """The workers that were heard of lately."""
    with store.read() as connection:
        rows = connection.execute(select(worker.c.name).where(worker.c.seen_at > utc_now() - GONE_AFTER))
        return frozenset(row.name for row in rows)


def sweep(store: Store) -> None:
    """Forgets those that are long gone."""
    store.execute(delete(worker).where(worker.c.seen_at < utc_now() - 10 * GONE_AFTER))
