"""Frames into tables by LOAD DATA LOCAL INFILE."""

from __future__ import annotations

import tempfile
from pathlib import Path

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


def load(
    connection: Connection, table: str, frame: pl.DataFrame, scratch: Path, *, computed: str = ""
) -> None:
    """
    Appends a frame to a table, columns by name; Conflict unless every row went in.

    computed: SQL that sets further columns from those given.

    LOCAL turns errors into warnings and drops rows that repeat a key, so the count of
    rows and of warnings is checked: it must be all or nothing.
    """
    if frame.is_empty():
        return
    columns = ", ".join(f"`{name}`" for name in frame.columns)
    with tempfile.NamedTemporaryFile(dir=scratch, suffix=".tsv") as file:
        _escaped(frame).write_csv(
            file.name, separator="\t", include_header=False, quote_style="never", null_value="\\N"
        )
        result = connection.exec_driver_sql(
            f"LOAD DATA LOCAL INFILE '{file.name}' INTO TABLE `{table}` CHARACTER SET utf8mb4 "
            f"FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ({columns}){f' SET {computed}' if computed else ''}"
        )
    warned = connection.exec_driver_sql("SHOW COUNT(*) WARNINGS").scalar_one()
    if result.rowcount != len(frame) or warned:
        first = connection.exec_driver_sql("SHOW WARNINGS LIMIT 1").first()
        raise Conflict(
            f"The database took {result.rowcount:,} of {len(frame):,} rows of {table.replace('_', ' ')}, so none was kept"
            f"{f': {first[2]}' if first else ''}.",
            remedy="Nothing was changed. Load the file once more; if it comes back, whoever runs this installation needs this sentence.",
        )
