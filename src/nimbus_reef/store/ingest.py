"""A parsed file into the record: what it replaces, what it removes, in one transaction."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import date
from pathlib import Path
from typing import Final

import polars as pl
from sqlalchemy import Connection, insert, select, text

from nimbus_reef.errors import BadFile, NeedsYes
from nimbus_reef.formats.contract import Replaces, ReportKind
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.reports import Parsed
from nimbus_reef.store import bulk, names, snapshots, undo, versions
from nimbus_reef.store.engine import Store
from nimbus_reef.store.models import FACTS, KEYS_OF, SCOPES, batch, day_version, reject

LONGEST_SPAN: Final = 400
_NAMED_DAYS: Final = 6

Progress = Callable[[float, str], None]


@dataclass(frozen=True, slots=True)
class Source:
    """Where the rows came from, for the record of the batch."""

    file_name: str
    sha256: str
    signature: str
    mapping: ColumnMap
    person_id: int | None = None
    upload_id: int | None = None


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


@dataclass(frozen=True, slots=True)
class Part:
    """What a file says of one account. today: the day of loading in the account's time zone."""

    account_id: int
    parsed: Parsed
    today: date


def load(
    store: Store,
    parts: Sequence[Part],
    source: Source,
    *,
    scope: str,
    confirmed: bool = False,
    progress: Progress = lambda part, message: None,
) -> tuple[Loaded, ...]:
    """
    Puts the rows of one file in place of what it owns. All of it is kept, or nothing.

    A daily file owns its account, kind and scope label on every day from its first to
    its last. NeedsYes lists what would be lost or is unusual unless `confirmed`.
    """
    kind = parts[0].parsed.kind
    scope = scope if kind.has_campaign else "all"
    rows = [(part, _with_day(part.parsed, part.today)) for part in parts]
    if any(each.is_empty() for _, each in rows):
        raise BadFile("No row is left to load.", place=source.file_name, remedy="Mend the rejected rows.")
    if not confirmed:
        questions = [asked for part, each in rows for asked in _unusual(each, part)]
        if questions:
            raise NeedsYes(tuple(dict.fromkeys(questions)))

    def work(connection: Connection) -> list[tuple[Loaded, snapshots.Days]]:
        # In one order for all, so that two files of the same accounts cannot lock each other out.
        for account_id in sorted(part.account_id for part in parts):
            versions.take_turns(connection, account_id, kind.name)
        done = []
        for number, (part, each) in enumerate(rows):
            progress(0.35 + 0.55 * number / len(rows), "naming campaigns, targets and terms")
            keyed = names.with_ids(connection, part.account_id, kind.name, each, store.scratch)
            done.append(_replace(store, connection, part, source, keyed, scope, confirmed, progress))
        return done

    done = store.transact(work)
    progress(0.92, "making the days quick to read")
    for loaded, days in done:
        snapshots.keep(store.snapshots, loaded.account_id, kind.name, days)
    return tuple(loaded for loaded, _ in done)


def _with_day(parsed: Parsed, today: date) -> pl.DataFrame:
    """The rows with the `day` they belong to: their own, or the day of loading."""
    column = parsed.kind.day_column
    return parsed.rows.with_columns(day=pl.col(column).cast(pl.Date) if column else pl.lit(today))


def _unusual(rows: pl.DataFrame, part: Part) -> list[str]:
    if not part.parsed.kind.has_days:
        return []
    first, last = _span(rows)
    asked = []
    if (last - first).days + 1 > LONGEST_SPAN:
        asked.append(f"The file spans {(last - first).days + 1} days, from {first} to {last}.")
    if last > part.today:
        asked.append(f"The file holds days after today, up to {last}.")
    return asked


def _span(rows: pl.DataFrame) -> tuple[date, date]:
    first, last = rows["day"].min(), rows["day"].max()
    assert isinstance(first, date)
    assert isinstance(last, date)
    return first, last


