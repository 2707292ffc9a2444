"""
From a file to the record: read, suggest, parse, load. The page, the job and the command
line all go through here.
"""

from __future__ import annotations

import hashlib
import os
import tempfile
from collections.abc import Collection, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import date, datetime
from functools import lru_cache
from pathlib import Path
from typing import IO
from zoneinfo import ZoneInfo

import polars as pl

from nimbus_reef.errors import BadFile, BadInput
from nimbus_reef.formats import mapping, mixed, sandbox
from nimbus_reef.formats.kinds import KINDS, READ_KINDS
from nimbus_reef.formats.mapping import ColumnMap, Suggestion
from nimbus_reef.formats.raw import AS_FOUND, Layout, Layouts, RawTable
from nimbus_reef.formats.reports import Parsed
from nimbus_reef.formats.sheet_summary import SheetSummary
from nimbus_reef.store.loading import ingest, names
from nimbus_reef.store.loading.ingest import FilePart, Loaded, Progress, Source
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.loads import Batch

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
    with open(path, "rb", opener=_not_following) as stream:
        return keep(folder, stream)


def _not_following(path: str, flags: int) -> int:
    """A link that took the file's place meanwhile is not followed."""
    return os.open(path, flags | os.O_NOFOLLOW)


@dataclass(frozen=True, slots=True)
class Looked:
    """
    A first look at a file: its tables, how they were read last time (empty where none of them is
    known), the label that goes with that, the load that had the very same bytes, the account's currency, and the kinds
    of settings that it has reports of.
    """

    sheets: tuple[SheetSummary, ...]
    known: tuple[ColumnMap, ...]
    scope: str
    before: Batch | None = None
    currency: str = ""
    settings: frozenset[str] = frozenset()

    @property
    def table(self) -> RawTable:
        """The first table."""
        return self.sheets[0].table

    @property
    def suggestions(self) -> tuple[Suggestion, ...]:
        """What the first table may be."""
        return self.sheets[0].suggestions

    @property
    def remembered(self) -> bool:
        """True when the file comes from a source that was loaded before."""
        return bool(self.known)

    def sheet(self, name: str) -> SheetSummary:
        """A table by the name of its sheet; the first where that is empty."""
        found = next((each for each in self.sheets if each.table.sheet == name or not name), None)
        if found is None:
            offered = ", ".join(each.table.sheet for each in self.sheets)
            raise BadInput(f"There is no sheet “{name}” with rows.", remedy=f"Choose among {offered}.")
        return found


def inspect(
    store: Store, account: Account, path: Path, file_name: str, sha256: str = "", layouts: Layouts | None = None
) -> Looked:
    """
    Reads the head of a file and suggests what it is; BadFile when it cannot be read. layouts: what somebody says of
    where its cells stand; left out, it is read as the last one of its source.
    """
    pairs = tuple(sorted((layouts or {}).items()))
    sheets = _sheets(path, path.stat().st_mtime_ns if path.exists() else 0, file_name, pairs)
    known: list[ColumnMap] = []
    scope = ""
    found = [(each, loads.remembered(store, account.id, each.signature)) for each in sheets]
    then = {each.table.sheet: before[0].mapping.layout for each, before in found if before}
    if layouts is None and any(one != AS_FOUND for one in then.values()):
        return inspect(store, account, path, file_name, sha256, then)
    for each, before in found:
        known += [_as_before(batch, each) for batch in before if batch.mapping.layout == each.table.chosen_layout]
        scope = scope or (before[0].scope if before else "")
    same = loads.same_file(store, account.id, sha256) if sha256 else None
    return Looked(sheets, tuple(known), scope, same, account.currency, loads.kinds_with_reports(store, account.id))


@lru_cache(maxsize=4)
def _sheets(
    path: Path, _changed: int, file_name: str, layouts: tuple[tuple[str, Layout], ...]
) -> tuple[SheetSummary, ...]:
    """The preview of a file, cached: the mapping page needs it again with every choice."""
    return tuple(sorted(sandbox.inspect(path, file_name, _PREVIEW_ROWS, dict(layouts)), key=_longest_first))


def _longest_first(sheet: SheetSummary) -> tuple[bool, int]:
    return bool(sheet.suggestions[0].missing) and not sheet.told_by, -len(sheet.table.frame)


