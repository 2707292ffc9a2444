"""Sheets that left: which changes each held with which values, and what became of every one of them."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from enum import StrEnum
from typing import Any, Final

from sqlalchemy import Connection, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from nimbus_reef.core.changes import Change, ChangeState
from nimbus_reef.core.plan import whole
from nimbus_reef.core.promises import Promise
from nimbus_reef.errors import Conflict, NotAllowed, NotFound
from nimbus_reef.store.people import plan_steps, trail
from nimbus_reef.store.people.plan_steps import Did, StepKind, Touched
from nimbus_reef.store.people.plans import Planned, open_changes
from nimbus_reef.store.record import locks
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import change, plan_step, sending, sending_change
from nimbus_reef.store.record.models import person as person_table

_PIECE: Final = 1_000
SERVICE: Final = "service"
"""The form of what is sent to a marketplace rather than taken as a file."""


class SendingState(StrEnum):
    """
    How far a sending is. SHEET: a file that somebody uploads by hand; of what goes to a marketplace: it waits for
    somebody else's yes, then for a worker, is sent, every row is answered, or it was cancelled.
    """

    SHEET = "sheet"
    APPROVAL = "approval"
    QUEUED = "queued"
    SENT = "sent"
    ANSWERED = "answered"
    CANCELLED = "cancelled"


@dataclass(frozen=True, slots=True)
class Sending:
    """
    A sheet that left: when, by whom, in which form, how many changes, and how many by what became of them. receipt: by
    what the marketplace knows it; day: from which on it holds there; said: what went wrong last; override: why it went
    beyond a guard; approved_by: who let it go.
    """

    id: int
    account_id: int
    at: datetime
    person_id: int | None
    person: str
    sheet: str
    changes: int
    results: Mapping[ChangeState, int]
    state: SendingState = SendingState.SHEET
    key: str = ""
    receipt: str | None = None
    day: date | None = None
    said: str = ""
    override: str = ""
    approved_by: int | None = None

    @property
    def waiting(self) -> int:
        """How many changes nothing is known of yet."""
        return self.results.get(ChangeState.SENT, 0)

    @property
    def open(self) -> bool:
        """Whether a worker still has something to do for it."""
        return self.state in (SendingState.QUEUED, SendingState.SENT)


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
    return _send(store, account_id, person_id, planned, {"sheet": sheet, "key": key})


def hand_over(
    store: Store,
    account_id: int,
    person_id: int,
    planned: Sequence[Planned],
    key: str,
    *,
    override: str = "",
    needs_approval: bool = False,
) -> int:
    """
    Notes changes to be sent to the account's marketplace by a worker; the number of the sending. key: made for this
    request alone, so that a form that is sent twice is one sending.
    """
    state = SendingState.APPROVAL if needs_approval else SendingState.QUEUED
    values = {"sheet": SERVICE, "key": key, "state": state.value, "override": override[:512]}
    return _send(store, account_id, person_id, planned, values)


def _send(store: Store, account_id: int, person_id: int, planned: Sequence[Planned], values: Mapping[str, Any]) -> int:
    key = values["key"]

    def work(connection: Connection) -> int:
        locks.take(connection, account_id, locks.PLAN)
        newest = connection.execute(
            select(func.coalesce(func.max(plan_step.c.id), 0)).where(plan_step.c.account_id == account_id)
        ).scalar_one()
        known = connection.execute(
            select(sending.c.id).where(sending.c.account_id == account_id, sending.c.key == key)
        ).scalar()
        detail = {"sheet": values["sheet"], "changes": len(planned)}
        if override := values.get("override"):
            detail["beyond a guard, because"] = override
        what = "exported" if "state" not in values else "sent"
        if known is None or what == "exported":
            trail.write(connection, what, person_id, account_id, detail)
        if known is not None:
            connection.execute(update(sending).where(sending.c.id == known).values(after_step=newest))
            return int(known)
        now = {each.id: each for each in open_changes(connection, account_id)}
        if any(each.id not in now or now[each.id].change.new_value != each.change.new_value for each in planned):
            raise Conflict("The plan has changed since.", remedy="Take the sheet once more.")
        if "state" in values:
            plan_steps.refuse_on_their_way(connection, [each.id for each in planned])
        cursor = connection.execute(
            insert(sending).values(account_id=account_id, person_id=person_id, after_step=newest, **values)
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
    return _found(store, most, sending.c.account_id == account_id)


def one(store: Store, account_id: int, sending_id: int) -> Sending:
    """A sending of an account; NotFound where it has none of that number."""
    found = _found(store, 1, sending.c.account_id == account_id, sending.c.id == sending_id)
    if not found:
        raise NotFound("This sheet does not exist.", remedy="Reload the plan.")
    return found[0]


def left_open(store: Store) -> list[Sending]:
    """What a worker still has something to do for, in all accounts."""
    states = [each.value for each in (SendingState.QUEUED, SendingState.SENT)]
    return _found(store, 1_000, sending.c.state.in_(states))


def _found(store: Store, most: int, *which: Any) -> list[Sending]:
    with store.read() as connection:
        rows = connection.execute(
            select(sending, person_table.c.name)
            .outerjoin(person_table, person_table.c.id == sending.c.person_id)
            .where(*which)
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
        Sending(
            row.id,
            row.account_id,
            row.at,
            row.person_id,
            row.name or "",
            row.sheet,
            sum(own.values()),
            own,
            SendingState(row.state),
            row.key,
            row.receipt,
            row.day,
            row.said,
            row.override,
            row.approved_by,
        )
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


@dataclass(frozen=True, slots=True)
class SentChange:
    """A change of a sending: with which value it left, what became of it, and what was said, in a code and in words."""

    id: int
    change: Change
    new_value: str
    result: ChangeState
    code: str
    said: str


def changes_of(store: Store, sending_id: int) -> list[SentChange]:
    """All changes of a sending, in the order of their rows."""
    with store.read() as connection:
        rows = connection.execute(
            select(
                change,
                sending_change.c.new_value.label("sent_value"),
                sending_change.c.result,
                sending_change.c.code,
                sending_change.c.said,
            )
            .join(sending_change, sending_change.c.change_id == change.c.id)
            .where(sending_change.c.sending_id == sending_id)
            .order_by(change.c.row)
        )
        return [
            SentChange(
                row.id,
                replace(plan_steps.change_of(row), new_value=row.sent_value),
                row.sent_value,
                ChangeState(row.result),
                row.code,
                row.said,
            )
            for row in rows
        ]


@dataclass(frozen=True, slots=True)
class CarriedOut:
    """
    A change that was carried out: what it rests on and promised, when it was sent, and from which day on it held, where
    a marketplace said so.
    """

    id: int
    change: Change
    promise: Promise
    sending_id: int
    sent: date
    day: date | None

    @property
    def earliest(self) -> date:
        """The first day on which it can have held: what the marketplace said, else the day after it was sent."""
        return self.day or self.sent + timedelta(days=1)


_DONE: Final = (
    select(
        change, sending_change.c.new_value.label("sent_value"), sending_change.c.sending_id, sending.c.at, sending.c.day
    )
    .join(sending_change, sending_change.c.change_id == change.c.id)
    .join(sending, sending.c.id == sending_change.c.sending_id)
    .where(sending_change.c.result == ChangeState.DONE.value)
    .order_by(change.c.id)
)


def carried_out(store: Store, account_id: int) -> list[CarriedOut]:
    """Every change of an account that was carried out, in the order in which they were planned."""
    with store.read() as connection:
        rows = connection.execute(_DONE.where(change.c.account_id == account_id))
        return [
            CarriedOut(
                row.id,
                replace(plan_steps.change_of(row), new_value=row.sent_value),
                row.basis,
                row.sending_id,
                row.at.date(),
                row.day,
            )
            for row in rows
        ]


def carried_out_generation(store: Store, account_id: int) -> tuple[int, int]:
    """Changes whenever another change is carried out; one small query."""
    query = (
        select(func.count(), func.coalesce(func.max(sending_change.c.change_id), 0))
        .join(sending, sending.c.id == sending_change.c.sending_id)
        .where(sending.c.account_id == account_id, sending_change.c.result == ChangeState.DONE.value)
    )
    with store.read() as connection:
        count, newest = connection.execute(query).one()
    return int(count), int(newest)


def note_held(store: Store, account_id: int, person_id: int, held: Mapping[int, str]) -> None:
    """Notes, by change, what its field stands at on the marketplace now: from there it is changed, not from before."""

    def work(connection: Connection) -> None:
        locks.take(connection, account_id, locks.PLAN)
        for number, value in held.items():
            connection.execute(
                update(change)
                .where(change.c.id == number, change.c.account_id == account_id, change.c.removed_at.is_(None))
                .values(old_value=value[:255])
            )
        trail.write(connection, "sent over another value", person_id, account_id, {"changes": sorted(held)})

    store.transact(work)


def approve(store: Store, account_id: int, person_id: int, sending_id: int) -> None:
    """Lets a sending go that needs somebody else's yes; NotAllowed for whoever asked for it."""

    def work(connection: Connection) -> None:
        row = connection.execute(
            select(sending).where(sending.c.id == sending_id, sending.c.account_id == account_id).with_for_update()
        ).first()
        if row is None or row.state != SendingState.APPROVAL.value:
            raise Conflict("This sending waits for nobody's approval.", remedy="Reload the page.")
        if row.person_id == person_id:
            raise NotAllowed("You asked for this sending yourself.", remedy="Ask somebody else who may send.")
        connection.execute(
            update(sending)
            .where(sending.c.id == sending_id)
            .values(state=SendingState.QUEUED.value, approved_by=person_id)
        )
        trail.write(connection, "sending approved", person_id, account_id, {"sending": sending_id})

    store.transact(work)


