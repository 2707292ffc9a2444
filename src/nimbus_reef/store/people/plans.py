"""The plan of an account: accepted changes, each open once per key, none ever lost."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from typing import Any, Final, Literal

from sqlalchemy import Connection, bindparam, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from nimbus_reef.core.changes import Action, Change, Entity, Promise, key
from nimbus_reef.core.plan import ReadBack, edited_reason
from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.people import trail
from nimbus_reef.store.record import turns
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import change
from nimbus_reef.store.record.models import person as person_table
from nimbus_reef.store.record.models import trail as trail_table

_FIELDS = tuple(each.name for each in fields(Change))


@dataclass(frozen=True, slots=True)
class Planned:
    """A change in the plan, and what was promised of it."""

    id: int
    change: Change
    promise: Promise
    accepted_at: datetime


def _open_key(wanted: Change) -> str:
    return hashlib.sha256("\x1f".join(key(wanted)).encode()).hexdigest()


def _planned(row: Any) -> Planned:
    values = {name: getattr(row, name) for name in _FIELDS}
    values["action"], values["entity"] = Action(values["action"]), Entity(values["entity"])
    return Planned(row.id, Change(**values), row.basis, row.accepted_at)


_GENERATION: Final = select(
    func.count(), func.coalesce(func.max(change.c.id), 0),
    func.coalesce(func.sum(func.crc32(func.concat(change.c.id, " ", change.c.new_value))), 0),
).where(change.c.account_id == bindparam("account"), change.c.removed_at.is_(None))  # fmt: skip


def generation(store: Store, account_id: int) -> tuple[int, ...]:
    """Changes whenever the plan does; one small query."""
    with store.read() as connection:
        row = connection.execute(_GENERATION, {"account": account_id}).one()
    return tuple(int(part) for part in row)


def planned(store: Store, account_id: int) -> list[Planned]:
    """The open changes, in the order of their rows."""
    with store.read() as connection:
        rows = connection.execute(
            select(change)
            .where(change.c.account_id == account_id, change.c.removed_at.is_(None))
            .order_by(change.c.row)
        )
        return [_planned(row) for row in rows]


def accept(store: Store, account_id: int, person_id: int, wanted: Change, promise: Promise) -> Planned:
    """
    Puts a change into the plan under the next row number; its `row` is ignored.

    Conflict when the plan already changes the same field of the same thing.
    """
    accepted = accept_many(store, account_id, person_id, [(wanted, promise)])
    if not accepted:
        raise Conflict(
            "The plan already changes this.", remedy="Take the other change out of the plan first."
        )
    return accepted[0]


def accept_many(
    store: Store, account_id: int, person_id: int, wanted: Sequence[tuple[Change, Promise]]
) -> list[Planned]:
    """
    Puts changes with their promises into the plan, all in one transaction; what the plan
    already changes is passed over. Returns those that went in, in their order.
    """

    def work(connection: Connection) -> list[int]:
        turns.take(connection, account_id, turns.PLAN)
        newest = connection.execute(
            select(func.max(change.c.row)).where(change.c.account_id == account_id)
        ).scalar()
        taken = set(
            connection.execute(
                select(change.c.open_key).where(
                    change.c.account_id == account_id, change.c.open_key.is_not(None)
                )
            ).scalars()
        )
        rows: dict[str, dict[str, Any]] = {}
        for each, promise in wanted:
            open_key = _open_key(each)
            if open_key in taken or open_key in rows:
                continue
            rows[open_key] = {name: getattr(each, name) for name in _FIELDS} | {
                "row": (newest or 0) + len(rows) + 1, "account_id": account_id, "person_id": person_id,
                "basis": promise, "open_key": open_key,
            }  # fmt: skip
        if not rows:
            return []
        connection.execute(insert(change), list(rows.values()))
        numbers = [row["row"] for row in rows.values()]
        trail.write(connection, "accepted", person_id, account_id, {"rows": numbers})
        return numbers

    try:
        numbers = store.transact(work)
    except IntegrityError as problem:
        raise Conflict("The plan changed meanwhile.", remedy="Do it once more.") from problem
    return [each for each in planned(store, account_id) if each.change.row in set(numbers)]


def remove_many(store: Store, account_id: int, person_id: int, change_ids: Sequence[int]) -> int:
    """Takes changes out of the plan, those that are still in it; how many."""

    def work(connection: Connection) -> int:
        turns.take(connection, account_id, turns.PLAN)
        done = connection.execute(
            update(change)
            .where(
                change.c.id.in_(change_ids), change.c.account_id == account_id, change.c.removed_at.is_(None)
            )
            .values(removed_at=utc_now(), open_key=None)
        )
        trail.write(connection, "removed", person_id, account_id, {"changes": list(change_ids)})
        return done.rowcount

    return store.transact(work)


def remove(store: Store, account_id: int, person_id: int, change_id: int) -> None:
    """Takes a change out of the plan; it stays on record and can be put back."""
    if not remove_many(store, account_id, person_id, [change_id]):
        raise NotFound("This change is not in the plan.", remedy="Look at the plan again.")


def take(
    store: Store,
    account_id: int,
    person_id: int,
    seen: Sequence[Planned],
    answer: ReadBack,
    what: Literal["read back", "edited"] = "read back",
) -> None:
    """Takes over what an edited sheet, or a value typed on the plan, asks for: all of it, or nothing when the plan moved."""
    ids = {each.change.row: each.id for each in seen}

    def work(connection: Connection) -> None:
        turns.take(connection, account_id, turns.PLAN)
        now = connection.execute(
            select(change.c.id, change.c.new_value).where(
                change.c.account_id == account_id, change.c.removed_at.is_(None)
            )
        )
        if {row.id: row.new_value for row in now} != {e.id: e.change.new_value for e in seen}:
            raise Conflict("The plan changed meanwhile.", remedy="Look at it, and do this once more.")
        for edited in answer.edited:
            before = next(each.change for each in seen if each.change.row == edited.row)
            reason = edited_reason(before.reason, before.new_value, edited.new_value)
            connection.execute(
                update(change)
                .where(change.c.id == ids[edited.row])
                .values(new_value=edited.new_value, reason=reason[:1024])
            )
        for gone in answer.unplanned:
            connection.execute(
                update(change).where(change.c.id == ids[gone.row]).values(removed_at=utc_now(), open_key=None)
            )
        former = {each.change.row: each.change for each in seen}
        detail = {
            "edited": [
                [edited.row, former[edited.row].new_value, edited.new_value, former[edited.row].reason]
                for edited in answer.edited
            ],
            "unplanned": [gone.row for gone in answer.unplanned],
        }
        trail.write(connection, what, person_id, account_id, detail)

    store.transact(work)


# --- steps: what was done to the plan, each to be undone until the next sheet --------------------------------------


@dataclass(frozen=True, slots=True)
class Step:
    """Something done to the plan: by whom, when, what (accepted, removed, read back, edited), and how many changes it touched."""

    id: int
    at: datetime
    person: str
    what: str
    changes: int


_STEPS: Final = ("accepted", "removed", "read back", "edited")


def steps(store: Store, account_id: int, most: int = 20) -> list[Step]:
    """What was done to the plan since its last sheet left, and is not undone; newest first."""
    with store.read() as connection:
        rows = _open_steps(connection, account_id)
    return [Step(row.id, row.at, row.name or "", row.what, _touched(row)) for row in rows[:most]]


def _touched(row: Any) -> int:
    detail = row.detail
    return sum(len(detail.get(name, ())) for name in ("rows", "changes", "edited", "unplanned"))


def _open_steps(connection: Connection, account_id: int) -> list[Any]:
    mine = trail_table.c.account_id == account_id
    exported = select(func.max(trail_table.c.id)).where(
        mine,
        trail_table.c.what == "exported",
        func.json_contains_path(trail_table.c.detail, "one", "$.sheet"),
    )
    last = connection.execute(exported).scalar() or 0
    undone = {
        row.detail["step"]
        for row in connection.execute(
            select(trail_table.c.detail).where(mine, trail_table.c.what == "undone in the plan")
        )
    }
    rows = connection.execute(
        select(trail_table, person_table.c.name)
        .outerjoin(person_table, person_table.c.id == trail_table.c.person_id)
        .where(mine, trail_table.c.what.in_(_STEPS), trail_table.c.id > last)
        .order_by(trail_table.c.id.desc())
    ).all()
    return [row for row in rows if row.id not in undone]


def undo_step(store: Store, account_id: int, person_id: int, step_id: int | None = None) -> int:
    """
    Undoes a step (the person's newest acceptance when none is named); how many changes that touched. What was done to them since stays
    as it is. NotFound where there is no such step any more.
    """

    def work(connection: Connection) -> int:
        turns.take(connection, account_id, turns.PLAN)
        rows = _open_steps(connection, account_id)
        wanted = (
            (row for row in rows if row.id == step_id)
            if step_id is not None
            else (row for row in rows if row.person_id == person_id and row.what == "accepted")
        )
        step = next(wanted, None)
        if step is None:
            raise NotFound(
                "This cannot be undone any more.", remedy="Look at the plan: a sheet may have left since."
            )
        done = _UNDO[step.what](connection, account_id, step.detail)
        trail.write(connection, "undone in the plan", person_id, account_id, {"step": step.id})
        return done

    return store.transact(work)


def _of(account_id: int) -> Any:
    return change.c.account_id == account_id


def _undo_accepted(connection: Connection, account_id: int, detail: Mapping[str, Any]) -> int:
    gone = connection.execute(
        update(change)
        .where(_of(account_id), change.c.row.in_(detail["rows"]), change.c.removed_at.is_(None))
        .values(removed_at=utc_now(), open_key=None)
    )
    return gone.rowcount


def _undo_removed(connection: Connection, account_id: int, detail: Mapping[str, Any]) -> int:
    return _back(connection, account_id, change.c.id.in_(detail["changes"]))


def _back(connection: Connection, account_id: int, which: Any) -> int:
    """Puts changes back, but those whose thing the plan changes in another way by now."""
    taken = set(
        connection.execute(
            select(change.c.open_key).where(_of(account_id), change.c.open_key.is_not(None))
        ).scalars()
    )
    done = 0
    for row in connection.execute(
        select(change).where(_of(account_id), which, change.c.removed_at.is_not(None))
    ).all():
        open_key = _open_key(_planned(row).change)
        if open_key not in taken:
            taken.add(open_key)
            connection.execute(
                update(change).where(change.c.id == row.id).values(removed_at=None, open_key=open_key)
            )
            done += 1
    return done


def _undo_values(connection: Connection, account_id: int, detail: Mapping[str, Any]) -> int:
    done = 0
    for row, old, new, reason in detail["edited"]:
        back = connection.execute(
            update(change)
            .where(
                _of(account_id), change.c.row == row, change.c.new_value == new, change.c.removed_at.is_(None)
            )
            .values(new_value=old, reason=reason)
        )
        done += back.rowcount
    return done + _back(connection, account_id, change.c.row.in_(detail["unplanned"]))


_UNDO: Final = {
    "accepted": _undo_accepted,
    "removed": _undo_removed,
    "read back": _undo_values,
    "edited": _undo_values,
}
