"""Undoing a batch: what it replaced is kept beside it, and put back day by day."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Final

import polars as pl
from sqlalchemy import Connection, insert, or_, select, text, update

from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store import bulk, loads, snapshots, versions
from nimbus_reef.store.engine import Store
from nimbus_reef.store.loads import Batch
from nimbus_reef.store.models import FACTS, batch, batch_day

_PART_ROWS: Final = 100_000
"""Rows in one packet: well under 16 MB, the least that any MariaDB takes."""


@dataclass(frozen=True, slots=True)
class Undone:
    """What an undo did: days put back as they were, and days a newer batch has changed since."""

    kind: str
    restored: tuple[date, ...]
    left: tuple[date, ...]


def keep(connection: Connection, batch_id: int, days: Iterable[date], replaced: pl.DataFrame | None) -> None:
    """Notes the days a batch writes, and keeps the rows it is about to replace."""
    gone = {} if replaced is None else {part["day"][0]: part for part in replaced.partition_by("day")}
    rows = [
        {"batch_id": batch_id, "day": day, "part": number, "replaced": content}
        for day in sorted(set(days) | set(gone))
        for number, content in enumerate(_packed(gone.get(day)))
    ]
    for row in rows:
        connection.execute(insert(batch_day), row)


def _packed(rows: pl.DataFrame | None) -> list[bytes | None]:
    if rows is None:
        return [None]
    parts: list[bytes | None] = []
    for part in rows.iter_slices(_PART_ROWS):
        target = io.BytesIO()
        part.write_ipc(target, compression="zstd")
        parts.append(target.getvalue())
    return parts


def undo(
    store: Store,
    account_id: int,
    batch_id: int,
    progress: Callable[[float, str], None] = lambda part, message: None,
) -> Undone:
    """
    Puts the days of a batch back as they were before it, in one transaction.

    Days that a newer batch has taken over stay as they are and are named. Conflict when
    no day is left to put back; NotFound when the account has no such batch.
    """
    found = loads.get_batch(store, batch_id)
    if found is None or found.account_id != account_id:
        raise NotFound("There is no such batch.", remedy="Look at the list of batches.")

    def work(connection: Connection) -> tuple[Undone, snapshots.Days]:
        versions.take_turns(connection, account_id, found.kind)
        open_days = set(
            connection.execute(
                select(batch_day.c.day).where(batch_day.c.batch_id == batch_id, ~batch_day.c.undone)
            ).scalars()
        )
        left = open_days & _taken_over(connection, found)
        days = sorted(open_days - left)
        if not days:
            raise _nothing_to_undo(bool(left))
        for number, day in enumerate(days):
            progress(0.1 + 0.8 * number / len(days), f"putting back {day}")
            _put_back(store, connection, found, day)
        if not left:
            connection.execute(
                update(batch)
                .where(batch.c.id == batch_id)
                .values(undone_at=datetime.now(UTC).replace(tzinfo=None))
            )
        changed = versions.bump(connection, account_id, found.kind, snapshots.no_rows(found.kind), days)
        return Undone(found.kind, tuple(days), tuple(sorted(left))), changed

    undone, changed = store.transact(work)
    snapshots.keep(store.snapshots, account_id, found.kind, changed)
    return undone


def _nothing_to_undo(taken_over: bool) -> Conflict:
    if taken_over:
        return Conflict(
            "Newer batches have replaced every day of this one.", remedy="Undo those first, newest first."
        )
    return Conflict("This batch was undone already.", remedy="Load its file again to have it back.")


def _taken_over(connection: Connection, found: Batch) -> set[date]:
    """
    Days of a later batch, not undone itself, that may stand on this one's: it has the same
    label, or either covers all labels, or it replaced rows there.
    """
    later = select(batch_day.c.day).join(batch, batch.c.id == batch_day.c.batch_id)
    stands_on = or_(batch.c.scope.in_((found.scope, "all")), batch_day.c.replaced.is_not(None))
    return set(
        connection.execute(
            later.where(
                batch.c.account_id == found.account_id,
                batch.c.kind == found.kind,
                batch.c.id > found.id,
                ~batch_day.c.undone,
                *(() if found.scope == "all" else (stands_on,)),
            )
        ).scalars()
    )


def _put_back(store: Store, connection: Connection, found: Batch, day: date) -> None:
    """One day without the rows of the batch, and with those it replaced."""
    connection.execute(
        text(f"DELETE FROM `{found.kind}` WHERE account_id = :account AND day = :day AND batch_id = :batch"),
        {"account": found.account_id, "day": day, "batch": found.id},
    )
    this_day = (batch_day.c.batch_id == found.id, batch_day.c.day == day)
    kept = connection.execute(
        select(batch_day.c.replaced).where(*this_day, batch_day.c.replaced.is_not(None))
    ).scalars()
    for content in kept:
        rows = pl.read_ipc(io.BytesIO(content))
        bulk.load(
            connection, found.kind, rows.select([c.name for c in FACTS[found.kind].columns]), store.scratch
        )
    connection.execute(update(batch_day).where(*this_day).values(undone=True))
