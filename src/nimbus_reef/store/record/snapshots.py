"""
Columnar day files: one Arrow file per account, kind, day (or block) and version, mapped to read.

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
from sqlalchemy.dialects import mysql

from nimbus_reef.core.windows import Window
from nimbus_reef.errors import StoreAway
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import FACTS, KEYS_OF

_LEFT_OUT: Final = frozenset({"account_id", "day", "first_day", "scope"})
_TYPES: Final[Mapping[str, pl.DataType | type[pl.DataType]]] = {
    "BIGINT": pl.Int64, "INTEGER": pl.UInt32, "TINYINT": pl.UInt8, "DOUBLE": pl.Float64,
    "VARCHAR": pl.String, "DATE": pl.Date, "DATETIME": pl.Datetime("us"),
}  # fmt: skip


_LITERAL: Final = mysql.dialect(paramstyle="named")
KINDS: Final = tuple(FACTS)
"""The kinds of reports that have day files."""


@dataclass(frozen=True, slots=True)
class Written:
    """
    A day or block whose version changed; rows where the load knows all of them, else None.

    span: the days that its rows are the sums of; of a day, itself.
    """

    span: Window
    version: int
    rows: pl.DataFrame | None


Spans = tuple[Written, ...]
Versions = Mapping[Window, int]
"""The days and blocks that hold rows, by their span, with their version."""


def day(of: date) -> Window:
    """A day as the span of itself."""
    return Window(of, of)


def columns(kind: str) -> dict[str, pl.DataType | type[pl.DataType]]:
    """The columns of a day file and their types: the fact table's less account, day, scope."""
    return {
        column.name: _TYPES[column.type.__visit_name__.upper().replace("STRING", "VARCHAR")]
        for column in FACTS[kind].columns
        if column.name not in _LEFT_OUT
    }


def no_rows(kind: str) -> pl.DataFrame:
    """No rows of a kind, with its columns."""
    return pl.DataFrame(schema={"day": pl.Date, "first_day": pl.Date, **columns(kind)})


def path(folder: Path, account_id: int, kind: str, span: Window, version: int) -> Path:
    """Where the file of a day or block and its version lies."""
    return folder / str(account_id) / kind / f"{_stem(span)}.v{version}.arrow"


def _stem(span: Window) -> str:
    first, last = span.first.isoformat(), span.last.isoformat()
    return last if span.days == 1 else f"{first}..{last}"


def keep(folder: Path, account_id: int, kind: str, written: Iterable[Written]) -> None:
    """
    Writes the files of what is given whole, and drops the versions they replace.

    A disk that is full costs speed, not data: the rows are read from MariaDB instead.
    """
    for each in written:
        if each.rows is not None:
            with suppress(OSError):
                _write(path(folder, account_id, kind, each.span, each.version), _shaped(kind, each.rows))
        for old in (folder / str(account_id) / kind).glob(f"{_stem(each.span)}.v*.arrow"):
            if old.name != f"{_stem(each.span)}.v{each.version}.arrow":
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


def versions(store: Store, account_id: int, kind: str, window: Window | None = None) -> dict[Window, int]:
    """The version of every day and block that holds rows, in order; those wholly in the window, or all."""
    condition = "AND day <= :last AND first_day >= :first" if window else ""
    values: dict[str, object] = {"account": account_id, "kind": kind}
    if window:
        values |= {"first": window.first, "last": window.last}
    with store.read() as connection:
        rows = connection.execute(
            text(
                "SELECT first_day, day, version FROM day_version WHERE account_id = :account "  # noqa: S608  # names are the models’ own, values are bound
                f"AND kind = :kind AND `rows` > 0 {condition} ORDER BY day, first_day"
            ),
            values,
        )
        return {Window(row.first_day, row.day): row.version for row in rows}


