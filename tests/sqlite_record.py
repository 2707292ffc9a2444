"""
A store without a database server: its record in one SQLite file, its day files beside it, filled by the ordinary
intake.

For what is asked of loaded data, not of how it is kept: the record's own tests run on MariaDB. The few things that are
said in MariaDB's own dialect (bulk loads, upserts, turns, reads by connectorx) are said in SQLite's here.
"""

from __future__ import annotations

import hashlib
import re
import sqlite3
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any
from unittest import mock

import polars as pl
from sqlalchemy import Connection, create_engine, event, text
from sqlalchemy.dialects import mysql
from sqlalchemy.ext.compiler import compiles

from nimbus_reef.store.record import bulk, locks, snapshots
from nimbus_reef.store.record.dictionary import Dictionary
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import metadata
from nimbus_reef.store.record.nodes import Nodes

_NAMES = {
    "INTEGER": (mysql.INTEGER, mysql.BIGINT, mysql.SMALLINT, mysql.TINYINT),
    "TEXT": (mysql.CHAR, mysql.TEXT, mysql.MEDIUMTEXT),
    "BLOB": (mysql.LONGBLOB,),
}
for _name, _types in _NAMES.items():
    for _type in _types:
        compiles(_type, "sqlite")(lambda _type, _compiler, name=_name, **_: name)

sqlite3.register_adapter(date, date.isoformat)
sqlite3.register_converter("DATE", lambda said: date.fromisoformat(said.decode()))


def at(folder: Path) -> Store:
    """The store of a folder; an empty one at first."""
    made = create_engine(
        f"sqlite:///{folder}/record.db",
        native_datetime=True,
        connect_args={"detect_types": sqlite3.PARSE_DECLTYPES, "check_same_thread": False},
    )

    @event.listens_for(made, "connect")
    def prepared(connection: Any, _: Any) -> None:
        connection.create_function("concat", -1, lambda *parts: "".join(map(str, parts)))
        connection.create_function("crc32", 1, lambda text: zlib.crc32(str(text).encode()))
        connection.create_function("utc_timestamp", 0, lambda: f"{datetime.now(UTC):%Y-%m-%d %H:%M:%S}")

    @event.listens_for(made, "before_cursor_execute", retval=True)
    def translated(_: Any, __: Any, statement: str, parameters: Any, *___: Any) -> tuple[str, Any]:
        return _in_sqlite(statement), parameters

    metadata.create_all(made)
    for each in ("snapshots", "scratch"):
        (folder / each).mkdir(exist_ok=True)
    return Store(made, Nodes([("none", 0)]), folder / "snapshots", folder / "scratch", Dictionary(folder / "names"))


def _in_sqlite(statement: str) -> str:
    said = statement.replace("DROP TEMPORARY TABLE", "DROP TABLE")
    said = re.sub(r"^(CREATE TEMPORARY TABLE \S+) \(PRIMARY KEY \(.*?\)\) SELECT", r"\1 AS SELECT", said)
    said = re.sub(r"^DELETE f FROM (`\w+`) f\b", r"DELETE FROM \1 AS f", said)
    values, upsert, changed = said.partition("ON DUPLICATE KEY UPDATE ")
    return values + (upsert and "ON CONFLICT DO UPDATE SET ") + re.sub(r"VALUES\((`?\w+`?)\)", r"excluded.\1", changed)


def _load(connection: Connection, table: str, frame: pl.DataFrame, _: Path, *, computed: str = "") -> None:
    if computed:
        assert computed == "digest = MD5(text)"
        digests = [hashlib.md5(each.encode()).hexdigest() for each in frame["text"]]
        frame = frame.with_columns(digest=pl.Series(digests, dtype=pl.String))
    if len(frame):
        names = ", ".join(f"`{name}`" for name in frame.columns)
        values = ", ".join("?" * len(frame.columns))
        rows = frame.with_columns(pl.col(pl.Date, pl.Datetime).cast(pl.String)).rows()
        connection.exec_driver_sql(f"INSERT INTO `{table}` ({names}) VALUES ({values})", rows)


def _query(store: Store, statement: str, **values: object) -> pl.DataFrame:
    written = text(statement).bindparams(**values).compile(store.engine, compile_kwargs={"literal_binds": True})
    return pl.read_database_uri(str(written), f"sqlite://{store.engine.url.database}", engine="connectorx")


@contextmanager
def spoken() -> Iterator[None]:
    """Within it stores of this module can be loaded and read."""
    with (
        mock.patch.object(bulk, "load", _load),
        mock.patch.object(locks, "take"),
        mock.patch.object(snapshots, "query", _query),
    ):
        yield
