"""Audits that were closed: what was found then, and with which settings it was looked at."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select

from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.people import trail
from nimbus_reef.store.record import locks
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import closing, person


@dataclass(frozen=True, slots=True)
class Closing:
    """
    A closed audit. part: the part of the account looked at, empty for all of it; address: the
    page's query string without the account; found: check, row, name and stake (micro per 30
    days) of each finding; at is in UTC.
    """

    id: int
    at: datetime
    by: str
    part: str
    address: str
    overspend: int
    found: tuple[Mapping[str, Any], ...]


def closings(store: Store, account_id: int, part: str | None = None, most: int = 20) -> list[Closing]:
    """The audits of an account that were closed, newest first; those of one part where it is given."""
    wanted = closing.c.account_id == account_id
    if part is not None:
        wanted = wanted & (closing.c.part == part)
    with store.read() as connection:
        rows = connection.execute(
            select(closing, person.c.name)
            .outerjoin(person, person.c.id == closing.c.person_id)
            .where(wanted)
            .order_by(closing.c.id.desc())
            .limit(most)
        )
        return [
            Closing(row.id, row.at, row.name or "", row.part, row.address, row.overspend, tuple(row.found))
            for row in rows
        ]


def newest_id(store: Store, account_id: int) -> int:
    """The id of the audit of an account that was closed last; 0 where none was."""
    with store.read() as connection:
        return _newest(connection, account_id)


def _newest(connection: Connection, account_id: int) -> int:
    found = connection.execute(select(func.max(closing.c.id)).where(closing.c.account_id == account_id))
    return int(found.scalar() or 0)


def close(
    store: Store,
    account_id: int,
    person_id: int | None,
    *,
    part: str,
    address: str,
    overspend: int,
    found: Sequence[Mapping[str, Any]],
    after: int | None = None,
) -> int:
    """
    Writes down an audit; its id. after: the id of the newest one that whoever closes it knew of (0: none, None: not
    asked). Raises Conflict when somebody closed one since.
    """

    def work(connection: Connection) -> int:
        locks.take(connection, account_id, locks.CLOSING)
        if after is not None and _newest(connection, account_id) != after:
            raise Conflict(
                "This audit is already closed.", remedy="Nothing was changed. See the closed audits under Findings."
            )
        cursor = connection.execute(
            insert(closing).values(
                account_id=account_id,
                person_id=person_id,
                at=utc_now(),
                part=part,
                address=address,
                overspend=overspend,
                found=list(found),
            )
        )
        number = int(cursor.lastrowid)
        _note(connection, account_id, person_id, "audit closed", number, len(found))
        return number

    return store.transact(work)


def reopen(store: Store, account_id: int, person_id: int, closing_id: int) -> None:
    """Takes back the closing of an audit."""

    def work(connection: Connection) -> None:
        done = connection.execute(delete(closing).where(closing.c.id == closing_id, closing.c.account_id == account_id))
        if not done.rowcount:
            raise NotFound("This audit is not closed.", remedy="Look at the list under Findings.")
        _note(connection, account_id, person_id, "audit reopened", closing_id, 0)

    store.transact(work)


def _note(connection: Connection, account_id: int, person_id: int | None, action: str, number: int, count: int) -> None:
    detail = {"audit": number, "findings": count}
    trail.write(connection, action, person_id, account_id, detail)
