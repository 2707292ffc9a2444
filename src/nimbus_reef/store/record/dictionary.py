"""
The dictionary: which id every text, target, term and product has, so that a load asks the database for new names alone.

Rows of these tables are only ever added, with rising ids, by one transaction after the other (`loading.allocator`):
what is known up to an id is all there is up to it. Kept in memory, and large tables in a file that is mapped, which can
always be deleted.
"""

from __future__ import annotations

import os
import tempfile
import threading
from collections.abc import Mapping
from contextlib import suppress
from pathlib import Path
from typing import Final

import polars as pl
import pyarrow as pa
from sqlalchemy import Connection, Table

from nimbus_reef.store.record.models import phrase, product, product_ad, target, target_term, word

KEYS: Final[Mapping[str, tuple[str, ...]]] = {
    phrase.name: ("text",),
    word.name: ("text",),
    target.name: ("ad_group_id", "phrase_id", "match_type"),
    target_term.name: ("target_id", "phrase_id"),
    product.name: ("account_id", "sku"),
    product_ad.name: ("ad_group_id", "product_id"),
}
"""What finds a row of each table."""
_TEXTS: Final = frozenset({"text", "match_type", "sku"})
_FILED: Final = 20_000
"""Rows that are not in a table's file yet, from which on it is written anew."""
_MOST_CHUNKS: Final = 64
"""Each load that makes names adds one; many small ones are as slow as many rows."""
_PIECE: Final = 200_000


def schema(table: Table) -> dict[str, type[pl.DataType]]:
    """Id and the keys of a table, with their types."""
    return {"id": pl.UInt32, **{key: pl.String if key in _TEXTS else pl.UInt32 for key in KEYS[table.name]}}


class Dictionary:
    """What one process knows of the tables in KEYS."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._known: dict[str, pl.DataFrame] = {}
        self._filed: dict[str, int] = {}
        self._lock = threading.Lock()

    def of(self, connection: Connection, table: Table) -> pl.DataFrame:
        """Id and keys of every row that is committed; only those since the last time are read."""
        with self._lock:
            known = self._known.get(table.name)
            if known is None:
                known = self._from_file(table)
            newest = int(known["id"][-1]) if len(known) else 0
            since = _rows_from(connection, table, newest)
            if newest and not since.head(1).equals(known.tail(1)):
                # Another database than the one that was read before: one put back from a backup.
                known, since = known.clear(), _rows_from(connection, table, 0)
                newest = 0
            if len(since) > bool(newest):
                known = pl.concat([known, since.slice(bool(newest))])
            return self._keep(table, known)

    def adopt(self, known: Mapping[Table, pl.DataFrame]) -> None:
        """What a transaction that was committed knows of tables by now, its own rows included."""
        with self._lock:
            for table, rows in known.items():
                if len(rows) > len(self._known.get(table.name, ())):
                    self._keep(table, rows)

    def _keep(self, table: Table, known: pl.DataFrame) -> pl.DataFrame:
        filed = self._filed.get(table.name, 0)
        if len(known) - filed > max(_FILED, filed // 8) or known.n_chunks() > _MOST_CHUNKS:
            known = self._to_file(table, known)
        self._known[table.name] = known
        return known

    def _path(self, table: Table) -> Path:
        return self._folder / f"{table.name}.arrow"

    def _from_file(self, table: Table) -> pl.DataFrame:
        """What the file of a table holds; nothing where there is none, or it is none of ours."""
        empty = pl.DataFrame(schema=schema(table))
        try:
            with pa.memory_map(str(self._path(table))) as source:
                found = pl.from_arrow(pa.ipc.open_file(source).read_all(), rechunk=False)
        except (OSError, pa.ArrowInvalid):
            return empty
        if not isinstance(found, pl.DataFrame) or found.schema != empty.schema:
            return empty
        self._filed[table.name] = len(found)
        return found

    def _to_file(self, table: Table, known: pl.DataFrame) -> pl.DataFrame:
        """The same rows, mapped where the disk took them."""
        with suppress(OSError):
            self._folder.mkdir(parents=True, exist_ok=True)
            handle, name = tempfile.mkstemp(dir=self._folder, suffix=".part")
            os.close(handle)
            try:
                known.write_ipc(name, compression="uncompressed")
                Path(name).replace(self._path(table))
            finally:
                Path(name).unlink(missing_ok=True)
            return self._from_file(table)
        return known


def _rows_from(connection: Connection, table: Table, first: int) -> pl.DataFrame:
    """The rows from an id on, in its order, read by pieces."""
    columns = ", ".join(f"`{name}`" for name in schema(table))
    parts = [pl.DataFrame(schema=schema(table))]
    while True:
        rows = connection.exec_driver_sql(
            f"SELECT {columns} FROM `{table.name}` WHERE id >= {first} ORDER BY id LIMIT {_PIECE}"
        ).fetchall()
        parts.append(pl.DataFrame(rows, schema=schema(table), orient="row"))
        if len(rows) < _PIECE:
            return pl.concat(parts)
        first = rows[-1][0] + 1
