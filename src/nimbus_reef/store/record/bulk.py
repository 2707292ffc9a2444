"""Frames into tables by LOAD DATA LOCAL INFILE, and keys into ids by the same road."""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path

import polars as pl
from sqlalchemy import Connection, Table, text
from sqlalchemy.dialects import mysql

from nimbus_reef.errors import Conflict

_DIALECT = mysql.dialect()


def _escaped(frame: pl.DataFrame) -> pl.DataFrame:
    """Text cells in LOAD DATA's own escapes."""
    escapes = {"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r", "\0": "\\0"}
    texts = pl.col(pl.String)
    for plain, escape in escapes.items():
        texts = texts.str.replace_all(plain, escape, literal=True)
    return frame.with_columns(texts)


def load(connection: Connection, table: str, frame: pl.DataFrame, scratch: Path) -> None:
    """
    Appends a frame to a table, columns by name; Conflict unless every row went in.

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
            f"FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' ({columns})"
        )
    warned = connection.exec_driver_sql("SHOW COUNT(*) WARNINGS").scalar_one()
    if result.rowcount != len(frame) or warned:
        first = connection.exec_driver_sql("SHOW WARNINGS LIMIT 1").first()
        raise Conflict(
            f"The database took {result.rowcount:,} of {len(frame):,} rows of {table.replace('_', ' ')}, so none was kept"
            f"{f': {first[2]}' if first else ''}.",
            remedy="Nothing was changed. Load the file once more; if it comes back, whoever runs this installation needs this sentence.",
        )


def _column_type(table: Table, key: str) -> str:
    written = str(table.c[key].type.compile(_DIALECT))
    return f"{written} COLLATE utf8mb4_bin" if written.startswith("VARCHAR") else written


def ensure_ids(
    connection: Connection,
    table: Table,
    keys: Sequence[str],
    wanted: pl.DataFrame,
    scratch: Path,
    *,
    carried: Sequence[str] = (),
) -> pl.DataFrame:
    """
    The id of every distinct key of `wanted`, rows made where they are missing.

    wanted: the key columns, and those that a new row carries besides. Returns them with `id` (uint32). Two loads that make the
    same key meet at the unique index: the later waits, then reads the earlier's id.
    """
    distinct = wanted.select(*keys, *carried).unique(keys, maintain_order=True)
    if distinct.is_empty():
        return distinct.with_columns(id=pl.lit(None, pl.UInt32))
    temporary = f"wanted_{table.name}"
    made = [*keys, *carried]
    columns = ", ".join(f"`{key}` {_column_type(table, key)}" for key in made)
    names = ", ".join(f"`{key}`" for key in keys)
    using = ", ".join(f"`{key}`" for key in keys)
    connection.exec_driver_sql(f"DROP TEMPORARY TABLE IF EXISTS `{temporary}`")
    connection.exec_driver_sql(f"CREATE TEMPORARY TABLE `{temporary}` ({columns}) ENGINE=InnoDB")
    load(connection, temporary, distinct, scratch)
    connection.exec_driver_sql(
        f"INSERT IGNORE INTO `{table.name}` ({', '.join(f'`{k}`' for k in made)}) "  # noqa: S608  # names are the models’ own, values are bound
        f"SELECT {', '.join(f'w.`{k}`' for k in made)} "
        f"FROM `{temporary}` w LEFT JOIN `{table.name}` t USING ({using}) WHERE t.id IS NULL"
    )
    rows = connection.execute(
        # Of a table just filled MariaDB thinks that it is empty, and would read it whole for every key.
        text(f"SELECT STRAIGHT_JOIN t.id, {names} FROM `{temporary}` w JOIN `{table.name}` t USING ({using})")  # noqa: S608  # names are the models’ own, values are bound
    )
    found = pl.DataFrame(
        rows.fetchall(),
        schema={"id": pl.UInt32, **{key: distinct[key].dtype for key in keys}},
        orient="row",
        infer_schema_length=None,
    )
    connection.exec_driver_sql(f"DROP TEMPORARY TABLE `{temporary}`")
    return found
