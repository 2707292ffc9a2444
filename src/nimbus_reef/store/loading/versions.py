"""Day versions: what a change of the record tells its readers."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import polars as pl
from sqlalchemy import Connection, text

from nimbus_reef.core.windows import Window
from nimbus_reef.store.record import snapshots


def _counts(rows: Iterable[Sequence[Any]]) -> dict[Window, int]:
    """Span → figure of a query for first day, last day and the figure."""
    return {Window(row[0], row[1]): int(row[2]) for row in rows}


def bump(
    connection: Connection,
    account_id: int,
    kind: str,
    parts: Mapping[Window, pl.DataFrame],
    spans: Iterable[Window],
    *,
    whole: bool = False,
) -> snapshots.Spans:
    """
    A new version for each of the days and blocks; with the rows where `parts` holds all of them.

    whole: nothing else can be held then, so that nobody has to count.
    """
    wanted = sorted(spans, key=lambda span: (span.last, span.first))
    days = {"account": account_id, "kind": kind, "first": wanted[0].last, "last": wanted[-1].last}
    by_key = _counts(
        connection.execute(
            text(
                "SELECT first_day, day, version FROM day_version WHERE account_id = :account AND kind = :kind "
                "AND day BETWEEN :first AND :last"
            ),
            days,
        )
    )
    counts = (
        {span: len(part) for span, part in parts.items()}
        if whole
        else _counts(
            connection.execute(
                text(
                    f"SELECT {snapshots.first_day_of(kind)} AS f, day, COUNT(*) FROM `{kind}` "
                    "WHERE account_id = :account AND day BETWEEN :first AND :last GROUP BY day, f"
                ),
                days,
            )
        )
    )
    written = []
    for span in wanted:
        part, rows = parts.get(span), counts.get(span, 0)
        # Rows held under another label are not in the file: they are read back later.
        known = part if part is not None and len(part) == rows else None
        written.append((snapshots.Written(span, by_key.get(span, 0) + 1, known), rows))
    connection.execute(
        text(
            "INSERT INTO day_version (account_id, kind, day, first_day, version, `rows`) "
            "VALUES (:account, :kind, :day, :first, :version, :held) "
            "ON DUPLICATE KEY UPDATE version = VALUES(version), `rows` = VALUES(`rows`)"
        ),
        [
            {
                "account": account_id,
                "kind": kind,
                "day": each.span.last,
                "first": each.span.first,
                "version": each.version,
                "held": rows,
            }
            for each, rows in written
        ],
    )
    return tuple(each for each, _ in written)
