"""What people write about a row: kept with their name, and taken off without being lost."""

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


@dataclass(frozen=True, slots=True)
class Remark:
    """One note on a row; at is in UTC."""

    id: int
    text: str
    by: str
    at: datetime


def of_row(store: Store, account_id: int, view: str, row_id: str) -> list[Remark]:
    """The notes on a row, newest first."""
    with store.read() as connection:
        rows = connection.execute(
            select(remark, person.c.name)
            .outerjoin(person, person.c.id == remark.c.person_id)
            .where(
                remark.c.account_id == account_id,
                remark.c.view == view,
                remark.c.row_id == row_id,
                remark.c.removed_at.is_(None),
            )
            .order_by(remark.c.id.desc())
        )
        return [Remark(row.id, row.text, row.name or "", row.at) for row in rows]


def add(store: Store, account_id: int, person_id: int, view: str, row_id: str, text: str) -> None:
    """Adds a note; BadInput when it says nothing or too much."""
    text = text.strip()
    if not text or len(text) > LONGEST:
        raise BadInput(f"A note has 1 to {LONGEST:,} characters.", remedy="Write a little, or a little less.")

    def work(connection: Connection) -> None:
        connection.execute(
            insert(remark).values(account_id=account_id, person_id=person_id, view=view, row_id=row_id, text=text)
        )
        detail = {"view": view, "row": row_id}
        trail.write(connection, "noted", person_id, account_id, detail)

    store.transact(work)


def remove(store: Store, account_id: int, person_id: int, remark_id: int) -> None:
    """Takes a note off its row; it stays on record."""

    def work(connection: Connection) -> None:
        connection.execute(
            update(remark)
            .where(remark.c.id == remark_id, remark.c.account_id == account_id)
            .values(removed_at=utc_now())
        )
        detail = {"note": remark_id}
        trail.write(connection, "note removed", person_id, account_id, detail)

    store.transact(work)
