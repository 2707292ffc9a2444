"""
Columnar day files: one Arrow file per account, kind, day (or block) and version, mapped to read.

They are made from MariaDB and can always be deleted. The version in the name means a
reader never sees a stale day, and a crash between commit and file leaves nothing wrong.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator, Mapping
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from datetime import date
from functools import lru_cache
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
    "BIGINT": pl.Int64,
    "INTEGER": pl.UInt32,
    "TINYINT": pl.UInt8,
    "DOUBLE": pl.Float64,
    "VARCHAR": pl.String,
    "DATE": pl.Date,
    "DATETIME": pl.Datetime("us"),
}


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


class Drafts:
    """Day files that are written while the record is, under passing names until their versions are known and stand."""

    def __init__(self, folder: Path) -> None:
        self._folder, self._writer = folder, ThreadPoolExecutor(1)
        self._begun: dict[tuple[int, str], Future[dict[Window, Path]]] = {}
        self._files: list[Path] = []

    def __enter__(self) -> Drafts:
        return self

    def __exit__(self, *_: object) -> None:
        """Those that nobody took go."""
        self._writer.shutdown()
        for each in self._files:
            each.unlink(missing_ok=True)

    def begin(self, account_id: int, kind: str, parts: Mapping[Window, pl.DataFrame]) -> None:
        """Begins to write the rows of some days; begun once more, the later ones count."""
        self._begun[account_id, kind] = self._writer.submit(self._write, account_id, kind, parts)

    def of(self, account_id: int, kind: str) -> dict[Window, Path]:
        """What was written, as far as the disk took it."""
        begun = self._begun.get((account_id, kind))
        return begun.result() if begun else {}

    def _write(self, account_id: int, kind: str, parts: Mapping[Window, pl.DataFrame]) -> dict[Window, Path]:
        found = {}
        with suppress(OSError):
            for span, rows in parts.items():
                found[span] = _drafted(self._folder / str(account_id) / kind, _shaped(kind, rows))
                self._files.append(found[span])
        return found


def keep(
    folder: Path, account_id: int, kind: str, written: Iterable[Written], drafts: Mapping[Window, Path] | None = None
) -> None:
    """
    Writes the files of what is given whole, and drops the versions they replace. drafts: those that are written
    already, of the same rows.

    A disk that is full costs speed, not data: the rows are read from MariaDB instead.
    """
    for each in written:
        if each.rows is not None:
            target = path(folder, account_id, kind, each.span, each.version)
            draft = drafts.get(each.span) if drafts else None
            with suppress(OSError):
                (draft or _drafted(target.parent, _shaped(kind, each.rows))).replace(target)
        for old in (folder / str(account_id) / kind).glob(f"{_stem(each.span)}.v*.arrow"):
            if old.name != f"{_stem(each.span)}.v{each.version}.arrow":
                old.unlink(missing_ok=True)


def _shaped(kind: str, rows: pl.DataFrame) -> pl.DataFrame:
    return rows.select(pl.col(name).cast(dtype) for name, dtype in columns(kind).items())


def _drafted(folder: Path, rows: pl.DataFrame) -> Path:
    """A file beside those it is to be one of, to be renamed, so that a reader sees a whole file or none."""
    folder.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=folder, suffix=".part")
    os.close(handle)
    try:
        rows.write_ipc(name, compression="uncompressed")
    except OSError:
        Path(name).unlink(missing_ok=True)
        raise
    return Path(name)


def _mapped(file: Path) -> pl.DataFrame | None:
    """A day file's rows, mapped once for as long as it is the same file; None where there is none."""
    try:
        entries = file.stat()
    except FileNotFoundError:
        return None
    return _mapped_once(file, (entries.st_ino, entries.st_mtime_ns, entries.st_size))


@lru_cache(maxsize=1_000)
def _mapped_once(file: Path, _which: tuple[int, int, int]) -> pl.DataFrame:
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
                "SELECT first_day, day, version FROM day_version WHERE account_id = :account "
                f"AND kind = :kind AND `rows` > 0 {condition} ORDER BY day, first_day"
            ),
            values,
        )
        return {Window(row.first_day, row.day): row.version for row in rows}


