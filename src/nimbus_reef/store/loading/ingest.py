"""A parsed file into the record: what it replaces, what it removes, in one transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection, insert, text

from nimbus_reef.core.model import SCOPES
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadFile, NeedsYes
from nimbus_reef.formats.distinct_texts import DistinctTexts
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.reports import Parsed
from nimbus_reef.store.loading import claims, losses, names, sense, undo, versions
from nimbus_reef.store.loading.claims import Claim
from nimbus_reef.store.loading.losses import Incoming
from nimbus_reef.store.loading.names import Named
from nimbus_reef.store.record import bulk, loads, locks, snapshots
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import FACTS, KEYS_OF, batch, reject

LONGEST_SPAN: Final = 400

Progress = Callable[[float, str], None]


@dataclass(frozen=True, slots=True)
class Source:
    """Where the rows came from, for the record of the batch. job_id: the job that loads them, where it is one."""

    file_name: str
    sha256: str
    person_id: int | None = None
    upload_id: int | None = None
    job_id: int | None = None


@dataclass(frozen=True, slots=True)
class Loaded:
    """What a load did. sums: measures, money in micro-units; removed: rows replaced or gone."""

    account_id: int
    batch_id: int
    kind: str
    rows: int
    days: int
    first_day: date | None
    last_day: date | None
    rejected: int
    removed: int
    sums: dict[str, int] = field(default_factory=dict)
    warnings: tuple[str, ...] = ()
    scope: str = "all"
    blocks: tuple[Window, ...] = ()


@dataclass(frozen=True, slots=True)
class FilePart:
    """
    What a file says of one account and kind, and how it was read.

    today: the day of loading in the account's time zone. scope: the label it is loaded under; None
    where nobody said, then it follows from the campaigns in the file, or is `usual`, that of the
    last file of this source. maturing_days: of the account, after which the sales of a day have come.
    """

    account_id: int
    parsed: Parsed
    today: date
    mapping: ColumnMap
    signature: str
    scope: str | None = None
    usual: str | None = None
    maturing_days: int = 3


@dataclass(frozen=True, slots=True)
class _Load(Incoming):
    """The rows of one part, with what is known of them."""

    part: FilePart


def load(
    store: Store,
    parts: Sequence[FilePart],
    source: Source,
    *,
    confirmed: bool = False,
    progress: Progress = lambda part, message: None,
) -> tuple[Loaded, ...]:
    """
    Puts the rows of one file in place of what it owns. All of it is kept, or nothing.

    A daily file owns its account, kind and scope label on every day from its first to
    its last, a block its span. NeedsYes lists what would be lost or is unusual unless `confirmed`.
    """
    rows = [(part, _with_day(part.parsed, part.today)) for part in parts]
    if not all(len(each) for _, each in rows):
        raise BadFile("No row is left to load.", place=source.file_name, remedy="Fix the rejected rows.")
    if not confirmed:
        questions = [asked for part, each in rows for asked in _unusual(each.rows, part)]
        if questions:
            raise NeedsYes(tuple(dict.fromkeys(questions)))

    def work(connection: Connection) -> list[tuple[Loaded, snapshots.Spans]]:
        # In one order for all, so that two files of the same accounts cannot lock each other out.
        for account_id, kind in sorted({(part.account_id, part.parsed.kind.name) for part in parts}):
            locks.take(connection, account_id, kind)
        progress(0.3, "naming campaigns, targets and terms")
        looked = [
            names.looked_up(store, connection, part.account_id, part.parsed.kind.name, each) for part, each in rows
        ]
        if not confirmed:
            asked = [
                question
                for (part, _), named in zip(rows, looked, strict=True)
                for question in _asked(connection, _keyed(connection, part, named), store.scratch)
            ]
            if asked:
                raise NeedsYes(tuple(dict.fromkeys(asked)))
        keyed_loads = []
        for number, ((part, _), named) in enumerate(zip(rows, looked, strict=True)):
            progress(0.35 + 0.1 * number / len(rows), "making the names that are new")
            whole = named if named.complete else names.completed(store, named)
            keyed_loads.append(_keyed(connection, part, whole))
        done: list[tuple[Loaded, snapshots.Spans]] = []
        first_of: dict[int, int] = {}
        for number, one in enumerate(keyed_loads):
            share = (0.45 + 0.45 * number / len(keyed_loads), 0.45 / len(keyed_loads))
            done.append(_replace(store, connection, one, source, first_of, drafts, progress, share))
        return done

    with snapshots.Drafts(store.snapshots) as drafts:
        done = store.transact(work)
        progress(0.92, "making the days quick to read")
        for loaded, spans in done:
            drafted = drafts.of(loaded.account_id, loaded.kind)
            snapshots.keep(store.snapshots, loaded.account_id, loaded.kind, spans, drafted)
    return tuple(loaded for loaded, _ in done)


def loaded_by(store: Store, job_id: int) -> tuple[Loaded, ...]:
    """What a job has loaded already, where its end was not heard of: all that it was to load, or nothing."""
    found = []
    for each in loads.of_job(store, job_id):
        with store.read() as connection:
            spans = undo.spans_of(connection, each.id)
        found.append(
            Loaded(
                each.account_id,
                each.id,
                each.kind,
                each.rows,
                len({*_all_days(spans)}),
                each.first_day,
                each.last_day,
                each.rejected,
                each.removed,
                dict(each.sums),
                each.warnings,
                each.scope,
                tuple(sorted(one for one in spans if one.days > 1)),
            )
        )
    return tuple(found)


def _with_day(parsed: Parsed, today: date) -> DistinctTexts:
    """The rows with the `day` they belong to: their own, or the day of loading."""
    column = parsed.kind.day_column
    day = pl.col(column).cast(pl.Date) if column else pl.lit(today)
    return replace(parsed.distinct, rows=parsed.distinct.rows.with_columns(day=day))


def _unusual(rows: pl.DataFrame, part: FilePart) -> list[str]:
    if not part.parsed.kind.has_days:
        return []
    span = claims.span_of(rows)
    asked = []
    if span.days > LONGEST_SPAN:
        asked.append(f"The file spans {span.days} days, from {span.first} to {span.last}.")
    if span.last > part.today:
        asked.append(f"The file holds days after today, up to {span.last}.")
    return asked


def _asked(connection: Connection, each: _Load, scratch: Path) -> list[str]:
    """Questions before a load: what it would remove, and which figures are implausible."""
    return [*losses.asked(connection, each, scratch), *sense.questions(connection, each, each.part.mapping.columns)]


def _keyed(connection: Connection, part: FilePart, named: Named) -> _Load:
    """A part as it goes into the record; before its names are made without the ids of new ones."""
    keyed = named.keyed
    scope, given = _label(connection, part, keyed)
    return _Load(part.account_id, part.parsed.kind, keyed, scope, given, part)


# --- the label ------------------------------------------------------------------------


def _label(connection: Connection, part: FilePart, keyed: pl.DataFrame) -> tuple[str, bool]:
    """The label to load under, and whether somebody or the campaigns in the file said it."""
    if not part.parsed.kind.has_campaign:
        return "all", True
    if part.scope:
        return part.scope, True
    own = set(keyed["campaign_id"].unique().to_list())
    formats = claims.formats_of(connection, part.account_id)
    if "format" in keyed.columns:
        formats |= dict(keyed.select("campaign_id", "format").rows())
    keys = {formats.get(one) for one in own}
    only = keys.pop() if len(keys) == 1 else None
    return (only, True) if only is not None else (part.usual or "all", False)


def _replace(
    store: Store,
    connection: Connection,
    each: _Load,
    source: Source,
    first_of: dict[int, int],
    drafts: snapshots.Drafts,
    progress: Progress,
    part: tuple[float, float],
) -> tuple[Loaded, snapshots.Spans]:
    account_id, parsed, keyed, kind = each.account_id, each.part.parsed, each.keyed, each.kind.name
    begun, share = part
    span = claims.span_of(keyed)
    owned = claims.claim(connection, account_id, parsed.kind, keyed, each.scope, store.scratch)
    windows = claims.held_spans(connection, account_id, kind, span)
    progress(begun, "keeping what the file replaces, for undo")
    doomed = _doomed(store, account_id, kind, owned, span, windows)
    removed = _remove(connection, account_id, kind, owned, windows)
    batch_id = _record(connection, each, source, span, removed, first_of.get(account_id))
    first_of.setdefault(account_id, batch_id)
    facts = _facts(keyed, account_id, batch_id, each.scope, kind)
    written = claims.spans_of(keyed)
    parts = snapshots.by_span(facts)
    drafts.begin(account_id, kind, parts)
    undo.keep(connection, batch_id, written, doomed)
    progress(begun + share / 2, f"writing {len(facts):,} rows")
    bulk.load(connection, kind, _lean(facts), store.scratch)
    gone = set() if doomed is None else set(snapshots.by_span(doomed))
    spans = versions.bump(connection, account_id, kind, parts, written | gone, whole=owned.condition == "TRUE")
    daily = parsed.kind.has_days
    loaded = Loaded(
        account_id=account_id,
        batch_id=batch_id,
        kind=kind,
        rows=len(facts),
        days=len({*_all_days(written)}),
        first_day=span.first if daily else None,
        last_day=span.last if daily else None,
        rejected=parsed.rejects["line"].n_unique(),
        removed=removed,
        sums=parsed.sums,
        warnings=(*parsed.warnings, *_young(written, each.part)),
        scope=each.scope,
        blocks=tuple(sorted(one for one in written if one.days > 1)),
    )
    return loaded, spans


def _all_days(spans: Iterable[Window]) -> Iterator[date]:
    for each in spans:
        yield from claims.days_of(each)


def _young(written: set[Window], part: FilePart) -> list[str]:
    """A sum whose last days were still gaining sales when it was loaded stays as it is until it is loaded anew."""
    return [
        f"The sum of {each.first} to {each.last} was loaded {(part.today - each.last).days} days after its last day: "
        "sales of its last days may still come."
        for each in sorted(written)
        if each.days > 1
        and "sales" in part.parsed.kind.summed
        and 0 <= (part.today - each.last).days <= part.maturing_days
    ]


def _doomed(
    store: Store, account_id: int, kind: str, owned: Claim, span: Window, windows: Sequence[Window]
) -> pl.DataFrame | None:
    """The rows about to be replaced; None where nothing is held. Nobody else may change them:
    loads of this kind wait at the lock, so a second connection reads what this one will delete.
    """
    if not windows:
        return None
    columns = ", ".join(f"f.`{column.name}`" for column in FACTS[kind].columns)
    # The keys of the file are in a temporary table, which that connection cannot see.
    condition = "TRUE" if owned.keys is not None else owned.condition
    rows = snapshots.query(
        store,
        f"SELECT {columns} FROM `{kind}` f {claims.joined(kind, owned)} WHERE f.account_id = :account "
        f"AND {claims.overlapping(kind)} AND {condition}",
        account=account_id,
        **claims.bounds(span, windows),
    )
    if owned.keys is None:
        return rows
    typed = rows.with_columns(pl.col(name).cast(dtype) for name, dtype in owned.keys.schema.items())
    return typed.join(owned.keys, on=list(owned.keys.columns), how="semi")


def _remove(connection: Connection, account_id: int, kind: str, owned: Claim, windows: Sequence[Window]) -> int:
    """Deletes what the file replaces, one held day or block at a time, and counts it."""
    statement = text(
        f"DELETE f FROM `{kind}` f {claims.joined(kind, owned)} WHERE f.account_id = :account AND f.day = :day "
        f"AND {snapshots.first_day_of(kind, 'f')} = :first AND {owned.condition}"
    )
    return sum(
        connection.execute(statement, {"account": account_id, "day": each.last, "first": each.first}).rowcount
        for each in windows
    )


def _record(
    connection: Connection, each: _Load, source: Source, span: Window, removed: int, together: int | None
) -> int:
    parsed = each.part.parsed
    daily = parsed.kind.has_days
    done = connection.execute(
        insert(batch).values(
            account_id=each.account_id,
            upload_id=source.upload_id,
            job_id=source.job_id,
            person_id=source.person_id,
            kind=parsed.kind.name,
            scope=each.scope,
            file_name=source.file_name,
            sha256=source.sha256,
            signature=each.part.signature,
            mapping=each.part.mapping,
            first_day=span.first if daily else None,
            last_day=span.last if daily else None,
            rows=len(parsed.distinct),
            rejected=parsed.rejects["line"].n_unique(),
            removed=removed,
            sums=parsed.sums,
            warnings=list(parsed.warnings),
            together=together,
        )
    )
    batch_id = int(done.inserted_primary_key[0])  # type: ignore[index]  # a single integer key
    if len(parsed.rejects):
        connection.execute(
            insert(reject),
            [
                {
                    "batch_id": batch_id,
                    **row,
                    "column": row["column"][:64],
                    "value": row["value"][:512],
                    "reason": row["reason"][:255],
                }
                for row in parsed.rejects.to_dicts()
            ],
        )
    return batch_id


def _facts(keyed: pl.DataFrame, account_id: int, batch_id: int, scope: str, kind: str) -> pl.DataFrame:
    """The rows as the fact table has them, sorted by its key: loading sorted is far quicker."""
    return (
        keyed.with_columns(
            pl.lit(account_id).alias("account_id"),
            pl.lit(batch_id).alias("batch_id"),
            pl.lit(SCOPES.index(scope)).alias("scope"),
        )
        .select([column.name for column in FACTS[kind].columns])
        .sort("day", *KEYS_OF[kind])
    )


def _lean(facts: pl.DataFrame) -> pl.DataFrame:
    """Rows for the table: the first day stands only with rows that are more than one day."""
    if "first_day" not in facts.columns:
        return facts
    several = facts["first_day"] != facts["day"]
    if not several.any():
        return facts.drop("first_day")
    return facts.with_columns(first_day=pl.when(several).then("first_day"))