def read(
    store: Store, account_id: int, kind: str, wanted: Versions, only: Iterable[str] | None = None
) -> pl.LazyFrame:
    """
    The rows of the wanted days and blocks, each with its `day` (of a block the last) and its
    `first_day`; missing files are made from MariaDB.

    only: the columns needed, all when None.
    """
    picked = list(only) if only is not None else list(columns(kind))
    files = {span: path(store.snapshots, account_id, kind, span, v) for span, v in wanted.items()}
    missing = {span: wanted[span] for span, file in files.items() if not file.exists()}
    rebuilt = _rebuild(store, account_id, kind, missing) if missing else {}
    parts = []
    for span, file in files.items():
        frame = rebuilt[span] if span in rebuilt else _mapped(file)
        days = (pl.lit(span.last).alias("day"), pl.lit(span.first).alias("first_day"))
        parts.append(frame.lazy().select(picked).with_columns(days))
    if not parts:
        return no_rows(kind).lazy().select(*picked, "day", "first_day")
    return pl.concat(parts, rechunk=False)


def rebuild(store: Store, account_id: int, kind: str) -> int:
    """Makes every day file of a kind anew from MariaDB; how many."""
    wanted = versions(store, account_id, kind)
    if wanted:
        _rebuild(store, account_id, kind, wanted)
    return len(wanted)


def query(store: Store, statement: str, **values: object) -> pl.DataFrame:
    """
    The rows of a query with values bound to its `:names`, by connectorx: four times quicker than row by row.

    connectorx binds nothing itself, so the dialect writes the values as literals.
    """
    bound = text(statement).bindparams(**values)
    written = bound.compile(dialect=_LITERAL, compile_kwargs={"literal_binds": True})
    try:
        return pl.read_database_uri(str(written), store.url, engine="connectorx")
    except RuntimeError as problem:
        raise StoreAway(
            "The database does not answer.", remedy="It is being tried again; nothing is lost."
        ) from problem


def first_day_of(kind: str, alias: str = "") -> str:
    """SQL for the first day that a row is of, whether it is one day or a block."""
    prefix = f"{alias}." if alias else ""
    if "first_day" not in FACTS[kind].columns:
        return f"{prefix}day"
    return f"COALESCE({prefix}first_day, {prefix}day)"


def _rebuild(store: Store, account_id: int, kind: str, missing: Versions) -> dict[Window, pl.DataFrame]:
    """Reads what is missing in one query and keeps each as a file where the disk allows."""
    wanted = list(columns(kind))
    first, last = min(span.last for span in missing), max(span.last for span in missing)
    rows = query(
        store,
        f"SELECT day, {first_day_of(kind)} AS first_day, {', '.join(f'`{name}`' for name in wanted)} "  # noqa: S608  # names are the models’ own, values are bound
        f"FROM `{kind}` WHERE account_id = :account AND day BETWEEN :first AND :last "
        f"ORDER BY day, {', '.join(f'`{key}`' for key in KEYS_OF[kind])}",
        account=account_id, first=first, last=last,
    )  # fmt: skip
    parts = by_span(rows)
    found = {}
    for span, version in missing.items():
        frame = _shaped(kind, parts.get(span, rows.clear()))
        found[span] = frame
        keep(store.snapshots, account_id, kind, [Written(span, version, frame)])
    return found


def by_span(rows: pl.DataFrame) -> dict[Window, pl.DataFrame]:
    """Rows by the days that they are the sums of, in their order; first_day null is one day."""
    if (
        "first_day" not in rows.columns
        or not (rows["first_day"].is_not_null() & (rows["first_day"] != rows["day"])).any()
    ):
        parts = rows.partition_by("day", maintain_order=True) if len(rows) else []
        return {day(part["day"][0]): part for part in parts}
    whole = rows.with_columns(first_day=pl.coalesce("first_day", "day"))
    return {
        Window(part["first_day"][0], part["day"][0]): part
        for part in whole.partition_by("first_day", "day", maintain_order=True)
    }