def cancel(store: Store, account_id: int, person_id: int, sending_id: int) -> int:
    """
    Takes a sending back that has not reached the marketplace; its changes are planned as before. How many; Conflict
    where it has, or may have.
    """

    def work(connection: Connection) -> int:
        locks.take(connection, account_id, locks.PLAN)
        row = connection.execute(
            select(sending).where(sending.c.id == sending_id, sending.c.account_id == account_id).with_for_update()
        ).first()
        if row is None or row.state not in (SendingState.APPROVAL.value, SendingState.QUEUED.value):
            raise Conflict(
                "This sending is on its way or over.", remedy="Wait for the answers, then take changes back."
            )
        connection.execute(update(sending).where(sending.c.id == sending_id).values(state=SendingState.CANCELLED.value))
        ids = list(
            connection.execute(
                select(sending_change.c.change_id).where(sending_change.c.sending_id == sending_id)
            ).scalars()
        )
        _note(connection, sending_id, ids, ChangeState.TAKEN_BACK, "Cancelled before it was sent.")
        connection.execute(
            update(change)
            .where(change.c.id.in_(ids), change.c.removed_at.is_(None))
            .values(state=ChangeState.PLANNED.value)
        )
        trail.write(connection, "sending cancelled", person_id, account_id, {"sending": sending_id})
        return len(ids)

    return store.transact(work)


