"""The settings of accounts, as they are kept: what is not set otherwise is as usual (`core.settings`)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Final

from sqlalchemy import Connection, delete, select, update
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.core.model import MICRO, from_micro
from nimbus_reef.core.settings import USUAL, Holds, Settings, problem, register, together_problem
from nimbus_reef.errors import BadInput, Conflict
from nimbus_reef.store.people import trail
from nimbus_reef.store.record import locks
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import account, account_setting

_COLUMNS: Final = ("min_clicks", "maturing_days", "bid_floor", "bid_ceiling")
"""Settings that stand with the account itself."""
_MONEY_COLUMNS: Final = ("bid_floor", "bid_ceiling")


def kept(connection: Connection, account_id: int | None = None) -> dict[int, dict[str, str]]:
    """By account, what is set otherwise than usual, as text."""
    query = select(account_setting)
    if account_id is not None:
        query = query.where(account_setting.c.account_id == account_id)
    found: dict[int, dict[str, str]] = {}
    for row in connection.execute(query):
        found.setdefault(row.account_id, {})[row.name] = row.value
    return found


def of_row(row: Any, own: Mapping[str, str]) -> Settings:
    """The settings of an account's row and of what is kept beside it."""
    values: dict[str, Any] = {
        name: from_micro(getattr(row, name)) if name in _MONEY_COLUMNS else getattr(row, name) for name in _COLUMNS
    }
    known = register()
    values |= {name: _read(known[name].holds, text) for name, text in own.items() if name in known}
    return replace(USUAL, **values)


def _read(holds: Holds, text: str) -> Any:
    if holds is Holds.COUNT:
        return int(text)
    if holds is Holds.WORDS:
        return tuple(text.split("\n")) if text else ()
    return text if holds in (Holds.TEXT, Holds.CHOICE) else float(text)


def _written(holds: Holds, value: Any) -> str:
    return "\n".join(value) if holds is Holds.WORDS else str(value)


_TOLD_APART: Final = frozenset({"unwanted_words"})
"""Settings under which all that depends on them is kept: they make nothing else anew."""


def change(store: Store, account_id: int, person_id: int | None, before: Settings, after: Settings) -> list[str]:
    """
    Keeps what differs, all of it or nothing; the keys of what was changed. Raises BadInput for a value that cannot be
    meant, or that contradicts another, Conflict when somebody else changed one of them since `before` was read.
    """
    known = register()
    differing = [key for key in known if getattr(before, key) != getattr(after, key)]
    for key in differing:
        if wrong := problem(known[key], getattr(after, key)):
            raise BadInput(f"“{known[key].label}” {wrong}.", remedy="Nothing was changed.")
    if not differing:
        return []

    def work(connection: Connection) -> None:
        locks.take(connection, account_id, locks.SETTINGS)
        row = connection.execute(select(account).where(account.c.id == account_id)).one()
        now = of_row(row, kept(connection, account_id).get(account_id, {}))
        for key in differing:
            if getattr(now, key) != getattr(before, key):
                raise Conflict(
                    f"“{known[key].label}” was changed meanwhile.", remedy="Nothing was changed. Reload the page."
                )
        if wrong := together_problem(replace(now, **{key: getattr(after, key) for key in differing})):
            raise BadInput(wrong, remedy="Nothing was changed.")
        columns: dict[str, Any] = {}
        for key in differing:
            value, holds = getattr(after, key), known[key].holds
            if key in _COLUMNS:
                columns[key] = round(value * MICRO) if key in _MONEY_COLUMNS else value
            elif value == known[key].default:
                connection.execute(
                    delete(account_setting).where(
                        account_setting.c.account_id == account_id, account_setting.c.name == key
                    )
                )
            else:
                own = insert(account_setting).values(account_id=account_id, name=key, value=_written(holds, value))
                connection.execute(own.on_duplicate_key_update(value=own.inserted.value))
        if not set(differing) <= _TOLD_APART:
            columns["settings_version"] = account.c.settings_version + 1
        if columns:
            connection.execute(update(account).where(account.c.id == account_id).values(columns))
        detail = {key: [getattr(before, key), getattr(after, key)] for key in differing}
        trail.write(connection, "settings changed", person_id, account_id, detail)

    store.transact(work)
    return differing