def _replace(
    store: Store,
    connection: Connection,
    part: Part,
    source: Source,
    keyed: pl.DataFrame,
    scope: str,
    confirmed: bool,
    progress: Progress,
) -> tuple[Loaded, snapshots.Days]:
    account_id, parsed = part.account_id, part.parsed
    kind = parsed.kind.name
    first, last = _span(keyed)
    owned = _owned(connection, account_id, parsed.kind, keyed, scope, store.scratch)
    if parsed.kind.replaces is Replaces.DAYS and not confirmed:
        _ask_about_lost_days(connection, account_id, kind, keyed, owned, first, last)
    progress(0.45, "keeping what the file replaces, for undo")
    doomed = _doomed(store, connection, account_id, kind, owned, first, last)
    removed = _remove(connection, account_id, kind, owned, first, last)
    batch_id = _record(connection, account_id, parsed, source, scope, first, last, removed)
    facts = _facts(keyed, account_id, batch_id, scope, kind)
    written = set(facts["day"].unique())
    undo.keep(connection, batch_id, written, doomed)
    progress(0.65, f"writing {len(facts):,} rows")
    bulk.load(connection, kind, facts, store.scratch)
    gone = set() if doomed is None else set(doomed["day"].unique())
    days = versions.bump(connection, account_id, kind, facts, written | gone, whole=owned.condition == "TRUE")
    loaded = Loaded(
        account_id=account_id, batch_id=batch_id, kind=kind, rows=len(facts), days=facts["day"].n_unique(),
        first_day=first if parsed.kind.has_days else None,
        last_day=last if parsed.kind.has_days else None,
        rejected=parsed.rejects["line"].n_unique(), removed=removed, sums=parsed.sums,
        warnings=parsed.warnings,
    )  # fmt: skip
    return loaded, days


@dataclass(frozen=True, slots=True)
class _Owned:
    """
    Which held rows on the file's days the file takes the place of, as SQL over `f`.

    by_campaign: the condition names `o.campaign_id`. keys: only rows with these keys.
    """

    condition: str
    by_campaign: bool = False
    keys: pl.DataFrame | None = None


_GIVEN: Final = "given_keys"


def _owned(
    connection: Connection, account_id: int, kind: ReportKind, keyed: pl.DataFrame, scope: str, scratch: Path
) -> _Owned:
    """By key: the keys in the file. By day: `all` owns every label; a format owns its own label,
    the campaigns in the file, and those of this format in the newest campaign settings, under
    whatever label.
    """
    if kind.replaces is Replaces.KEYS:
        return _owned_keys(connection, kind.name, keyed, scratch)
    labels = set(
        connection.execute(
            select(batch.c.scope)
            .where(batch.c.account_id == account_id, batch.c.kind == kind.name)
            .distinct()
        ).scalars()
    )
    # Where no other label was ever loaded, whole days go: far quicker than row by row.
    if scope == "all" or labels <= {scope}:
        return _Owned("TRUE")
    campaigns = set(keyed["campaign_id"].unique().to_list())
    of_format = connection.execute(
        text(
            "SELECT campaign_id, format FROM campaigns c WHERE account_id = :account AND day = "
            "(SELECT MAX(day) FROM campaigns n WHERE n.account_id = c.account_id "
            "AND n.campaign_id = c.campaign_id)"
        ),
        {"account": account_id},
    )
    campaigns |= {row.campaign_id for row in of_format if row.format == scope}
    listed = ", ".join(str(int(number)) for number in sorted(campaigns)) or "0"
    return _Owned(f"(f.scope = {SCOPES.index(scope)} OR o.campaign_id IN ({listed}))", by_campaign=True)


def _owned_keys(connection: Connection, kind: str, keyed: pl.DataFrame, scratch: Path) -> _Owned:
    names = KEYS_OF[kind]
    keys = keyed.select(names).unique()
    columns = ", ".join(f"`{name}`" for name in names)
    connection.exec_driver_sql(f"DROP TEMPORARY TABLE IF EXISTS `{_GIVEN}`")
    connection.exec_driver_sql(
        f"CREATE TEMPORARY TABLE `{_GIVEN}` (PRIMARY KEY ({columns})) SELECT {columns} FROM `{kind}` LIMIT 0"
    )
    bulk.load(connection, _GIVEN, keys, scratch)
    same = " AND ".join(f"g.`{name}` = f.`{name}`" for name in names)
    return _Owned(f"EXISTS (SELECT 1 FROM `{_GIVEN}` g WHERE {same})", keys=keys)


_CAMPAIGN_ROAD: Final = {
    "campaign_id": "JOIN (SELECT id, id AS campaign_id FROM campaign) o ON o.id = f.campaign_id",
    "ad_group_id": "JOIN ad_group o ON o.id = f.ad_group_id",
    "target_id": "JOIN target t ON t.id = f.target_id JOIN ad_group o ON o.id = t.ad_group_id",
    "target_term_id": "JOIN target_term w ON w.id = f.target_term_id "
    "JOIN target t ON t.id = w.target_id JOIN ad_group o ON o.id = t.ad_group_id",
    "product_ad_id": "JOIN product_ad a ON a.id = f.product_ad_id JOIN ad_group o ON o.id = a.ad_group_id",
}
"""From the first id of a row to its campaign."""