def leave(store: Store, sending_id: int) -> bool:
    """
    Notes, before the first try, that a sending may reach the marketplace from now on and can no longer be cancelled;
    False where it was cancelled.
    """

    def work(connection: Connection) -> bool:
        state = connection.execute(
            select(sending.c.state).where(sending.c.id == sending_id).with_for_update()
        ).scalar_one()
        if state == SendingState.QUEUED.value:
            connection.execute(update(sending).where(sending.c.id == sending_id).values(state=SendingState.SENT.value))
        return state in (SendingState.QUEUED.value, SendingState.SENT.value)

    return store.transact(work)


def note_receipt(store: Store, sending_id: int, receipt: str, day: date) -> None:
    """Notes by what the marketplace knows a sending, and from which day on it holds."""
    store.execute(update(sending).where(sending.c.id == sending_id).values(receipt=receipt, day=day, said=""))


def note_trouble(store: Store, sending_id: int, said: str) -> None:
    """Notes why a sending does not get on; it is tried again."""
    store.execute(update(sending).where(sending.c.id == sending_id).values(said=said[:512]))


@dataclass(frozen=True, slots=True)
class RowAnswer:
    """What a marketplace said to a row of a sheet: whether it was carried out, in a code and in words."""

    row: int
    applied: bool
    code: str = ""
    said: str = ""


def note_answers(
    store: Store, account_id: int, person_id: int | None, sending_id: int, answers: Sequence[RowAnswer], *, last: bool
) -> int:
    """
    Notes what became of rows of a sending, each for itself: a marketplace carries out one row and refuses the next.
    What is done leaves the plan, what failed stays in it. Rows that are answered already stay as they are. How many are
    done by this. last: every row is answered.
    """

    def work(connection: Connection) -> int:
        locks.take(connection, account_id, locks.PLAN)
        waiting = connection.execute(
            select(change.c.id, change.c.row, change.c.new_value, sending_change.c.new_value.label("sent_value"))
            .join(sending_change, sending_change.c.change_id == change.c.id)
            .where(sending_change.c.sending_id == sending_id, sending_change.c.result == ChangeState.SENT.value)
        ).all()
        by_row = {row.row: row for row in waiting}
        done = [by_row[each.row].id for each in answers if each.applied and each.row in by_row]
        for each in answers:
            if not each.applied and each.row in by_row:
                _note(connection, sending_id, [by_row[each.row].id], ChangeState.FAILED, each.said, each.code)
                connection.execute(
                    update(change)
                    .where(change.c.id == by_row[each.row].id, change.c.removed_at.is_(None))
                    .values(state=ChangeState.FAILED.value)
                )
        if done:
            _note(connection, sending_id, done, ChangeState.DONE, "")
            plan_steps.take_out(connection, account_id, done, ChangeState.DONE)
        if last:
            connection.execute(
                update(sending).where(sending.c.id == sending_id).values(state=SendingState.ANSWERED.value, said="")
            )
            results: dict[str, int] = dict(
                connection.execute(
                    select(sending_change.c.result, func.count())
                    .where(sending_change.c.sending_id == sending_id)
                    .group_by(sending_change.c.result)
                ).all()
            )
            trail.write(connection, "answered", person_id, account_id, {"sending": sending_id, **results})
        return len(done)

    return store.transact(work)


def _note(
    connection: Connection, sending_id: int, changes: Sequence[int], result: ChangeState, text: str, code: str = ""
) -> None:
    connection.execute(
        update(sending_change)
        .where(sending_change.c.sending_id == sending_id, sending_change.c.change_id.in_(list(changes)))
        .values(result=result.value, said=text[:512], code=code[:32])
    )
