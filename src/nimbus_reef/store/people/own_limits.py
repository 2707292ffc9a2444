"""Target ACOS and limits of bids of portfolios, products, campaigns, labels and single targets, as they are kept."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import date
from typing import Any, Final

from sqlalchemy import Connection, delete, insert, select

from nimbus_reef.core.own_limits import GOALS, Limit, OwnLimit
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import labels, trail
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import MAX_NAME, aim

LEVELS: Final = ("portfolio", "product", "label", "campaign", "target")
TARGET_ACOS: Final = "target_acos"
HIGHEST: Final = 5.0
"""Of a target ACOS."""


def kept(connection: Connection, account_id: int | None = None) -> list[Any]:
    """What is kept below an account, or below all: account_id, level, name, what, value, until_day."""
    wanted = select(aim).order_by(aim.c.account_id, aim.c.level, aim.c.name)
    return list(connection.execute(wanted if account_id is None else wanted.where(aim.c.account_id == account_id)))


def limits(connection: Connection, account_id: int | None = None) -> dict[int, tuple[OwnLimit, ...]]:
    """By account, the limits of bids set below it; a label's as those of its campaigns and products."""
    found: dict[int, dict[tuple[str, str, str], tuple[float, date | None]]] = {}
    of_labels: dict[int, list[Any]] = {}
    for row in kept(connection, account_id):
        if row.what == TARGET_ACOS:
            continue
        own = found.setdefault(row.account_id, {})
        if row.level == "label":
            of_labels.setdefault(row.account_id, []).append(row)
        else:
            own[row.level, row.name, row.what] = (row.value, row.until_day)
    for account, rows in of_labels.items():
        known = labels.kept(connection, account)
        for level, things in (("campaign", known.campaigns), ("product", known.products)):
            for name, texts in things.items():
                for row in rows:
                    if row.name in texts:
                        found[account].setdefault((level, name, row.what), (row.value, row.until_day))
    return {
        account: tuple(OwnLimit(level, name, Limit(what), *own[level, name, what]) for level, name, what in sorted(own))
        for account, own in found.items()
    }


def set_limits(
    store: Store,
    account_id: int,
    person_id: int | None,
    level: str,
    names: Sequence[str],
    what: str,
    value: float | None,
    until: date | None = None,
) -> None:
    """
    Sets a limit or target ACOS of several things, or with None takes it back; BadInput for what cannot be meant. until:
    the day from which a goal is as if it were not set.
    """
    if level not in LEVELS or not names:
        raise BadInput("A limit needs a level and a name.", remedy=f"Choose {', '.join(LEVELS)}, and name it.")
    if any(len(name) > MAX_NAME for name in names):
        raise BadInput("A name is too long to keep a limit for it.", remedy="Set the limit for its campaign.")
    most = HIGHEST if what == TARGET_ACOS else _MOST[Limit(what)]
    if value is not None and not 0 < value < most:
        raise BadInput(f"{what.replace('_', ' ')}: {value:g} cannot be meant.", remedy=f"Enter up to {most:g}.")
    set_to = {"value": value, "until_day": until}
    keys = {"account_id": account_id, "level": level, "what": what}

    def work(connection: Connection) -> None:
        for some in _batched(names):
            former = aim.c.name.in_(some), *(aim.c[column] == of for column, of in keys.items())
            connection.execute(delete(aim).where(*former))
            if value is not None:
                connection.execute(insert(aim).values([{**keys, **set_to, "name": name} for name in some]))
        detail = {"level": level, "name": ", ".join(names[:3]), "things": len(names), what: value}
        trail.write(connection, "target set" if what == TARGET_ACOS else "limit set", person_id, account_id, detail)

    store.transact(work)


_MOST: Final = {
    Limit.CEILING: 10_000.0,
    Limit.FLOOR: 10_000.0,
    Limit.STEP_DOWN: 0.96,
    Limit.STEP_UP: 5.01,
    Limit.GOAL: len(GOALS) + 1,
}
_AT_ONCE: Final = 500


def _batched(names: Sequence[str]) -> Iterator[Sequence[str]]:
    for first in range(0, len(names), _AT_ONCE):
        yield names[first : first + _AT_ONCE]