def _as_before(batch: Batch, sheet: SheetSummary) -> ColumnMap:
    """The mapping of an earlier file of this source, with what belongs to this one: dates, days, sheet."""
    known = batch.mapping
    fresh = mapping.suggest(sheet.table, READ_KINDS[known.kind]).mapping
    return replace(
        known, date_order=fresh.date_order, sheet=sheet.table.sheet, days=None if known.dated else sheet.days, rate=None
    )


def take(
    store: Store, account: Account, path: Path, name: str, kind: str, *, today: date, person_id: int | None = None
) -> tuple[Loaded, ...]:
    """Loads a file that is of one kind and needs no question asked: made here, or by the simulated marketplace."""
    looked = inspect(store, account, path, name)
    asked = LoadRequest(
        account, path, name, usual_maps(looked, kind), scope="all", today=today, confirmed=True, person_id=person_id
    )
    return load(store, asked)


def usual_maps(looked: Looked, kind: str | None = None, sheets: Sequence[str] = ()) -> list[ColumnMap]:
    """
    How a file is read when nobody says otherwise: as last time, else as its sheets suggest.

    kind: read the first (or named) sheet as this kind. sheets: only these; else all that fit a kind.
    BadFile where no sheet fits any.
    """
    chosen = [looked.sheet(name) for name in sheets] or list(looked.sheets)
    if kind is not None:
        return [_of_kind(chosen[0], kind)]
    names = {each.table.sheet for each in chosen}
    if known := [each for each in looked.known if each.sheet in names]:
        return known
    found = [result for each in chosen for result in _suggested(each)]
    if found:
        return found
    best = chosen[0].suggestions[0]
    raise BadFile(
        f"No report kind fits: for {KINDS[best.mapping.kind].title.lower()} the file lacks {', '.join(best.missing)}.",
        remedy="Choose the columns by hand in Intake, or rename them in the file.",
    )


def _suggested(sheet: SheetSummary) -> list[ColumnMap]:
    if sheet.told_by:
        column_maps = [each.mapping for each in mixed.suggest(sheet.table, sheet.told_by, dict(sheet.words))]
        return [replace(each, days=sheet.days if each.needs_days else None) for each in column_maps]
    best = sheet.suggestions[0]
    return [] if best.missing else [replace(best.mapping, days=sheet.days if best.mapping.needs_days else None)]


def with_settings(looked: Looked, maps: Sequence[ColumnMap]) -> list[ColumnMap]:
    """Mappings for the bid columns of the chosen reports; none when the account has a targets report."""
    return [
        result
        for sheet in looked.sheets
        for result in mapping.settings_beside([each for each in maps if each.sheet == sheet.table.sheet], sheet.table)
        if result.kind not in looked.settings
    ]


def must_be_told(looked: Looked, columns: ColumnMap, said: Collection[str], *, kind_said: bool) -> None:
    """
    BadInput where the cells leave open which kind a table is, or which of two columns is meant, and nobody has said so.
    said: our columns that somebody chose.
    """
    sheet = looked.sheet(columns.sheet)
    suggestion = sheet.suggestion_of(columns)
    if suggestion is None:
        return
    best, *others = sheet.suggestions
    if not kind_said and best is suggestion and others and suggestion.kind_share <= mapping.KIND_SURE:
        other = others[0].mapping.kind
        raise BadInput(
            f"The file can be {KINDS[columns.kind].title.lower()} or {KINDS[other].title.lower()}.",
            remedy=f"Say which: --kind {columns.kind} or --kind {other}.",
        )
    for name, headers in suggestion.asked.items():
        if name not in said:
            choice = " or ".join(f"“{header}”" for header in headers)
            raise BadInput(
                f"The column for {name.replace('_', ' ')} can be {choice}.",
                remedy=f"Say which: --column {name}='{headers[0]}'.",
            )


def _of_kind(sheet: SheetSummary, kind: str) -> ColumnMap:
    found = next((each for each in sheet.suggestions if each.mapping.kind == kind), None)
    if found is None:
        raise BadInput(f"“{kind}” is not a kind of report.", remedy=f"Use one of {', '.join(KINDS)}.")
    return replace(found.mapping, days=sheet.days if found.mapping.needs_days else None)