def _joined(kind: str, owned: _Owned) -> str:
    return _CAMPAIGN_ROAD[KEYS_OF[kind][0]] if owned.by_campaign else ""


def _ask_about_lost_days(
    connection: Connection, account_id: int, kind: str, keyed: pl.DataFrame, owned: _Owned,
    first: date, last: date,
) -> None:  # fmt: skip
    """Days inside the file's span that it has no row for, but the record does."""
    held = connection.execute(
        text(
            f"SELECT f.day, COUNT(*) AS held FROM `{kind}` f {_joined(kind, owned)} "
            f"WHERE f.account_id = :account AND f.day BETWEEN :first AND :last AND {owned.condition} "
            "GROUP BY f.day"
        ),
        {"account": account_id, "first": first, "last": last},
    )
    given = set(keyed["day"].unique().to_list())
    lost = {row.day: row.held for row in held if row.day not in given}
    if lost:
        days = sorted(lost)
        named = ", ".join(day.isoformat() for day in days[:_NAMED_DAYS])
        more = f" and {len(days) - _NAMED_DAYS} more" if len(days) > _NAMED_DAYS else ""
        raise NeedsYes(
            (
                f"The file covers {first} to {last} but has no row for {named}{more}, where "
                f"{sum(lost.values()):,} rows are held. Loading removes them.",
            )
        )


def _held_days(connection: Connection, account_id: int, kind: str, first: date, last: date) -> list[date]:
    return list(
        connection.execute(
            select(day_version.c.day).where(
                day_version.c.account_id == account_id,
                day_version.c.kind == kind,
                day_version.c.day.between(first, last),
                day_version.c.rows > 0,
            )
        ).scalars()
    )


def _doomed(
    store: Store, connection: Connection, account_id: int, kind: str, owned: _Owned, first: date, last: date
) -> pl.DataFrame | None:
    """The rows about to be replaced; null where nothing is held. Nobody else may change them:
    loads of this kind wait at the lock, so a second connection reads what this one will delete.
    """
    if not _held_days(connection, account_id, kind, first, last):
        return None
    columns = ", ".join(f"f.`{column.name}`" for column in FACTS[kind].columns)
    # The keys of the file are in a temporary table, which that connection cannot see.
    condition = "TRUE" if owned.keys is not None else owned.condition
    rows = snapshots.query(
        store,
        f"SELECT {columns} FROM `{kind}` f {_joined(kind, owned)} WHERE f.account_id = {int(account_id)} "
        f"AND f.day BETWEEN '{first}' AND '{last}' AND {condition}",
    )
    if owned.keys is None:
        return rows
    typed = rows.with_columns(pl.col(name).cast(dtype) for name, dtype in owned.keys.schema.items())
    return typed.join(owned.keys, on=list(owned.keys.columns), how="semi")


def _remove(
    connection: Connection, account_id: int, kind: str, owned: _Owned, first: date, last: date
) -> int:
    """Deletes what the file replaces, one held day at a time, and counts it."""
    statement = text(
        f"DELETE f FROM `{kind}` f {_joined(kind, owned)} "
        f"WHERE f.account_id = :account AND f.day = :day AND {owned.condition}"
    )
    return sum(
        connection.execute(statement, {"account": account_id, "day": day}).rowcount
        for day in _held_days(connection, account_id, kind, first, last)
    )


def _record(
    connection: Connection, account_id: int, parsed: Parsed, source: Source, scope: str,
    first: date, last: date, removed: int,
) -> int:  # fmt: skip
    daily = parsed.kind.has_days
    done = connection.execute(
        insert(batch).values(
            account_id=account_id, upload_id=source.upload_id, person_id=source.person_id,
            kind=parsed.kind.name, scope=scope, file_name=source.file_name, sha256=source.sha256,
            signature=source.signature, mapping=source.mapping.as_json(),
            first_day=first if daily else None, last_day=last if daily else None,
            rows=len(parsed.rows), rejected=parsed.rejects["line"].n_unique(), removed=removed,
            sums=parsed.sums, warnings=list(parsed.warnings),
        )
    )  # fmt: skip
    batch_id = int(done.inserted_primary_key[0])  # type: ignore[index]  # a single integer key
    if len(parsed.rejects):
        connection.execute(
            insert(reject),
            [
                {"batch_id": batch_id, **row, "value": row["value"][:512], "reason": row["reason"][:255]}
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
