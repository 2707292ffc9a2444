"""Whose turn it is: what must not be changed by two at once is changed by one after the other."""

from __future__ import annotations

from typing import Final

from sqlalchemy import Connection
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.store.record.models import turn

NO_ACCOUNT: Final = 0
"""For what belongs to the installation."""
PLAN, OWNERS, SETTINGS, CLOSING = "plan", "owners", "settings", "closing"


def take(connection: Connection, account_id: int, what: str) -> None:
    """
    Everybody who takes this turn waits here until the transaction of whoever has it ends.

    The row is written, not only locked: the nodes of a cluster know nothing of each other's locks, but of two
    transactions that wrote one row the later to commit is begun anew (`Store.transact`).
    """
    result = insert(turn).values(account_id=account_id, what=what, taken=1)
    connection.execute(result.on_duplicate_key_update(taken=turn.c.taken + 1))
