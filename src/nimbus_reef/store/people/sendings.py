"""Sheets that left: which changes each held with which values, and what became of every one of them."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Final

from sqlalchemy import Connection, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from nimbus_reef.core.changes import Change, ChangeState
from nimbus_reef.core.plan import whole
from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.people import plan_steps, trail
from nimbus_reef.store.people.plan_steps import Did, StepKind, Touched
from nimbus_reef.store.people.plans import Planned, open_changes
from nimbus_reef.store.record import locks
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import change, plan_step, sending, sending_change
from nimbus_reef.store.record.models import person as person_table

_PIECE: Final = 1_000


@dataclass(frozen=True, slots=True)
class Sending:
    """A sheet that left: when, by whom, in which form, how many changes, and how many by what became of them."""

    id: int
    at: datetime
    person: str
    sheet: str
    changes: int
    results: Mapping[ChangeState, int]

    @property
    def waiting(self) -> int:
        """How many changes nothing is known of yet."""
        return self.results.get(ChangeState.SENT, 0)


def key_of(sheet: str, changes: Sequence[Change]) -> str:
    """Tells a sheet from every other: the same form, rows and values have the same key."""
    names = [sheet, *(f"{each.row} {each.new_value}" for each in changes)]
    return hashlib.sha256("\x1f".join(names).encode()).hexdigest()


def send(store: Store, account_id: int, person_id: int, sheet: str, planned: Sequence[Planned]) -> int:
    """
    Notes that a sheet left with these changes, which are sent from now on; the number of the sending. The same sheet
    taken again is the same sending. Conflict where the plan moved meanwhile.
    """
    key = key_of(sheet, [each.change for each in planned])

    def work(connection: Connection) -> int:
        locks.take(connection, account_id, locks.PLAN)
        newest = connection.execute(
            select(func.coalesce(func.max(plan_step.c.id), 0)).where(plan_step.c.account_id == account_id)
        ).scalar_one()
        known = connection.execute(
            select(sending.c.id).where(sending.c.account_id == account_id, sending.c.key == key)
        ).scalar()
        detail = {"sheet": sheet, "changes": len(planned)}
        trail.write(connection, "exported", person_id, account_id, detail)
        if known is not None:
            connection.execute(update(sending).where(sending.c.id == known).values(after_step=newest))
            return int(known)
        now = {each.id: each.change.new_value for each in open_changes(connection, account_id)}
        if any(now.get(each.id) != each.change.new_value for each in planned):
            raise Conflict("The plan has changed since.", remedy="Take the sheet once more.")
        cursor = connection.execute(
            insert(sending).values(account_id=account_id, person_id=person_id, sheet=sheet, key=key, after_step=newest)
        )
        number = int(cursor.inserted_primary_key[0])  # type: ignore[index]
        rows = [{"sending_id": number, "change_id": each.id, "new_value": each.change.new_value} for each in planned]
        for begun in range(0, len(rows), _PIECE):
            connection.execute(insert(sending_change), rows[begun : begun + _PIECE])
        connection.execute(
            update(change).where(change.c.id.in_([each.id for each in planned])).values(state=ChangeState.SENT.value)
        )
        return number

    try:
        return store.transact(work)
    except IntegrityError as problem:
        raise Conflict("The plan has changed since.", remedy="Take the sheet once more.") from problem


def sendings(store: Store, account_id: int, most: int = 10) -> list[Sending]:
    """The sheets that left, newest first."""
    with store.read() as connection:
        rows = connection.execute(
            select(sending, person_table.c.name)
            .outerjoin(person_table, person_table.c.id == sending.c.person_id)
            .where(sending.c.account_id == account_id)
            .order_by(sending.c.id.desc())
            .limit(most)
        ).all()
        counts: dict[int, dict[ChangeState, int]] = {}
        for number, result, count in connection.execute(
            select(sending_change.c.sending_id, sending_change.c.result, func.count())
            .where(sending_change.c.sending_id.in_([row.id for row in rows]))
            .group_by(sending_change.c.sending_id, sending_change.c.result)
        ):
            counts.setdefault(number, {})[ChangeState(result)] = count
    return [
        Sending(row.id, row.at, row.name or "", row.sheet, sum(own.values()), own)
        for row in rows
        for own in [counts.get(row.id, {})]
    ]


def answer(store: Store, account_id: int, person_id: int, sending_id: int, failed: Mapping[int, str]) -> int:
    """
    Notes what became of a sending: its changes are done and leave the plan, but those that failed, by their row with
    what was said of each, which stay in it. Of changes that got another value since nothing is noted. How many are
    done; NotFound for a sending that is not this account's, Conflict where nothing of it waits any more.
    """

    def work(connection: Connection) -> int:
        locks.take(connection, account_id, locks.PLAN)
        by_key = {each.id: each.change for each in open_changes(connection, account_id)}
        cursor = connection.execute(
            select(sending_change.c.change_id, sending_change.c.new_value)
            .join(sending, sending.c.id == sending_change.c.sending_id)
            .where(
                sending.c.id == sending_id,
                sending.c.account_id == account_id,
                sending_change.c.result == ChangeState.SENT.value,
            )
        )
        sent = {
            number: by_key[number] for number, value in cursor if number in by_key and by_key[number].new_value == value
        }
        if not sent:
            if not connection.execute(
                select(sending.c.id).where(sending.c.id == sending_id, sending.c.account_id == account_id)
            ).first():
                raise NotFound("This sheet does not exist.", remedy="Reload the plan.")
            raise Conflict("Nothing in this sheet is waiting.", remedy="Reload the plan.")
        broken = {each.row for each in whole(list(sent.values()), [c for c in sent.values() if c.row in failed])}
        for number, each in sent.items():
            if each.row in broken:
                text = failed.get(each.row, "Another change of its package failed.")
                _note(connection, sending_id, [number], ChangeState.FAILED, text)
        stayed = [number for number, each in sent.items() if each.row in broken]
        connection.execute(update(change).where(change.c.id.in_(stayed)).values(state=ChangeState.FAILED.value))
        done = [number for number in sent if number not in set(stayed)]
        _note(connection, sending_id, done, ChangeState.DONE, "")
        plan_steps.take_out(connection, account_id, done, ChangeState.DONE)
        plan_steps.write(connection, account_id, person_id, StepKind.DONE, [Touched(each, Did.DONE) for each in done])
        trail.write(connection, "carried out", person_id, account_id, {"sending": sending_id, "changes": len(done)})
        return len(done)

    return store.transact(work)


def _note(connection: Connection, sending_id: int, changes: Sequence[int], result: ChangeState, text: str) -> None:
    connection.execute(
        update(sending_change)
        .where(sending_change.c.sending_id == sending_id, sending_change.c.change_id.in_(list(changes)))
        .values(result=result.value, said=text[:512])
    )
