"""
Columnar day files: one Arrow file per account, kind, day and version, mapped to read.

They are made from MariaDB and can always be deleted. The version in the name means a
reader never sees a stale day, and a crash between commit and file leaves nothing wrong.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Final

import polars as pl
import pyarrow as pa
from sqlalchemy import text

from nimbus_reef.core.windows import Window
from nimbus_reef.errors import StoreAway
from nimbus_reef.store.engine import Store
from nimbus_reef.store.models import FACTS, KEYS_OF

_LEFT_OUT: Final = frozenset({"account_id", "day", "scope"})
_TYPES: Final[Mapping[str, pl.DataType | type[pl.DataType]]] = {
    "BIGINT": pl.Int64, "INTEGER": pl.UInt32, "TINYINT": pl.UInt8, "DOUBLE": pl.Float64,
    "VARCHAR": pl.String, "DATE": pl.Date, "DATETIME": pl.Datetime("us"),
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class DayWritten:
    """A day whose version changed; rows where the load knows all of them, else null."""

    day: date
    version: int
    rows: pl.DataFrame | None


Days = tuple[DayWritten, ...]
Versions = Mapping[date, int]


def columns(kind: str) -> dict[str, pl.DataType | type[pl.DataType]]:
    """The columns of a day file and their types: the fact table's less account, day, scope."""
    return {
        column.name: _TYPES[column.type.__visit_name__.upper().replace("STRING", "VARCHAR")]
        for column in FACTS[kind].columns
        if column.name not in _LEFT_OUT
    }


def no_rows(kind: str) -> pl.DataFrame:
    """No rows of a kind, with its columns."""
    return pl.DataFrame(schema={"day": pl.Date, **columns(kind)})


def path(folder: Path, account_id: int, kind: str, day: date, version: int) -> Path:
    """Where the file of a day and version lies."""
    return folder / str(account_id) / kind / f"{day.isoformat()}.v{version}.arrow"


def keep(folder: Path, account_id: int, kind: str, days: Iterable[DayWritten]) -> None:
    """
    Writes the files of the days given whole, and drops the versions they replace.

    A disk that is full costs speed, not data: the day is read from MariaDB instead.
    """
    for each in days:
        if each.rows is not None:
            with suppress(OSError):
                _write(path(folder, account_id, kind, each.day, each.version), _shaped(kind, each.rows))
        for old in (folder / str(account_id) / kind).glob(f"{each.day.isoformat()}.v*.arrow"):
            if old.name != f"{each.day.isoformat()}.v{each.version}.arrow":
                old.unlink(missing_ok=True)


def _shaped(kind: str, rows: pl.DataFrame) -> pl.DataFrame:
    return rows.select(pl.col(name).cast(dtype) for name, dtype in columns(kind).items())


def _write(target: Path, rows: pl.DataFrame) -> None:
    """Writes beside the target and renames, so that a reader sees a whole file or none."""
    target.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=target.parent, suffix=".part")
    os.close(handle)
    try:
        rows.write_ipc(name, compression="uncompressed")
        Path(name).replace(target)
    except OSError:
        Path(name).unlink(missing_ok=True)
        raise


def _mapped(file: Path) -> pl.DataFrame:
    with pa.memory_map(str(file)) as source:
        frame = pl.from_arrow(pa.ipc.open_file(source).read_all(), rechunk=False)
    assert isinstance(frame, pl.DataFrame)
    return frame


def versions(store: Store, account_id: int, kind: str, window: Window | None = None) -> dict[date, int]:
    """The version of every day that holds rows, in the window or ever."""
    condition = "AND day BETWEEN :first AND :last" if window else ""
    values: dict[str, object] = {"account": account_id, "kind": kind}
    if window:
        values |= {"first": window.first, "last": window.last}
    with store.read() as connection:
        rows = connection.execute(
            text(
                "SELECT day, version FROM day_version WHERE account_id = :account "
                f"AND kind = :kind AND `rows` > 0 {condition} ORDER BY day"
            ),
            values,
        )
        return {row.day: row.version for row in rows}


def read(
    store: Store, account_id: int, kind: str, wanted: Versions, only: Iterable[str] | None = None
) -> pl.LazyFrame:
    """
    The rows of the wanted days with their `day`; missing files are made from MariaDB.

    only: the columns needed, all when null.
    """
    picked = list(only) if only is not None else list(columns(kind))
    files = {day: path(store.snapshots, account_id, kind, day, v) for day, v in wanted.items()}
    missing = {day: wanted[day] for day, file in files.items() if not file.exists()}
    rebuilt = _rebuild(store, account_id, kind, missing) if missing else {}
    parts = []
    for day, file in files.items():
        frame = rebuilt[day] if day in rebuilt else _mapped(file)
        parts.append(frame.lazy().select(picked).with_columns(pl.lit(day).alias("day")))
    if not parts:
        return no_rows(kind).lazy().select(*picked, "day")
    return pl.concat(parts, rechunk=False)


def rebuild(store: Store, account_id: int, kind: str) -> int:
    """Makes every day file of a kind anew from MariaDB; how many."""
    wanted = versions(store, account_id, kind)
    if wanted:
        _rebuild(store, account_id, kind, wanted)
    return len(wanted)


def query(store: Store, statement: str) -> pl.DataFrame:
    """The rows of a query, by connectorx: four times quicker than row by row."""
    try:
        return pl.read_database_uri(statement, store.url, engine="connectorx")
    except RuntimeError as problem:
        raise StoreAway(
            "The database does not answer.", remedy="It is being tried again; nothing is lost."
        ) from problem


def _rebuild(store: Store, account_id: int, kind: str, missing: Versions) -> dict[date, pl.DataFrame]:
    """Reads the missing days in one query and keeps each as a file where the disk allows."""
    wanted = list(columns(kind))
    first, last = min(missing), max(missing)
    rows = query(
        store,
        f"SELECT day, {', '.join(f'`{name}`' for name in wanted)} FROM `{kind}` "
        f"WHERE account_id = {int(account_id)} AND day BETWEEN '{first}' AND '{last}' "
        f"ORDER BY day, {', '.join(f'`{key}`' for key in KEYS_OF[kind])}",
    )
    parts = {part["day"][0]: part for part in rows.partition_by("day", maintain_order=True)}
    found = {}
    for day, version in missing.items():
        part = parts.get(day)
        frame = _shaped(kind, part if part is not None else rows.clear())
        found[day] = frame
        keep(store.snapshots, account_id, kind, [DayWritten(day, version, frame)])
    return found
