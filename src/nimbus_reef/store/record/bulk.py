"""Frames into tables by LOAD DATA LOCAL INFILE."""

from __future__ import annotations

import tempfile
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection

from nimbus_reef.errors import Conflict


def _escaped(frame: pl.DataFrame) -> pl.DataFrame:
    """Text cells in LOAD DATA's own escapes."""
    escapes = {"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r", "\0": "\\0"}
    texts = pl.col(pl.String)
    for plain, escape in escapes.items():
        texts = texts.str.replace_all(plain, escape, literal=True)
    return frame.with_columns(texts)


_PIECE: Final = 250_000
"""Rows."""


def load(connection: Connection, table: str, frame: pl.DataFrame, scratch: Path, *, computed: str = "") -> None:
    """
    Appends a frame to a table, columns by name; Conflict unless every row went in.

    computed: SQL that sets further columns from those given. Large ones go in by pieces: one is written for the
    database while it takes the one before.
    """
    with tempfile.TemporaryDirectory(dir=scratch) as folder, ThreadPoolExecutor(1) as writer:
        waiting: tuple[pl.DataFrame, Future[Path]] | None = None
        for number, piece in enumerate(frame.iter_slices(_PIECE)):
            ready = waiting
            waiting = piece, writer.submit(_written, piece, Path(folder) / f"{number}.tsv")
            if ready:
                _take(connection, table, ready[0], ready[1].result(), computed)
        if waiting:
            _take(connection, table, waiting[0], waiting[1].result(), computed)


def _written(frame: pl.DataFrame, file: Path) -> Path:
    """The rows as LOAD DATA reads them."""
    _escaped(frame).write_csv(file, separator="\t", include_header=False, quote_style="never", null_value="\\N")
    return file


def _take(connection: Connection, table: str, frame: pl.DataFrame, file: Path, computed: str) -> None:
    """
    LOCAL turns errors into warnings and drops rows that repeat a key, so the count of
    rows and of warnings is checked: it must be all or nothing.
    """
    columns = ", ".join(f"`{name}`" for name in frame.columns)
    result = connection.exec_driver_sql(
        f"LOAD DATA LOCAL INFILE '{file}' INTO TABLE `{table}` CHARACTER SET utf8mb4 FIELDS TERMINATED BY '\\t' ESCAPED"
        f" BY '\\\\' LINES TERMINATED BY '\\n' ({columns}){f' SET {computed}' if computed else ''}"
    )
    warned = connection.exec_driver_sql("SHOW COUNT(*) WARNINGS").scalar_one()
    if result.rowcount != len(frame) or warned:
        first = connection.exec_driver_sql("SHOW WARNINGS LIMIT 1").first()
        raise Conflict(
            f"The database took {result.rowcount:,} of {len(frame):,} rows of {table.replace('_', ' ')}, so none was"
            f" kept{f': {first[2]}' if first else ''}.",
            remedy=(
                "Nothing was changed. Load the file once more; if it comes back, whoever runs this installation needs"
                " this sentence."
            ),
        )
