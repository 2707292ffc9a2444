"""Target ACOS of portfolios, products and campaigns; the account's own stands with the account."""

from __future__ import annotations

from typing import Final

from sqlalchemy import Connection, delete, select, update
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.core.targeting import Aims
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import trail
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import account as account_table
from nimbus_reef.store.record.models import aim

LEVELS: Final = ("account", "portfolio", "product", "campaign")
HIGHEST: Final = 5.0


def aims(store: Store, account: Account) -> Aims:
    """The targets in force in an account."""
    with store.read() as connection:
        rows = connection.execute(
            select(aim.c.level, aim.c.name, aim.c.target_acos)
            .where(aim.c.account_id == account.id)
            .order_by(aim.c.level, aim.c.name)
        ).all()

    def of(level: str) -> tuple[tuple[str, float], ...]:
        return tuple((row.name, row.target_acos) for row in rows if row.level == level)

    return Aims(account.target_acos, of("campaign"), of("portfolio"), of("product"))


def set_aim(
    store: Store, account: Account, person_id: int | None, level: str, name: str, target_acos: float | None
) -> None:
    """Sets a target, or with None takes one back; BadInput where it cannot be meant."""
    if level not in LEVELS or (level != "account" and not name):
        raise BadInput("A target belongs to something.", remedy=f"Choose {', '.join(LEVELS)}, and name it.")
    if target_acos is not None and not 0 < target_acos < HIGHEST:
        raise BadInput(f"A target ACOS of {target_acos:.0%} cannot be meant.", remedy="Give percent, such as 28.")
    key = {"account_id": account.id, "level": level, "name": name}

    def work(connection: Connection) -> None:
        if level == "account":
            connection.execute(
                update(account_table).where(account_table.c.id == account.id).values(target_acos=target_acos)
            )
        elif target_acos is None:
            connection.execute(delete(aim).where(*(aim.c[column] == value for column, value in key.items())))
        else:
            kept = insert(aim).values(**key, target_acos=target_acos)
            connection.execute(kept.on_duplicate_key_update(target_acos=target_acos))
        detail = {"level": level, "name": name, "target_acos": target_acos}
        trail.write(connection, "target set", person_id, account.id, detail)

    store.transact(work)
