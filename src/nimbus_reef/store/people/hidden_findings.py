"""Findings put away: until a day, until more clicks, or for good, and why. None is lost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final

from sqlalchemy import Connection, select, update
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.store.people import trail
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import person, put_away

DONE: Final = "done: "
"""What the reason of a finding begins with that was ticked off."""


@dataclass(frozen=True, slots=True)
class PutAway:
    """One finding that somebody does not want to see for now. since: the day it was put away (UTC)."""

    id: int
    check: str
    row_id: str
    until_day: date | None
    until_clicks: int | None
    reason: str
    since: date
    by: str

    @property
    def done(self) -> bool:
        """True when it was ticked off: what could not be sent was done by hand."""
        return self.reason.startswith(DONE)

    @property
    def for_good(self) -> bool:
        """True when nothing but a person brings it back."""
        return self.until_day is None and self.until_clicks is None


def away(store: Store, account_id: int) -> list[PutAway]:
    """What is away in an account, the newest first; whether its time is up is the reader's to see."""
    with store.read() as connection:
        rows = connection.execute(
            select(put_away, person.c.name)
            .outerjoin(person, person.c.id == put_away.c.person_id)
            .where(put_away.c.account_id == account_id, put_away.c.open == 1)
            .order_by(put_away.c.id.desc())
        )
        return [
            PutAway(
                row.id,
                row.check,
                row.row_id,
                row.until_day,
                row.until_clicks,
                row.reason,
                row.at.date(),
                row.name or "",
            )
            for row in rows
        ]


def put(
    store: Store,
    account_id: int,
    person_id: int,
    check: str,
    row_ids: Sequence[str],
    *,
    until_day: date | None,
    until_clicks: int | None,
    reason: str,
) -> None:
    """Puts findings away; one that is away already gets the new end and reason."""
    values = {"until_day": until_day, "until_clicks": until_clicks, "reason": reason, "person_id": person_id}

    def work(connection: Connection) -> None:
        kept = insert(put_away)
        rows = [{"account_id": account_id, "check": check, "row_id": row_id, "open": 1, **values} for row_id in row_ids]
        # Row by row as parameters: thousands of them in one statement take seconds to be written down.
        connection.execute(kept.on_duplicate_key_update(**{name: kept.inserted[name] for name in values}), rows)
        detail = {"check": check, "rows": list(row_ids), "reason": reason}
        trail.write(connection, "finding hidden", person_id, account_id, detail)

    store.transact(work)


def bring_back(store: Store, account_id: int, person_id: int, ids: Sequence[int]) -> int:
    """Brings findings back into the list; how many."""

    def work(connection: Connection) -> int:
        done = connection.execute(
            update(put_away)
            .where(put_away.c.id.in_(ids), put_away.c.account_id == account_id, put_away.c.open == 1)
            .values(open=None)
        )
        trail.write(connection, "finding shown again", person_id, account_id, {"ids": list(ids)})
        return int(done.rowcount)

    return store.transact(work)
