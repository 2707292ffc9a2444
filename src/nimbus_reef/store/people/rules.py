"""Own rules: on which rows of a list an action is done, in their order; of one account, or of all."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any, Final

from sqlalchemy import ColumnElement, Connection, delete, func, insert, or_, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import trail
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import rule as rule_table
from nimbus_reef.store.record.models import rule_run

MOST: Final = 50
"""Rules that an account has on one view."""
_LONGEST_QUERY: Final = 256


@dataclass(frozen=True, slots=True)
class Rule:
    """
    A rule. conditions: filters as an address has them, all of which a row has to meet, and query the text it is
    searched by; action, value: what is done, and what is entered with it; no_sale: what is made of rows without a sale
    where ACOS is asked about; every: days between two runs, 0 for by hand; everywhere: it is for all accounts.
    """

    view: str
    conditions: tuple[str, ...]
    query: str
    action: str
    value: str
    no_sale: str = ""
    every: int = 0
    everywhere: bool = False
    id: int = 0


def of_view(store: Store, account_id: int, view: str = "") -> list[Rule]:
    """The rules of an account in their order, its own before those of all accounts; of one view where it is named."""
    query = (
        select(rule_table)
        .where(_is_seen_by(account_id))
        .order_by(rule_table.c.view, rule_table.c.account_id.is_(None), rule_table.c.place, rule_table.c.id)
    )
    if view:
        query = query.where(rule_table.c.view == view)
    with store.read() as connection:
        return [
            Rule(
                row.view,
                tuple(row.conditions),
                row.query,
                row.action,
                row.value,
                row.no_sale,
                row.every,
                row.account_id is None,
                row.id,
            )
            for row in connection.execute(query)
        ]


def save(store: Store, account_id: int, person_id: int, rule: Rule, words: str) -> None:
    """
    Adds a rule as the last of its view, or changes the one that has its id; BadInput where there are too many. words:
    the rule as it is read, for the trail.
    """
    if len(rule.query) > _LONGEST_QUERY:
        raise BadInput("The text to search for is too long.", remedy="Enter a shorter text.")
    whose = None if rule.everywhere else account_id
    values: dict[str, Any] = {
        "account_id": whose,
        "conditions": list(rule.conditions),
        "query": rule.query,
        "action": rule.action,
        "value": rule.value,
        "no_sale": rule.no_sale,
        "every": rule.every,
    }

    def work(connection: Connection) -> None:
        if rule.id:
            done = connection.execute(update(rule_table).where(*_own(account_id, rule.view, rule.id)).values(values))
            found = bool(done.rowcount) or connection.scalar(
                select(rule_table.c.id).where(*_own(account_id, rule.view, rule.id))
            )
            if not found:
                raise NotFound("This rule does not exist any more.", remedy="Reload the page.")
        else:
            count, last = connection.execute(
                select(func.count(), func.max(rule_table.c.place)).where(
                    rule_table.c.view == rule.view, _is_seen_by(account_id)
                )
            ).one()
            if count >= MOST:
                raise BadInput(f"A list has up to {MOST} rules.", remedy="Remove one first.")
            connection.execute(
                insert(rule_table).values(**values, view=rule.view, place=(last or 0) + 1, person_id=person_id)
            )
        trail.write(connection, "rule saved", person_id, account_id, {"view": rule.view, "rule": words})

    store.transact(work)


def remove(store: Store, account_id: int, person_id: int, rule: Rule, words: str) -> None:
    """Takes a rule away. words: the rule as it is read, for the trail."""

    def work(connection: Connection) -> None:
        connection.execute(delete(rule_table).where(*_own(account_id, rule.view, rule.id)))
        trail.write(connection, "rule removed", person_id, account_id, {"view": rule.view, "rule": words})

    store.transact(work)


def order(store: Store, account_id: int, person_id: int, view: str, ids: Sequence[int]) -> None:
    """Puts the rules of a view in an order."""

    def work(connection: Connection) -> None:
        for place, each in enumerate(ids, 1):
            connection.execute(update(rule_table).where(*_own(account_id, view, each)).values(place=place))
        trail.write(connection, "rules ordered", person_id, account_id, {"view": view})

    store.transact(work)


def runs(store: Store, account_id: int) -> dict[str, datetime]:
    """When the rules of each view were last run, in UTC."""
    query = select(rule_run.c.view, rule_run.c.at).where(rule_run.c.account_id == account_id)
    with store.read() as connection:
        return {row.view: row.at for row in connection.execute(query)}


def due(rules: Sequence[Rule], ran: Mapping[str, datetime], today: date) -> dict[str, int]:
    """The views of which rules are to be run by a day, and how many rules each."""
    found: dict[str, int] = {}
    for each in rules:
        last = ran.get(each.view)
        if each.every and (last is None or (today - last.date()).days >= each.every):
            found[each.view] = found.get(each.view, 0) + 1
    return found


def was_run(store: Store, account_id: int, view: str) -> None:
    """Keeps that the rules of a view were run now."""
    now = utc_now()
    kept = upsert(rule_run).values(account_id=account_id, view=view, at=now)
    store.execute(kept.on_duplicate_key_update(at=now))


def _own(account_id: int, view: str, rule_id: int) -> tuple[Any, ...]:
    return rule_table.c.id == rule_id, rule_table.c.view == view, _is_seen_by(account_id)


def _is_seen_by(account_id: int) -> ColumnElement[bool]:
    """Of the account, or of all."""
    return or_(rule_table.c.account_id == account_id, rule_table.c.account_id.is_(None))