def row_counts(store: Store, account_id: int, kind: str) -> dict[Window, int]:
    """How many rows every day and block holds."""
    statement = text("SELECT first_day, day, `rows` FROM day_version WHERE account_id = :account AND kind = :kind")
    with store.read() as connection:
        cursor = connection.execute(statement, {"account": account_id, "kind": kind})
        return {Window(row.first_day, row.day): int(row.rows) for row in cursor}


def read(store: Store, account_id: int, kind: str, wanted: Versions, only: Iterable[str] | None = None) -> pl.LazyFrame:
    """
    The rows of the wanted days and blocks, each with its `day` (of a block the last) and its
    `first_day`; missing files are made from MariaDB.

    only: the columns needed, all when None.
    """
    picked = list(only) if only is not None else list(columns(kind))
    files = {span: _mapped(path(store.snapshots, account_id, kind, span, v)) for span, v in wanted.items()}
    missing = {span: wanted[span] for span, frame in files.items() if frame is None}
    rebuilt = _rebuild(store, account_id, kind, missing) if missing else {}
    parts = []
    for span, rows in files.items():
        frame = rebuilt[span] if rows is None else rows
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
        raise StoreAway("The database does not answer.", remedy="Retrying. Nothing is lost.") from problem


def first_day_of(kind: str, alias: str = "") -> str:
    """SQL for the first day that a row is of, whether it is one day or a block."""
    prefix = f"{alias}." if alias else ""
    if "first_day" not in FACTS[kind].columns:
        return f"{prefix}day"
    return f"COALESCE({prefix}first_day, {prefix}day)"


_PIECE_ROWS: Final = 250_000
"""
So many rows are read at once, or a day's where it has more: what they take in memory does not grow
with the account.
"""


def _rebuild(store: Store, account_id: int, kind: str, missing: Versions) -> dict[Window, pl.DataFrame]:
    """
    Reads what is missing, piece by piece, and keeps each as a file where the disk allows; one is written while the next
    is read.
    """
    wanted = list(columns(kind))
    statement = (
        f"SELECT day, {first_day_of(kind)} AS first_day, {', '.join(f'`{name}`' for name in wanted)} "
        f"FROM `{kind}` WHERE account_id = :account AND day BETWEEN :first AND :last "
        f"ORDER BY day, {', '.join(f'`{key}`' for key in KEYS_OF[kind])}"
    )
    found: dict[Window, pl.DataFrame] = {}
    with ThreadPoolExecutor(1) as writer:
        writing: Future[dict[Window, pl.DataFrame]] | None = None
        for piece in _pieces(store, account_id, kind, missing):
            rows = query(
                store,
                statement,
                account=account_id,
                first=min(span.last for span in piece),
                last=max(span.last for span in piece),
            )
            if writing:
                found |= writing.result()
            writing = writer.submit(_kept, store.snapshots, account_id, kind, piece, rows)
        if writing:
            found |= writing.result()
    return found


def _pieces(store: Store, account_id: int, kind: str, missing: Versions) -> Iterator[dict[Window, int]]:
    """What is missing, the oldest first, so much at once as `_PIECE_ROWS` says."""
    rows = row_counts(store, account_id, kind)
    piece, value = dict[Window, int](), 0
    for span in sorted(missing, key=lambda each: (each.last, each.first)):
        value += rows.get(span, 0)
        if piece and value > _PIECE_ROWS:
            yield piece
            piece, value = {}, rows.get(span, 0)
        piece[span] = missing[span]
    if piece:
        yield piece


def _kept(folder: Path, account_id: int, kind: str, piece: Versions, rows: pl.DataFrame) -> dict[Window, pl.DataFrame]:
    """Writes the files of a piece; its frames, mapped where they could be written."""
    parts, found = by_span(rows), {}
    for span, version in piece.items():
        frame = _shaped(kind, parts.get(span, rows.clear()))
        keep(folder, account_id, kind, [Written(span, version, frame)])
        written = _mapped(path(folder, account_id, kind, span, version))
        found[span] = frame if written is None else written
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
