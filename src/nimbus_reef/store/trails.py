"""The trail of what people did: loaded, exported, signed in."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from sqlalchemy import insert

from nimbus_reef.store.engine import Store
from nimbus_reef.store.models import trail


def note(
    store: Store, what: str, *, person_id: int | None, account_id: int | None, detail: Mapping[str, Any]
) -> None:
    """Adds one line to the trail."""
    with store.write() as connection:
        connection.execute(
            insert(trail).values(person_id=person_id, account_id=account_id, what=what, detail=dict(detail))
        )
