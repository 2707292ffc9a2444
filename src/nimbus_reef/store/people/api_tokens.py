"""Personal tokens for the API: scoped to one account or all, with an end, shown once."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any, Final

from sqlalchemy import Connection, insert, select, update

from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import trail
from nimbus_reef.store.people.tokens import digest, new_token
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import api_token as table

MOST_DAYS: Final = 366
_USED_EVERY: Final = timedelta(minutes=5)


@dataclass(frozen=True, slots=True)
class ApiToken:
    """A token: whose, what it is called, of which account (None: all of theirs), until when, and when it was used."""

    id: int
    person_id: int
    account_id: int | None
    name: str
    ends_at: datetime
    used_at: datetime | None


def _token(row: Any) -> ApiToken:
    return ApiToken(row.id, row.person_id, row.account_id, row.name, row.ends_at, row.used_at)


def make(store: Store, person_id: int, name: str, days: int, account_id: int | None) -> str:
    """A new token, which is kept nowhere. BadInput for one without a name, or for longer than a year."""
    if not name.strip() or len(name) > 64:
        raise BadInput("The token needs a name.", remedy="Enter what it is for, in up to 64 characters.")
    if not 1 <= days <= MOST_DAYS:
        raise BadInput(f"A token cannot last {days} days.", remedy=f"Enter 1 to {MOST_DAYS}.")
    token = new_token()

    def work(connection: Connection) -> None:
        connection.execute(
            insert(table).values(
                person_id=person_id,
                account_id=account_id,
                name=name.strip(),
                digest=digest(token),
                ends_at=utc_now() + timedelta(days=days),
            )
        )
        trail.write(connection, "token made", person_id, account_id, {"name": name.strip(), "days": days})

    store.transact(work)
    return token


def of_person(store: Store, person_id: int) -> list[ApiToken]:
    """A person's tokens that work, newest first."""
    with store.read() as connection:
        rows = connection.execute(
            select(table)
            .where(table.c.person_id == person_id, table.c.revoked_at.is_(None), table.c.ends_at > utc_now())
            .order_by(table.c.id.desc())
        )
        return [_token(row) for row in rows]


def used(store: Store, token: str) -> ApiToken | None:
    """What a token stands for; None where it does not work (any more). That it is used is noted now and then."""
    with store.read() as connection:
        row = connection.execute(
            select(table).where(
                table.c.digest == digest(token), table.c.revoked_at.is_(None), table.c.ends_at > utc_now()
            )
        ).first()
    if row is None:
        return None
    if row.used_at is None or row.used_at < utc_now() - _USED_EVERY:
        store.execute(update(table).where(table.c.id == row.id).values(used_at=utc_now()))
    return _token(row)


def revoke(store: Store, person_id: int, token_id: int) -> None:
    """Ends one's token; NotFound for somebody else's."""

    def work(connection: Connection) -> None:
        done = connection.execute(
            update(table)
            .where(table.c.id == token_id, table.c.person_id == person_id, table.c.revoked_at.is_(None))
            .values(revoked_at=utc_now())
        )
        if not done.rowcount:
            raise NotFound("This token does not exist.", remedy="Reload the page.")
        trail.write(connection, "token revoked", person_id, None, {"token": token_id})

    store.transact(work)
