"""Day versions: what a change of the record tells its readers, and whose turn it is to change it."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import date
from typing import Any

import polars as pl
from sqlalchemy import Connection, select, text

from nimbus_reef.store import snapshots
from nimbus_reef.store.models import load_lock


def take_turns(connection: Connection, account_id: int, kind: str) -> None:
    """Loads of one kind into one account wait for each other here, until the commit."""
    connection.execute(
        text("INSERT IGNORE INTO load_lock (account_id, kind) VALUES (:account, :kind)"),
        {"account": account_id, "kind": kind},
    )
    connection.execute(
        select(load_lock.c.kind)
        .where(load_lock.c.account_id == account_id, load_lock.c.kind == kind)
        .with_for_update()
    )


def _pairs(rows: Iterable[Sequence[Any]]) -> dict[date, int]:
    """Day → figure of a query with two columns."""
    return {row[0]: int(row[1]) for row in rows}


def bump(
    connection: Connection,
    account_id: int,
    kind: str,
    facts: pl.DataFrame,
    days: Iterable[date],
    *,
    whole: bool = False,
) -> snapshots.Days:
    """
    A new version for each of the days; with the rows where `facts` holds all of a day's.

    whole: nothing else can be held on these days, so that nobody has to count.
    """
    wanted = sorted(days)
    span = {"account": account_id, "kind": kind, "first": wanted[0], "last": wanted[-1]}
    held = _pairs(
        connection.execute(
            text(
                "SELECT day, version FROM day_version WHERE account_id = :account AND kind = :kind "
                "AND day BETWEEN :first AND :last"
            ),
            span,
        )
    )
    parts = {part["day"][0]: part for part in facts.partition_by("day", maintain_order=True)}
    counts = (
        {day: len(part) for day, part in parts.items()}
        if whole
        else _pairs(
            connection.execute(
                text(
                    f"SELECT day, COUNT(*) FROM `{kind}` WHERE account_id = :account "
                    "AND day BETWEEN :first AND :last GROUP BY day"
                ),
                span,
            )
        )
    )
    written = []
    for day in wanted:
        part, rows = parts.get(day), counts.get(day, 0)
        # Rows held under another label are not in the file: such a day is read back later.
        known = part if part is not None and len(part) == rows else None
        written.append((snapshots.DayWritten(day, held.get(day, 0) + 1, known), rows))
    connection.execute(
        text(
            "INSERT INTO day_version (account_id, kind, day, version, `rows`) "
            "VALUES (:account, :kind, :day, :version, :held) "
            "ON DUPLICATE KEY UPDATE version = VALUES(version), `rows` = VALUES(`rows`)"
        ),
        [
            {"account": account_id, "kind": kind, "day": each.day, "version": each.version, "held": rows}
            for each, rows in written
        ],
    )
    return tuple(each for each, _ in written)
