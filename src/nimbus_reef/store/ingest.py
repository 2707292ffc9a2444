"""A parsed file into the record: what it replaces, what it removes, in one transaction."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import date
from typing import Final

import polars as pl
from sqlalchemy import Connection, insert, select, text

from nimbus_reef.errors import BadFile, NeedsYes
from nimbus_reef.formats.contract import Replaces, ReportKind
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.reports import Parsed
from nimbus_reef.store import bulk, names, snapshots, undo, versions
from nimbus_reef.store.engine import Store
from nimbus_reef.store.models import FACTS, KEY_OF, SCOPES, batch, day_version, reject

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


def load(
    store: Store,
    account_id: int,
    parsed: Parsed,
    source: Source,
    *,
    scope: str,
    today: date,
    confirmed: bool = False,
    progress: Progress = lambda part, message: None,
) -> Loaded:
    """
    Puts the rows of one file in place of what it owns. All of it is kept, or nothing.

    A daily file owns its account, kind and scope label on every day from its first to
    its last. NeedsYes lists what would be lost or is unusual unless `confirmed`.
    """
    rows = parsed.rows
    if not parsed.kind.has_days:
        rows = rows.with_columns(date=pl.lit(today))
    if rows.is_empty():
        raise BadFile("No row is left to load.", place=source.file_name, remedy="Mend the rejected rows.")
    questions = [] if confirmed else _unusual(rows, parsed, today)
    if questions:
        raise NeedsYes(tuple(questions))
    scope = scope if parsed.kind.has_campaign else "all"

    def work(connection: Connection) -> tuple[Loaded, snapshots.Days]:
        versions.take_turns(connection, account_id, parsed.kind.name)
        progress(0.35, "naming campaigns, targets and terms")
        keyed = names.with_ids(connection, account_id, parsed.kind.name, rows, store.scratch)
        progress(0.55, "replacing the days of the file")
        return _replace(store, connection, account_id, parsed, source, keyed, scope, confirmed, progress)

    loaded, days = store.transact(work)
    progress(0.92, "making the days quick to read")
    snapshots.keep(store.snapshots, account_id, parsed.kind.name, days)
    return loaded


def _unusual(rows: pl.DataFrame, parsed: Parsed, today: date) -> list[str]:
    if not parsed.kind.has_days:
        return []
    first, last = _span(rows)
    asked = []
    if (last - first).days + 1 > LONGEST_SPAN:
        asked.append(f"The file spans {(last - first).days + 1} days, from {first} to {last}.")
    if last > today:
        asked.append(f"The file holds days after today, up to {last}.")
    return asked


def _span(rows: pl.DataFrame) -> tuple[date, date]:
    first, last = rows["date"].min(), rows["date"].max()
    assert isinstance(first, date)
    assert isinstance(last, date)
    return first, last


def _replace(
    store: Store,
    connection: Connection,
    account_id: int,
    parsed: Parsed,
    source: Source,
    keyed: pl.DataFrame,
    scope: str,
    confirmed: bool,
    progress: Progress,
) -> tuple[Loaded, snapshots.Days]:
    kind = parsed.kind.name
    table, key = FACTS[kind], KEY_OF[kind]
    first, last = _span(keyed)
    owned = _owned(connection, account_id, parsed.kind, keyed, scope)
    if parsed.kind.replaces is Replaces.DAYS and not confirmed:
        _ask_about_lost_days(connection, account_id, kind, keyed, owned, first, last)
    progress(0.45, "keeping what the file replaces, for undo")
    doomed = _doomed(store, connection, account_id, kind, owned, first, last)
    removed = _remove(connection, account_id, kind, owned, first, last)
    batch_id = _record(connection, account_id, parsed, source, scope, first, last, removed)
    facts = _facts(keyed, account_id, batch_id, scope, [c.name for c in table.columns], key)
    written = set(facts["day"].unique())
    undo.keep(connection, batch_id, written, doomed)
    progress(0.65, f"writing {len(facts):,} rows")
    bulk.load(connection, kind, facts, store.scratch)
    gone = set() if doomed is None else set(doomed["day"].unique())
    days = versions.bump(connection, account_id, kind, facts, written | gone)
    loaded = Loaded(
        batch_id=batch_id, kind=kind, rows=len(facts), days=facts["day"].n_unique(),
        first_day=first if parsed.kind.has_days else None,
        last_day=last if parsed.kind.has_days else None,
        rejected=parsed.rejects["line"].n_unique(), removed=removed, sums=parsed.sums,
        warnings=parsed.warnings,
    )  # fmt: skip
    return loaded, days


@dataclass(frozen=True, slots=True)
class _Owned:
    """Which held rows on the file's days the file takes the place of, as SQL over `f`."""

    condition: str
    by_campaign: bool = False


def _owned(
    connection: Connection, account_id: int, kind: ReportKind, keyed: pl.DataFrame, scope: str
) -> _Owned:
    """By key: the keys in the file. By day: `all` owns every label; a format owns its own label,
    the campaigns in the file, and those of this format in the newest campaign settings, under
    whatever label.
    """
    if kind.replaces is Replaces.KEYS:
        keys = ", ".join(str(int(number)) for number in keyed[KEY_OF[kind.name]].unique().sort())
        return _Owned(f"f.`{KEY_OF[kind.name]}` IN ({keys})")
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


_CAMPAIGN_OF: Final = {
    "target_daily": "JOIN target t ON t.id = f.target_id JOIN ad_group o ON o.id = t.ad_group_id",
    "targets": "JOIN target t ON t.id = f.target_id JOIN ad_group o ON o.id = t.ad_group_id",
    "search_term_daily": "JOIN target_term w ON w.id = f.target_term_id "
    "JOIN target t ON t.id = w.target_id JOIN ad_group o ON o.id = t.ad_group_id",
    "product_ad_daily": "JOIN product_ad a ON a.id = f.product_ad_id JOIN ad_group o ON o.id = a.ad_group_id",
    "campaigns": "JOIN (SELECT id, id AS campaign_id FROM campaign) o ON o.id = f.campaign_id",
}


def _joined(kind: str, owned: _Owned) -> str:
    return _CAMPAIGN_OF.get(kind, "") if owned.by_campaign else ""


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
    given = set(keyed["date"].unique().to_list())
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
    return snapshots.query(
        store,
        f"SELECT {columns} FROM `{kind}` f {_joined(kind, owned)} WHERE f.account_id = {int(account_id)} "
        f"AND f.day BETWEEN '{first}' AND '{last}' AND {owned.condition}",
    )


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


def _facts(
    keyed: pl.DataFrame, account_id: int, batch_id: int, scope: str, columns: list[str], key: str
) -> pl.DataFrame:
    """The rows as the fact table has them, sorted by its key: loading sorted is far quicker."""
    return (
        keyed.rename({"date": "day"})
        .with_columns(
            pl.lit(account_id).alias("account_id"),
            pl.lit(batch_id).alias("batch_id"),
            pl.lit(SCOPES.index(scope)).alias("scope"),
        )
        .select(columns)
        .sort("day", key)
    )
