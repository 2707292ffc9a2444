"""Does the record agree with itself: day files with MariaDB, day versions and batches with the rows."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass

import polars as pl
from sqlalchemy import Connection, select, text, tuple_

from nimbus_reef.core.windows import Window
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import FACTS, KEYS_OF, batch, batch_day


@dataclass(frozen=True, slots=True)
class Disagreement:
    """Two places that should say the same of a day or batch. Money in micro-units."""

    account_id: int
    kind: str
    where: str
    what: str
    recorded: int
    found: int


def verify(store: Store, account_id: int) -> Iterator[Disagreement]:
    """Every disagreement in the record of one account; none when all is well."""
    for kind in FACTS:
        with store.read() as connection:
            in_tables = _day_sums(connection, account_id, kind)
            yield from _versions(connection, account_id, kind, in_tables)
            yield from _batches(connection, account_id, kind)
        yield from _day_files(store, account_id, kind, in_tables)


def _summed(kind: str) -> list[str]:
    """What is summed to compare: ids, so that other rows show, and whatever adds up."""
    ids = [key for key in KEYS_OF[kind] if key.endswith("_id") and key != "item_id"]
    return [*ids, *KINDS[kind].summed]


Sums = Mapping[Window, Mapping[str, int]]


def _day_sums(connection: Connection, account_id: int, kind: str) -> Sums:
    sums = "".join(f", SUM(`{name}`) AS `{name}`" for name in _summed(kind))
    rows = connection.execute(
        text(
            f"SELECT {snapshots.first_day_of(kind)} AS first, day, COUNT(*) AS `rows`{sums} FROM `{kind}` "
            "WHERE account_id = :account GROUP BY day, first"
        ),
        {"account": account_id},
    )
    return {
        Window(row.first, row.day): {name: int(row._mapping[name]) for name in ("rows", *_summed(kind))} for row in rows
    }


def _versions(connection: Connection, account_id: int, kind: str, found: Sums) -> Iterator[Disagreement]:
    rows = connection.execute(
        text("SELECT first_day, day, `rows` AS held FROM day_version WHERE account_id = :account AND kind = :kind"),
        {"account": account_id, "kind": kind},
    )
    noted = {Window(row.first_day, row.day): row.held for row in rows}
    for span in sorted(set(noted) | set(found)):
        value = found[span]["rows"] if span in found else 0
        if noted.get(span, 0) != value:
            yield Disagreement(account_id, kind, _called(span), "rows by day version", noted.get(span, 0), value)


def _called(span: Window) -> str:
    return str(span.last) if span.days == 1 else f"{span.first} to {span.last}"


def _day_files(store: Store, account_id: int, kind: str, in_tables: Sums) -> Iterator[Disagreement]:
    wanted = snapshots.versions(store, account_id, kind)
    kept = {d: v for d, v in wanted.items() if snapshots.path(store.snapshots, account_id, kind, d, v).exists()}
    rows = (
        snapshots.read(store, account_id, kind, kept, _summed(kind) or None)
        .group_by("first_day", "day")
        .agg(pl.len().cast(pl.Int64).alias("rows"), *(pl.col(n).cast(pl.Int64).sum() for n in _summed(kind)))
        .sort("day")
        .collect()
    )
    for row in rows.iter_rows(named=True):
        span = Window(row["first_day"], row["day"])
        recorded = in_tables.get(span, {})
        for name in ("rows", *_summed(kind)):
            if recorded.get(name, 0) != row[name]:
                yield Disagreement(
                    account_id, kind, _called(span), f"{name} in the day file", recorded.get(name, 0), row[name]
                )


def _batches(connection: Connection, account_id: int, kind: str) -> Iterator[Disagreement]:
    """Batches that nothing stands on hold exactly what was recorded of them when they were loaded."""
    sums = "".join(f", SUM(`{name}`) AS `{name}`" for name in _summed(kind))
    rows = connection.execute(
        text(f"SELECT batch_id, COUNT(*) AS `rows`{sums} FROM `{kind}` WHERE account_id = :account GROUP BY batch_id"),
        {"account": account_id},
    )
    by_key: dict[int, Mapping[str, int]] = {row.batch_id: dict(row._mapping) for row in rows}
    for each in connection.execute(select(batch).where(batch.c.account_id == account_id, batch.c.kind == kind)).all():
        if not _untouched(connection, each.id, kind, account_id):
            continue
        recorded = {"rows": each.rows, **{n: each.sums[n] for n in _summed(kind) if n in each.sums}}
        found = by_key.get(each.id, {})
        for name, value in recorded.items():
            if int(found.get(name, 0)) != int(value):
                where = f"batch {each.id}, {each.file_name}"
                yield Disagreement(account_id, kind, where, name, int(value), int(found.get(name, 0)))


def _untouched(connection: Connection, batch_id: int, kind: str, account_id: int) -> bool:
    """True when no day of the batch was undone or written by a later batch."""
    own = select(batch_day.c.first_day, batch_day.c.day).where(batch_day.c.batch_id == batch_id)
    undone = connection.execute(own.where(batch_day.c.undone).limit(1)).first()
    later = connection.execute(
        select(batch_day.c.day)
        .join(batch, batch.c.id == batch_day.c.batch_id)
        .where(
            batch.c.account_id == account_id,
            batch.c.kind == kind,
            batch.c.id > batch_id,
            batch_day.c.replaced.is_not(None),
            tuple_(batch_day.c.first_day, batch_day.c.day).in_(own),
        )
        .limit(1)
    ).first()
    return undone is None and later is None
