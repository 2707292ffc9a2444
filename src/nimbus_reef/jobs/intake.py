"""
From a file to the record: read, suggest, parse, load. The page, the job and the command
line all go through here.
"""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime
from pathlib import Path
from typing import IO
from zoneinfo import ZoneInfo

import polars as pl

from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import mapping, reports, tables, values
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.mapping import ColumnMap, Suggestion
from nimbus_reef.formats.reports import Parsed
from nimbus_reef.formats.tables import RawTable
from nimbus_reef.formats.values import DateOrder
from nimbus_reef.store import ingest, loads
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.engine import Store
from nimbus_reef.store.ingest import Loaded, Part, Progress, Source

_PREVIEW_ROWS = 2_000


def today_of(account: Account) -> date:
    """Today in the account's own time zone."""
    return datetime.now(ZoneInfo(account.timezone)).date()


@dataclass(frozen=True, slots=True)
class Kept:
    """A file in the uploads folder, under its checksum."""

    path: Path
    sha256: str
    size: int


def keep(folder: Path, stream: IO[bytes]) -> Kept:
    """Writes a stream into the folder under its SHA-256; the sender's name is never a path."""
    folder.mkdir(parents=True, exist_ok=True)
    digest, size = hashlib.sha256(), 0
    handle, name = tempfile.mkstemp(dir=folder, suffix=".part")
    try:
        with os.fdopen(handle, "wb") as file:
            while chunk := stream.read(1 << 20):
                digest.update(chunk)
                size += len(chunk)
                file.write(chunk)
        target = folder / digest.hexdigest()
        Path(name).replace(target)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
    return Kept(target, digest.hexdigest(), size)


def keep_file(folder: Path, path: Path) -> Kept:
    """The same for a file on this machine."""
    with path.open("rb") as stream:
        return keep(folder, stream)


@dataclass(frozen=True, slots=True)
class Looked:
    """
    A first look at a file: its head, the kinds it may be (best first), and whether the
    best comes from an earlier file of the same source.
    """

    table: RawTable
    suggestions: tuple[Suggestion, ...]
    remembered: bool
    scope: str


def look(store: Store, account: Account, path: Path, file_name: str) -> Looked:
    """Reads the head of a file and suggests what it is; BadFile when it cannot be read."""
    if not path.exists():
        raise BadFile("The file is no longer here.", place=file_name, remedy="Drop it again.")
    table = tables.read_table(path, file_name, rows=_PREVIEW_ROWS)
    suggestions = mapping.suggest_kind(table)
    before = loads.remembered(store, account.id, mapping.signature(table.headers))
    if before is None:
        return Looked(table, tuple(suggestions), False, "product")
    known = ColumnMap.from_json(before.mapping)
    fresh = next(each for each in suggestions if each.mapping.kind == known.kind)
    first = replace(fresh, mapping=replace(known, date_order=fresh.mapping.date_order), missing=())
    rest = [each for each in suggestions if each.mapping.kind != known.kind]
    return Looked(table, (first, *rest), True, before.scope)


def needs_date_order(table: RawTable, columns: ColumnMap) -> bool:
    """True when a mapped date could be day-first or month-first and nobody said which."""
    if columns.date_order is not DateOrder.UNKNOWN:
        return False
    kind = KINDS[columns.kind]
    return any(
        column.holds.dated
        and column.name in columns.columns
        and values.date_order(table.frame[columns.columns[column.name]]) is DateOrder.UNKNOWN
        for column in kind.columns
    )


def load(
    store: Store,
    account: Account,
    path: Path,
    file_name: str,
    columns: ColumnMap,
    *,
    scope: str,
    others: Sequence[Account] = (),
    today: date | None = None,
    confirmed: bool = False,
    sha256: str = "",
    person_id: int | None = None,
    upload_id: int | None = None,
    progress: Progress = lambda part, message: None,
) -> tuple[Loaded, ...]:
    """
    Loads one file under a confirmed mapping. Raises BadFile, BadInput or NeedsYes; then
    nothing was changed.

    others: accounts that rows with an `account` of their own may go to. today: the day
    of loading, each account's own when left out.
    """
    progress(0.02, "reading the file")
    table = tables.read_table(path, file_name)
    columns = mapping.checked(columns, table.headers)
    columns = _settled_dates(table, columns, file_name)
    progress(0.15, f"understanding {len(table.frame):,} rows")
    parsed = reports.parse(table, columns, file_name, account.timezone)
    parts = [
        Part(owner.id, own, today or today_of(owner))
        for owner, own in _by_account(parsed, account, others, file_name)
    ]
    source = Source(
        file_name,
        sha256 or keep_digest(path),
        mapping.signature(table.headers),
        columns,
        person_id,
        upload_id,
    )
    return ingest.load(store, parts, source, scope=scope, confirmed=confirmed, progress=progress)


