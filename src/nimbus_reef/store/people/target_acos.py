"""Target ACOS of portfolios, products, campaigns, labels and targets; the account's own stands with the account."""

from __future__ import annotations

from typing import Final

from sqlalchemy import Connection, update

from nimbus_reef.core.targeting import Aims
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import labels, own_limits, trail
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.own_limits import HIGHEST, TARGET_ACOS
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import account as account_table

LEVELS: Final = ("account", *own_limits.LEVELS)


def own(store: Store, account: Account) -> list[tuple[str, str, float]]:
    """The targets that are set below the account: level, name and target."""
    with store.read() as connection:
        rows = own_limits.kept(connection, account.id)
        return [(each.level, each.name, each.value) for each in rows if each.what == TARGET_ACOS]


def aims(store: Store, account: Account) -> Aims:
    """
    The targets in force in an account. A label's is that of its campaigns and products which have none of their own, of
    several labels the lowest.
    """
    by_level: dict[str, dict[str, float]] = {level: {} for level in LEVELS}
    for level, name, value in own(store, account):
        by_level[level][name] = value
    campaigns, products = by_level["campaign"], by_level["product"]
    if by_level["label"]:
        known = labels.of_account(store, account.id)
        for of, things in ((campaigns, known.campaigns), (products, known.products)):
            for name, texts in things.items():
                values = [by_level["label"][text] for text in texts if text in by_level["label"]]
                if values:
                    of.setdefault(name, min(values))
    ordered = (tuple(sorted(each.items())) for each in (campaigns, by_level["portfolio"], products, by_level["target"]))
    return Aims(account.target_acos, *ordered)


def set_aim(
    store: Store, account: Account, person_id: int | None, level: str, name: str, target_acos: float | None
) -> None:
    """Sets a target, or with None takes one back; BadInput where it cannot be meant."""
    if level not in LEVELS or (level != "account" and not name):
        raise BadInput("A target needs a level and a name.", remedy=f"Choose {', '.join(LEVELS)}, and name it.")
    if target_acos is not None and not 0 < target_acos < HIGHEST:
        raise BadInput(f"A target ACOS of {target_acos:.0%} cannot be meant.", remedy="Enter a percentage such as 28.")
    if level != "account":
        return own_limits.set_limits(store, account.id, person_id, level, [name], TARGET_ACOS, target_acos)

    def work(connection: Connection) -> None:
        connection.execute(
            update(account_table).where(account_table.c.id == account.id).values(target_acos=target_acos)
        )
        detail = {"level": level, "name": name, "target_acos": target_acos}
        trail.write(connection, "target set", person_id, account.id, detail)

    return store.transact(work)