@dataclass(frozen=True, slots=True)
class LoadRequest:
    """
    One file to be loaded under confirmed mappings, and how.

    scope: the label of what has campaigns; None lets it follow from them, or be the usual one of the
    source. others: accounts that rows with an `account` of their own may go to. today: the day of
    loading, each account's own when left out. confirmed: what would be asked is answered with yes.
    """

    account: Account
    path: Path
    file_name: str
    columns: ColumnMap | Sequence[ColumnMap]
    scope: str | None = None
    usual: str | None = None
    others: Sequence[Account] = ()
    today: date | None = None
    confirmed: bool = False
    sha256: str = ""
    person_id: int | None = None
    upload_id: int | None = None
    job_id: int | None = None

    @property
    def maps(self) -> list[ColumnMap]:
        """The mappings, one or several."""
        return [self.columns] if isinstance(self.columns, ColumnMap) else list(self.columns)


def load(store: Store, asked: LoadRequest, progress: Progress = lambda part, message: None) -> tuple[Loaded, ...]:
    """Loads a file. Raises BadFile, BadInput or NeedsYes; then nothing was changed."""
    progress(0.02, "reading the file")
    with store.read() as connection:
        known = names.known_by_id(connection, asked.account.id)
    with ThreadPoolExecutor(1) as beside:
        digest = beside.submit(lambda: asked.sha256 or keep_digest(asked.path))
        read = sandbox.parse_file(
            asked.path, asked.file_name, asked.maps, asked.account.timezone, known, asked.account.currency
        )
    progress(0.25, f"understood {sum(len(parsed.distinct) for _, parsed, _ in read):,} rows")
    reported = {each.id: loads.kinds_with_reports(store, each.id) for each in (asked.account, *asked.others)}
    parts = [
        FilePart(
            owner.id,
            own,
            asked.today or today_of(owner),
            settled,
            mapping.signature(headers, settled.told_by),
            asked.scope or None,
            asked.usual or None,
            owner.maturing_days,
        )
        for settled, parsed, headers in read
        if not settled.beside or len(parsed.distinct)
        for owner, own in _by_account(parsed, asked.account, asked.others, asked.file_name)
        if not settled.beside or settled.kind not in reported[owner.id]
    ]
    source = Source(asked.file_name, digest.result(), asked.person_id, asked.upload_id, asked.job_id)
    return ingest.load(store, parts, source, confirmed=asked.confirmed, progress=progress)


def _by_account(
    parsed: Parsed, account: Account, others: Sequence[Account], file_name: str
) -> list[tuple[Account, Parsed]]:
    """The rows of each account; those that name none are the chosen account's."""
    column = parsed.distinct.distinct["account"]
    written = column.unique().drop_nulls()
    if written.is_empty():
        return [(account, parsed)]
    known = _names_of({each.id: each for each in (account, *others)}.values())
    owners = {name: known.get(name.strip().casefold()) for name in written.to_list()}
    unknown = sorted(name for name, owner in owners.items() if owner is None)
    if unknown:
        raise BadInput(
            f"The file has rows of accounts that are not known to you: {', '.join(unknown[:5])}.",
            place=file_name,
            remedy=(
                f"Known are {', '.join(sorted(each.key for each in (account, *others)))}. Write one of these "
                f"in the file, or leave “account” without a column to load all rows into {account.key}."
            ),
        )
    ids = column.replace_strict(
        {name: owner.id for name, owner in owners.items() if owner}, default=account.id, return_dtype=pl.Int64
    )
    found: list[tuple[Account, Parsed]] = []
    for owner in sorted(
        {owner.id: owner for owner in (account, *owners.values()) if owner}.values(),
        key=lambda each: each.id != account.id,
    ):
        rows = parsed.distinct.filter(parsed.distinct.spread(ids == owner.id))
        if len(rows):
            rejects = parsed.rejects if not found else parsed.rejects.clear()
            found.append((owner, replace(parsed, distinct=rows, rejects=rejects)))
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


def to_mend(
    path: Path, file_name: str, problems: Sequence[tuple[int, str, str, str]], read_as: ColumnMap
) -> pl.DataFrame:
    """
    The file as it stands with a last column `problem`, rows that were turned away first.

    problems: line, column, value, reason. BadFile when the file cannot be read any more.
    """
    return sandbox.to_mend(path, file_name, problems, read_as.sheet, read_as.layout)