def _by_account(
    parsed: Parsed, account: Account, others: Sequence[Account], file_name: str
) -> list[tuple[Account, Parsed]]:
    """The rows of each account; those that name none are the chosen account's."""
    written = parsed.rows["account"].unique().drop_nulls()
    if written.is_empty():
        return [(account, parsed)]
    known = _names_of({each.id: each for each in (account, *others)}.values())
    owners = {name: known.get(name.strip().casefold()) for name in written.to_list()}
    unknown = sorted(name for name, owner in owners.items() if owner is None)
    if unknown:
        raise BadInput(
            f"The file has rows of accounts that are not known to you: {', '.join(unknown[:5])}.",
            place=file_name,
            remedy=f"Known are {', '.join(sorted(each.key for each in (account, *others)))}. Write one of these "
            f"in the file, or leave “account” without a column to load all rows into {account.key}.",
        )
    ids = parsed.rows["account"].replace_strict(
        {name: owner.id for name, owner in owners.items() if owner}, default=account.id, return_dtype=pl.Int64
    )
    found = []
    for owner in sorted({owner.id: owner for owner in (account, *owners.values()) if owner}.values(),
                        key=lambda each: each.id != account.id):  # fmt: skip
        rows = parsed.rows.filter(ids == owner.id)
        if len(rows):
            rejects = parsed.rejects if not found else parsed.rejects.clear()
            found.append((owner, replace(parsed, rows=rows, rejects=rejects)))
    return found


def _names_of(accounts: Iterable[Account]) -> dict[str, Account]:
    """How a file may write an account: its key, or brand and country."""
    return {
        name.casefold(): each
        for each in accounts
        for name in (each.key, f"{each.brand} {each.country}", f"{each.brand}, {each.country}")
    }


def keep_digest(path: Path) -> str:
    """The SHA-256 of a file."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def _settled_dates(table: RawTable, columns: ColumnMap, file_name: str) -> ColumnMap:
    """The order of day and month that the whole file proves; asks when it proves none."""
    if columns.date_order is not DateOrder.UNKNOWN:
        return columns
    for column in KINDS[columns.kind].columns:
        if not column.holds.dated or column.name not in columns.columns:
            continue
        found = values.date_order(table.frame[columns.columns[column.name]])
        if found is DateOrder.UNKNOWN:
            raise BadInput(
                f"The dates in “{columns.columns[column.name]}” can be read day-first or month-first.",
                place=file_name,
                remedy="Say which it is (in the mapping, or with --dates).",
            )
        if found is not None:
            columns = replace(columns, date_order=found)
    return columns


def suggestion_for(looked: Looked, kind: str | None) -> Suggestion:
    """The suggestion for a chosen kind, or the best; BadFile when no kind fits at all."""
    if kind is not None:
        found = next((each for each in looked.suggestions if each.mapping.kind == kind), None)
        if found is None:
            raise BadInput(f"“{kind}” is no report kind.", remedy=f"Use one of {', '.join(KINDS)}.")
        return found
    best = looked.suggestions[0]
    if best.missing:
        raise BadFile(
            f"No report kind fits: for {KINDS[best.mapping.kind].title.lower()} the file lacks "
            f"{', '.join(best.missing)}.",
            remedy="Choose the columns by hand in Intake, or rename them in the file.",
        )
    return best


def to_mend(path: Path, file_name: str, problems: Sequence[tuple[int, str, str, str]]) -> pl.DataFrame:
    """
    The file as it stands with a last column `problem`, rows that were turned away first.

    All of it, since a file replaces the days it covers: the mended rows alone would take
    the place of the good ones. problems: line, column, value, reason. BadFile when the
    file cannot be read any more.
    """
    if not path.exists():
        raise BadFile("The file is no longer here.", place=file_name, remedy="Drop it again.")
    table = tables.read_table(path, file_name)
    said = pl.DataFrame(
        {"line": [row[0] for row in problems], "problem": [f"{row[1]} {row[3]}" for row in problems]},
        schema={"line": pl.Int64, "problem": pl.String},
    )
    per_line = said.group_by("line", maintain_order=True).agg(pl.col("problem").str.join("; "))
    return (
        table.frame.with_columns(pl.col(tables.LINE).cast(pl.Int64))
        .join(per_line, left_on=tables.LINE, right_on="line", how="left", maintain_order="left")
        .sort(pl.col("problem").is_null(), maintain_order=True)
        .drop(tables.LINE)
    )
