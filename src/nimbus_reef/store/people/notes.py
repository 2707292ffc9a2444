"""What people write about a thing: kept with their name, found again, and taken off without being lost."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Final

from sqlalchemy import Connection, insert, select, update

from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import trail
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import person, remark

LONGEST: Final = 2048
_LONGEST_NAME: Final = 255


@dataclass(frozen=True, slots=True)
class About:
    """What a note is about: the view it is a row of, its key there, what it is called and where it stands."""

    view: str
    row_id: str
    thing: str = ""
    place: str = ""


@dataclass(frozen=True, slots=True)
class Remark:
    """One note; at is in UTC."""

    id: int
    text: str
    by: str
    at: datetime
    about: About


def of_account(store: Store, account_id: int, view: str = "", row_id: str = "") -> list[Remark]:
    """The notes of an account, newest first; those of a view or of one of its rows where they are named."""
    query = (
        select(remark, person.c.name)
        .outerjoin(person, person.c.id == remark.c.person_id)
        .where(remark.c.account_id == account_id, remark.c.removed_at.is_(None))
        .order_by(remark.c.id.desc())
    )
    if view:
        query = query.where(remark.c.view == view)
    if row_id:
        query = query.where(remark.c.row_id == row_id)
    with store.read() as connection:
        return [
            Remark(row.id, row.text, row.name or "", row.at, About(row.view, row.row_id, row.thing, row.place))
            for row in connection.execute(query)
        ]


def rows_with(store: Store, account_id: int, view: str) -> frozenset[str]:
    """The rows of a view that have a note."""
    query = select(remark.c.row_id).where(
        remark.c.account_id == account_id, remark.c.view == view, remark.c.removed_at.is_(None)
    )
    with store.read() as connection:
        return frozenset(connection.execute(query).scalars())


def add(store: Store, account_id: int, person_id: int, about: About, text: str) -> None:
    """Adds a note; BadInput when it says nothing or too much."""
    text = text.strip()
    if not text or len(text) > LONGEST:
        raise BadInput(f"A note has 1 to {LONGEST:,} characters.", remedy="Enter a shorter note.")
    named = {"thing": about.thing[:_LONGEST_NAME], "place": about.place[:_LONGEST_NAME]}

    def work(connection: Connection) -> None:
        where = {"account_id": account_id, "view": about.view, "row_id": about.row_id}
        connection.execute(insert(remark).values(person_id=person_id, text=text, **where, **named))
        detail = {"view": about.view, "row": about.row_id, "on": about.thing, "in": about.place, "text": text[:80]}
        trail.write(connection, "noted", person_id, account_id, detail)

    store.transact(work)


def remove(store: Store, account_id: int, person_id: int, remark_id: int) -> None:
    """Takes a note off its row; it stays on record."""

    def work(connection: Connection) -> None:
        wanted = (remark.c.id == remark_id, remark.c.account_id == account_id)
        found = connection.execute(select(remark).where(*wanted)).first()
        connection.execute(update(remark).where(*wanted).values(removed_at=utc_now()))
        named = {"on": found.thing, "text": found.text[:80]} if found is not None else {}
        trail.write(connection, "note removed", person_id, account_id, {"note": remark_id, **named})

    store.transact(work)
