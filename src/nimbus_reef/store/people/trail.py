"""The trail of what people did, written here alone: loaded, accepted, put away, exported, signed in."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import Connection, insert

from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import trail


def write(
    connection: Connection,
    action: str,
    person_id: int | None,
    account_id: int | None,
    detail: Mapping[str, Any],
) -> None:
    """Adds one line to the trail, in the transaction of what it tells of."""
    connection.execute(
        insert(trail).values(person_id=person_id, account_id=account_id, what=action, detail=dict(detail))
    )


def note(
    store: Store, action: str, *, person_id: int | None, account_id: int | None, detail: Mapping[str, Any]
) -> None:
    """The same of what is not a transaction of its own."""
    with store.write() as connection:
        write(connection, action, person_id, account_id, detail)
