"""The trail of what people did, written here alone: loaded, accepted, put away, exported, signed in."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any

from sqlalchemy import Connection, insert, select

from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import account, person, trail


def write(
    connection: Connection, action: str, person_id: int | None, account_id: int | None, detail: Mapping[str, Any]
) -> None:
    """Adds one line to the trail, in the transaction of what it tells of."""
    connection.execute(
        insert(trail).values(person_id=person_id, account_id=account_id, what=action, detail=dict(detail))
    )


def note(
    store: Store, action: str, *, person_id: int | None, account_id: int | None, detail: Mapping[str, Any]
) -> None:
    """The same of what is not a transaction of its own."""
    store.transact(lambda connection: write(connection, action, person_id, account_id, detail))


@dataclass(frozen=True, slots=True)
class Entry:
    """One line of the trail; person and account are empty where it is of none."""

    id: int
    at: datetime
    person: str
    account: str
    what: str
    detail: Mapping[str, Any]


@dataclass(frozen=True, slots=True)
class Asked:
    """Which lines are wanted; empty for all. first, last: days (UTC), both included."""

    person_id: int | None = None
    account_id: int | None = None
    what: str = ""
    first: date | None = None
    last: date | None = None


def entries(
    store: Store, asked: Asked, *, of_accounts: Collection[int] | None, limit: int, skip: int = 0
) -> list[Entry]:
    """
    Lines of the trail, newest first. of_accounts: only those of these accounts; None for all, also
    those of no account.
    """
    query = (
        select(trail, person.c.name.label("person"), account.c.key.label("account"))
        .outerjoin(person, person.c.id == trail.c.person_id)
        .outerjoin(account, account.c.id == trail.c.account_id)
        .order_by(trail.c.id.desc())
        .limit(limit)
        .offset(skip)
    )
    if of_accounts is not None:
        query = query.where(trail.c.account_id.in_(list(of_accounts)))
    if asked.person_id is not None:
        query = query.where(trail.c.person_id == asked.person_id)
    if asked.account_id is not None:
        query = query.where(trail.c.account_id == asked.account_id)
    if asked.what:
        query = query.where(trail.c.what == asked.what)
    if asked.first is not None:
        query = query.where(trail.c.at >= datetime.combine(asked.first, time()))
    if asked.last is not None:
        query = query.where(trail.c.at < datetime.combine(asked.last + timedelta(days=1), time()))
    with store.read() as connection:
        return [
            Entry(row.id, row.at, row.person or "", row.account or "", row.what, row.detail)
            for row in connection.execute(query)
        ]


def kinds(store: Store) -> list[str]:
    """What the trail tells of, in order of the alphabet."""
    with store.read() as connection:
        return list(connection.execute(select(trail.c.what).distinct().order_by(trail.c.what)).scalars())
