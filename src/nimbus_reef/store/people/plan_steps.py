"""What was done to a plan, step by step, and undoing it until the next sheet leaves."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from enum import StrEnum
from typing import Any, Final

from sqlalchemy import Connection, Row, func, insert, select, update

from nimbus_reef.core.changes import Action, Change, ChangeState, Entity, key_digest
from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.people import trail
from nimbus_reef.store.record import locks
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import change, plan_step, plan_step_change, sending, sending_change
from nimbus_reef.store.record.models import person as person_table

_PIECE: Final = 1_000


class StepKind(StrEnum):
    """What was done."""

    ACCEPTED = "accepted"
    REMOVED = "removed"
    READ_BACK = "read back"
    EDITED = "edited"
    DONE = "carried out"


class Did(StrEnum):
    """What a step did to a change."""

    ADDED = "added"
    REPLACED = "replaced"
    TAKEN_OUT = "taken out"
    EDITED = "edited"
    DONE = "done"


@dataclass(frozen=True, slots=True)
class Touched:
    """A change that a step touched; of an edited one the value and reason before, and the value it got."""

    change_id: int
    did: Did
    old_value: str = ""
    new_value: str = ""
    old_reason: str = ""


@dataclass(frozen=True, slots=True)
class Step:
    """Something done to the plan: by whom, when, what, and how many changes it touched."""

    id: int
    at: datetime
    person: str
    what: StepKind
    changes: int


FIELDS: Final = tuple(each.name for each in fields(Change))


def change_of(row: Any) -> Change:
    """A change as it stands on record."""
    values = {name: getattr(row, name) for name in FIELDS}
    values["action"], values["entity"] = Action(values["action"]), Entity(values["entity"])
    return Change(**values)


def write(connection: Connection, account_id: int, person_id: int, what: StepKind, touched: Iterable[Touched]) -> None:
    """Adds a step, in the transaction of what it tells of."""
    cursor = connection.execute(insert(plan_step).values(account_id=account_id, person_id=person_id, what=what.value))
    step_id = cursor.inserted_primary_key[0]  # type: ignore[index]
    rows = [
        {
            "step_id": step_id,
            "change_id": each.change_id,
            "did": each.did.value,
            "old_value": each.old_value,
            "new_value": each.new_value,
            "old_reason": each.old_reason,
        }
        for each in touched
    ]
    for begun in range(0, len(rows), _PIECE):
        connection.execute(insert(plan_step_change), rows[begun : begun + _PIECE])


def steps(store: Store, account_id: int, most: int = 20) -> list[Step]:
    """What was done to the plan since its last sheet left, and is not undone; newest first."""
    with store.read() as connection:
        rows = _open(connection, account_id)[:most]
        ids = [row.id for row in rows]
        counted = select(plan_step_change.c.step_id, func.count()).where(
            plan_step_change.c.step_id.in_(ids), plan_step_change.c.did != Did.REPLACED
        )
        counts: dict[int, int] = dict(connection.execute(counted.group_by(plan_step_change.c.step_id)).all())
    return [Step(row.id, row.at, row.name or "", StepKind(row.what), counts.get(row.id, 0)) for row in rows]


def _open(connection: Connection, account_id: int) -> Sequence[Row[Any]]:
    last = select(func.coalesce(func.max(sending.c.after_step), 0)).where(sending.c.account_id == account_id)
    return connection.execute(
        select(plan_step, person_table.c.name)
        .outerjoin(person_table, person_table.c.id == plan_step.c.person_id)
        .where(
            plan_step.c.account_id == account_id,
            plan_step.c.undone_at.is_(None),
            plan_step.c.id > last.scalar_subquery(),
        )
        .order_by(plan_step.c.id.desc())
    ).all()


def undo(store: Store, account_id: int, person_id: int, step_id: int | None = None) -> int:
    """
    Undoes a step (the person's newest acceptance when none is named); how many changes that touched. What was done to
    them since stays as it is. NotFound where there is no such step any more.
    """

    def work(connection: Connection) -> int:
        locks.take(connection, account_id, locks.PLAN)
        step = next(
            (
                row
                for row in _open(connection, account_id)
                if row.id == step_id
                or (step_id is None and row.person_id == person_id and row.what == StepKind.ACCEPTED)
            ),
            None,
        )
        if step is None:
            raise NotFound(
                "This can no longer be undone.", remedy="Check the plan: a sheet may have been downloaded since."
            )
        rows = connection.execute(select(plan_step_change).where(plan_step_change.c.step_id == step.id)).all()
        done = _undone(connection, account_id, rows)
        connection.execute(update(plan_step).where(plan_step.c.id == step.id).values(undone_at=utc_now()))
        trail.write(connection, "undone in the plan", person_id, account_id, {"step": step.id})
        return done

    return store.transact(work)


def _undone(connection: Connection, account_id: int, rows: Sequence[Row[Any]]) -> int:
    """What went in leaves, what left comes back, and what got another value gets the one before."""
    did = {kind: [row.change_id for row in rows if row.did == kind] for kind in Did}
    done = take_out(connection, account_id, did[Did.ADDED])
    done += _back(connection, account_id, [*did[Did.REPLACED], *did[Did.TAKEN_OUT], *did[Did.DONE]])
    for row in rows:
        if row.did == Did.EDITED:
            back = connection.execute(
                update(change)
                .where(change.c.id == row.change_id, change.c.new_value == row.new_value, change.c.removed_at.is_(None))
                .values(new_value=row.old_value, reason=row.old_reason)
            )
            done += back.rowcount
    return done


def take_out(
    connection: Connection, account_id: int, ids: Sequence[int], state: ChangeState = ChangeState.TAKEN_BACK
) -> int:
    """
    Takes open changes out of the plan; how many there were. state: what becomes of them. Conflict for changes that are
    on their way to a marketplace: what becomes of those is its answer.
    """
    if state is ChangeState.TAKEN_BACK:
        refuse_on_their_way(connection, ids)
    gone = connection.execute(
        update(change)
        .where(change.c.id.in_(list(ids)), change.c.account_id == account_id, change.c.removed_at.is_(None))
        .values(removed_at=utc_now(), open_key=None, state=state.value)
    )
    return gone.rowcount


def _back(connection: Connection, account_id: int, ids: Sequence[int]) -> int:
    """Puts changes back, whole packages, but those of which the plan changes anything in another way by now."""
    mine = change.c.account_id == account_id
    taken = set(connection.execute(select(change.c.open_key).where(mine, change.c.open_key.is_not(None))).scalars())
    gone = connection.execute(select(change).where(mine, change.c.id.in_(list(ids)), change.c.removed_at.is_not(None)))
    packages: dict[tuple[int, int], dict[str, int]] = {}
    for row in gone.all():
        whose = (row.package, 0 if row.package else row.id)
        packages.setdefault(whose, {})[key_digest(change_of(row))] = row.id
    done = 0
    for own in packages.values():
        if not taken.isdisjoint(own):
            continue
        taken |= set(own)
        for key, number in own.items():
            connection.execute(
                update(change)
                .where(change.c.id == number)
                .values(removed_at=None, open_key=key, state=ChangeState.PLANNED.value)
            )
        done += len(own)
    return done


_ON_THEIR_WAY: Final = ("approval", "queued", "sent")


def on_their_way(connection: Connection, changes: Sequence[int]) -> int:
    """How many of the changes a sending to a marketplace holds that is not over."""
    return int(
        connection.execute(
            select(func.count(sending_change.c.change_id.distinct()))
            .join(sending, sending.c.id == sending_change.c.sending_id)
            .where(
                sending.c.state.in_(_ON_THEIR_WAY),
                sending_change.c.result == ChangeState.SENT.value,
                sending_change.c.change_id.in_(list(changes)),
            )
        ).scalar_one()
    )


def refuse_on_their_way(connection: Connection, changes: Sequence[int]) -> None:
    """Conflict where any of the changes is on its way to a marketplace."""
    if changes and (busy := on_their_way(connection, changes)):
        raise Conflict(
            f"{busy} of these changes are on their way to the marketplace."
            if busy > 1
            else "This change is on its way to the marketplace.",
            remedy="Wait for the answer, or cancel that sending on the plan.",
        )
