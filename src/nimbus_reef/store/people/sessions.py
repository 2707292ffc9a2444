"""Sessions of people: begun with a sign-in, known by a digest, named and ended by whoever they belong to."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Final

from sqlalchemy import ColumnElement, Connection, delete, insert, or_, select, update

from nimbus_reef.store.people.tokens import digest, new_token
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import person_session as session

IDLE_AFTER: Final = timedelta(days=14)
"""A session that nobody used for so long is over."""
_SEEN_EVERY: Final = timedelta(minutes=5)


@dataclass(frozen=True, slots=True)
class PersonSession:
    """One session: whose, from where, since when; kept: what it remembers, as text."""

    id: int
    person_id: int
    agent: str
    address: str
    kept: str
    begun_at: datetime
    seen_at: datetime


def begin(store: Store, person_id: int, *, agent: str, address: str) -> str:
    """The token of a new session; it is kept nowhere."""
    token = new_token()
    store.execute(
        insert(session).values(person_id=person_id, digest=digest(token), agent=agent[:255], address=address[:64])
    )
    return token


def _open() -> tuple[ColumnElement[bool], ...]:
    return session.c.ended_at.is_(None), session.c.seen_at > utc_now() - IDLE_AFTER


def of_token(store: Store, token: str) -> PersonSession | None:
    """
    The session of a token; None once it has ended, or was left for too long. That it is used is
    noted now and then.
    """
    with store.read() as connection:
        row = connection.execute(select(session).where(session.c.digest == digest(token), *_open())).first()
    if row is None:
        return None
    if row.seen_at < utc_now() - _SEEN_EVERY:
        store.execute(update(session).where(session.c.id == row.id).values(seen_at=utc_now()))
    return PersonSession(row.id, row.person_id, row.agent, row.address, row.kept or "", row.begun_at, row.seen_at)


def keep(store: Store, session_id: int, kept: str) -> None:
    """What a session remembers from now on."""
    store.execute(update(session).where(session.c.id == session_id).values(kept=kept))


def of_person(store: Store, person_id: int) -> list[PersonSession]:
    """Somebody's open sessions, the one used last first."""
    with store.read() as connection:
        rows = connection.execute(
            select(session)
            .where(session.c.person_id == person_id, *_open())
            .order_by(session.c.seen_at.desc(), session.c.id.desc())
        )
        return [
            PersonSession(row.id, row.person_id, row.agent, row.address, "", row.begun_at, row.seen_at) for row in rows
        ]


def end(store: Store, person_id: int, session_id: int) -> bool:
    """Ends one of somebody's sessions; False where it is none of theirs, or has ended."""
    done = store.execute(
        update(session)
        .where(session.c.id == session_id, session.c.person_id == person_id, session.c.ended_at.is_(None))
        .values(ended_at=utc_now(), kept=None)
    )
    return bool(done.rowcount)


def end_all(connection: Connection, person_id: int) -> None:
    """Ends every session of somebody, as part of what makes them end."""
    connection.execute(
        update(session)
        .where(session.c.person_id == person_id, session.c.ended_at.is_(None))
        .values(ended_at=utc_now(), kept=None)
    )


def sweep(store: Store) -> int:
    """Forgets sessions that are over; how many."""
    done = store.execute(
        delete(session).where(
            or_(session.c.ended_at < utc_now() - IDLE_AFTER, session.c.seen_at < utc_now() - IDLE_AFTER)
        )
    )
    return int(done.rowcount)
