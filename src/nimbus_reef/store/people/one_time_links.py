"""Links that work once: who holds one may set up an empty installation, or take up an invitation."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta
from enum import StrEnum
from typing import Final

from sqlalchemy import Connection, insert, or_, select, update

from nimbus_reef.errors import NotFound
from nimbus_reef.store.people.tokens import digest, new_token
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import one_time_link as link

INVITATION_LASTS: Final = timedelta(days=7)


class Purpose(StrEnum):
    """What a link is for."""

    SET_UP = "set up"
    INVITATION = "invitation"


@dataclass(frozen=True, slots=True)
class WorkingLink:
    """A link that works now: whose invitation it is, None for the set-up."""

    id: int
    person_id: int | None


def make(connection: Connection, purpose: Purpose, person_id: int | None = None, lasts: timedelta | None = None) -> str:
    """The token of a new link, which is kept nowhere; those made before for the same stop working."""
    connection.execute(
        update(link)
        .where(
            link.c.purpose == purpose.value, link.c.person_id.is_not_distinct_from(person_id), link.c.used_at.is_(None)
        )
        .values(used_at=utc_now())
    )
    token = new_token()
    connection.execute(
        insert(link).values(
            purpose=purpose.value,
            digest=digest(token),
            person_id=person_id,
            ends_at=utc_now() + lasts if lasts else None,
        )
    )
    return token


def working(connection: Connection, purpose: Purpose, token: str) -> WorkingLink:
    """The link of a token, locked until the transaction ends; NotFound where it does not work (any more)."""
    row = connection.execute(
        select(link.c.id, link.c.person_id)
        .where(
            link.c.purpose == purpose.value,
            link.c.digest == digest(token),
            link.c.used_at.is_(None),
            or_(link.c.ends_at.is_(None), link.c.ends_at > utc_now()),
        )
        .with_for_update()
    ).first()
    if row is None:
        raise NotFound(
            "This link no longer works. It was used, replaced or has expired.",
            remedy="Ask an owner for a new one. An empty installation prints one at its start.",
        )
    return WorkingLink(row.id, row.person_id)


def use(connection: Connection, found: WorkingLink) -> None:
    """The link will not work again."""
    connection.execute(update(link).where(link.c.id == found.id).values(used_at=utc_now()))


def works(store: Store, purpose: Purpose, token: str) -> WorkingLink:
    """As `working`, for looking only."""
    return store.transact(lambda connection: working(connection, purpose, token))
