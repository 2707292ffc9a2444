"""Undoing a batch: what it replaced is kept beside it, and put back day by day."""

from __future__ import annotations

import io
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Final

import polars as pl
from sqlalchemy import Connection, insert, or_, select, text, update

from nimbus_reef.core.windows import Window
from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.loading import versions
from nimbus_reef.store.record import bulk, loads, locks, snapshots
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.loads import Batch
from nimbus_reef.store.record.models import FACTS, batch, batch_day

PART_ROWS: Final = 100_000
"""Rows in one packet: well under 16 MB, the least that any MariaDB takes."""


@dataclass(frozen=True, slots=True)
class Undone:
    """What an undo did: days and blocks as they were again, and those a newer batch has changed since."""

    kind: str
    restored: tuple[Window, ...]
    left: tuple[Window, ...]


def keep(connection: Connection, batch_id: int, windows: Iterable[Window], replaced: pl.DataFrame | None) -> None:
    """Notes the days and blocks that a batch tells, and keeps the rows it is about to replace."""
    gone = {} if replaced is None else snapshots.by_span(replaced)
    written = set(windows)
    rows = [
        {
            "batch_id": batch_id,
            "day": span.last,
            "first_day": span.first,
            "part": number,
            "replaced": content,
            "told": span in written,
        }
        for span in sorted(written | set(gone))
        for number, content in enumerate(_packed(gone.get(span)))
    ]
    for row in rows:
        connection.execute(insert(batch_day), row)


def _packed(rows: pl.DataFrame | None) -> list[bytes | None]:
    if rows is None:
        return [None]
    parts: list[bytes | None] = []
    for part in rows.iter_slices(PART_ROWS):
        target = io.BytesIO()
        part.write_ipc(target, compression="zstd")
        parts.append(target.getvalue())
    return parts


def undo(
    store: Store, account_id: int, batch_id: int, progress: Callable[[float, str], None] = lambda part, message: None
) -> tuple[Undone, ...]:
    """
    Puts the days of a batch back as they were before it, in one transaction; with it those of all
    batches of the same file. One result a kind.

    Days that a newer batch has taken over stay as they are and are named. Conflict when
    no day is left to put back; NotFound when the account has no such batch.
    """
    found = loads.get_batch(store, batch_id)
    if found is None or found.account_id != account_id:
        raise NotFound("This load does not exist.", remedy="Reload the list of loads.")
    several = loads.of_one_file(store, found)

    def work(connection: Connection) -> list[tuple[Batch, Undone, snapshots.Spans]]:
        for each in sorted(several, key=lambda each: (each.account_id, each.kind)):
            locks.take(connection, each.account_id, each.kind)
        states = [(each, *_open_spans(connection, each)) for each in several]
        if not any(spans - left for _, spans, left in states):
            raise _nothing_to_undo(any(left for _, _, left in states))
        done = []
        for number, (each, spans, left) in enumerate(states):
            part = (0.1 + 0.8 * number / len(states), 0.8 / len(states))
            done.append((each, *_undo_one(store, connection, each, spans, left, progress, part)))
        return done

    done = store.transact(work)
    for each, _, changed in done:
        snapshots.keep(store.snapshots, each.account_id, each.kind, changed)
    return tuple(undone for each, undone, _ in done if undone.restored or undone.left)


def _open_spans(connection: Connection, found: Batch) -> tuple[set[Window], set[Window]]:
    """What a batch wrote and nobody has undone, and which of it a newer batch stands on."""
    spans = spans_of(connection, found.id)
    return spans, spans & _taken_over(connection, found)


def spans_of(connection: Connection, batch_id: int) -> set[Window]:
    """The days and blocks that a batch wrote and nobody has undone."""
    rows = connection.execute(
        select(batch_day.c.first_day, batch_day.c.day).where(batch_day.c.batch_id == batch_id, ~batch_day.c.undone)
    )
    return {Window(row.first_day, row.day) for row in rows}


def _undo_one(
    store: Store,
    connection: Connection,
    found: Batch,
    open_spans: set[Window],
    left: set[Window],
    progress: Callable[[float, str], None],
    part: tuple[float, float],
) -> tuple[Undone, snapshots.Spans]:
    begun, share = part
    spans = sorted(open_spans - left)
    # A day of the batch may lie in a sum that comes back: first all goes, then all comes.
    for span in spans:
        _take_out(connection, found, span)
    for number, span in enumerate(spans):
        progress(begun + share * number / len(spans), f"putting back {span.last}")
        _put_back(store, connection, found, span)
    if not left:
        connection.execute(update(batch).where(batch.c.id == found.id).values(undone_at=utc_now()))
    changed: snapshots.Spans = ()
    if spans:
        changed = versions.bump(connection, found.account_id, found.kind, {}, spans)
    return Undone(found.kind, tuple(spans), tuple(sorted(left))), changed


def _nothing_to_undo(taken_over: bool) -> Conflict:
    if taken_over:
        return Conflict("Newer batches have replaced every day of this one.", remedy="Undo those first, newest first.")
    return Conflict("This batch was undone already.", remedy="Load its file again to have it back.")


def _taken_over(connection: Connection, found: Batch) -> set[Window]:
    """
    Days and blocks of a later batch, not undone itself, that may stand on this one's: it has the
    same label, or either covers all labels, or it replaced rows there.
    """
    later = select(batch_day.c.first_day, batch_day.c.day).join(batch, batch.c.id == batch_day.c.batch_id)
    stands_on = or_(batch.c.scope.in_((found.scope, "all")), batch_day.c.replaced.is_not(None))
    rows = connection.execute(
        later.where(
            batch.c.account_id == found.account_id,
            batch.c.kind == found.kind,
            batch.c.id > found.id,
            ~batch_day.c.undone,
            *(() if found.scope == "all" else (stands_on,)),
        )
    )
    return {Window(row.first_day, row.day) for row in rows}


def _take_out(connection: Connection, found: Batch, span: Window) -> None:
    """One day or block without the rows of the batch."""
    connection.execute(
        text(
            f"DELETE FROM `{found.kind}` WHERE account_id = :account AND day = :day AND batch_id = :batch "
            f"AND {snapshots.first_day_of(found.kind)} = :first"
        ),
        {"account": found.account_id, "day": span.last, "first": span.first, "batch": found.id},
    )


def _put_back(store: Store, connection: Connection, found: Batch, span: Window) -> None:
    """One day or block with the rows that the batch replaced."""
    this = (batch_day.c.batch_id == found.id, batch_day.c.day == span.last, batch_day.c.first_day == span.first)
    kept = connection.execute(select(batch_day.c.replaced).where(*this, batch_day.c.replaced.is_not(None))).scalars()
    columns = [column.name for column in FACTS[found.kind].columns]
    for content in kept:
        rows = pl.read_ipc(io.BytesIO(content))
        bulk.load(connection, found.kind, rows.select(name for name in columns if name in rows.columns), store.scratch)
    connection.execute(update(batch_day).where(*this).values(undone=True))
