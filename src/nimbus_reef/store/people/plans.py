"""The plan of an account: accepted changes, each open once per key, none ever lost."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from typing import Any, Final, Literal

from sqlalchemy import Connection, bindparam, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from nimbus_reef.core.changes import Action, Change, Entity, Promise, key
from nimbus_reef.core.plan import ReadBack, Taken, edited_reason, taken, whole
from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.people import trail
from nimbus_reef.store.record import turns
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import change
from nimbus_reef.store.record.models import person as person_table
from nimbus_reef.store.record.models import trail as trail_table

_PIECE: Final = 500
"""So many changes are written at once."""
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
    func.count(),
    func.coalesce(func.max(change.c.id), 0),
    func.coalesce(func.sum(func.crc32(func.concat(change.c.id, " ", change.c.new_value))), 0),
).where(change.c.account_id == bindparam("account"), change.c.removed_at.is_(None))


def generation(store: Store, account_id: int) -> tuple[int, ...]:
    """Changes whenever the plan does; one small query."""
    with store.read() as connection:
        row = connection.execute(_GENERATION, {"account": account_id}).one()
    return tuple(int(part) for part in row)


def planned(store: Store, account_id: int) -> list[Planned]:
    """The open changes, in the order of their rows."""
    with store.read() as connection:
        return _open(connection, account_id)


def _open(connection: Connection, account_id: int) -> list[Planned]:
    rows = connection.execute(
        select(change).where(change.c.account_id == account_id, change.c.removed_at.is_(None)).order_by(change.c.row)
    )
    return [_planned(row) for row in rows]


@dataclass(frozen=True, slots=True)
class Accepted:
    """
    What an acceptance did. planned: the changes that went in, in their order; told: which packages were taken, and
    which not.
    """

    planned: tuple[Planned, ...]
    told: Taken


Package = Sequence[tuple[Change, Promise]]
"""Changes that are proposed together, each with its promise: in the plan all of them, or none."""


def accept_packages(
    store: Store,
    account_id: int,
    person_id: int,
    packages: Sequence[Package],
    replacing: Collection[int] = (),
    *,
    progress: Callable[[int], None] = lambda done: None,
) -> Accepted:
    """
    Puts packages into the plan, all in one transaction: each whole, replacing what it contradicts, or not at all
    (see `core.plan.taken`).

    replacing: the rows that somebody was told will leave. Conflict where others would have to. progress: is told how
    many changes are written.
    """

    def work(connection: Connection) -> tuple[list[int], Taken]:
        turns.take(connection, account_id, turns.PLAN)
        newest = connection.execute(select(func.max(change.c.row)).where(change.c.account_id == account_id)).scalar()
        held = {each.change.row: each for each in _open(connection, account_id)}
        told = taken([each.change for each in held.values()], [[each for each, _ in package] for package in packages])
        leaving = [held[each.row].id for each in told.replaced]
        if not {each.row for each in told.replaced} <= set(replacing):
            first = told.replaced[0]
            raise Conflict(
                f"The plan holds another change of this in row {first.row}: {first.field.replace('_', ' ')} "
                f"{first.old_value} → {first.new_value}.".replace("  ", " "),
                remedy="Take it out of the plan first, or look at what accepting this replaces.",
            )
        rows: list[dict[str, Any]] = []
        for place in told.new:
            first_row = (newest or 0) + len(rows) + 1
            for each, promise in packages[place]:
                rows.append(
                    {name: getattr(each, name) for name in _FIELDS}
                    | {
                        "row": (newest or 0) + len(rows) + 1,
                        "account_id": account_id,
                        "person_id": person_id,
                        "basis": promise,
                        "open_key": _open_key(each),
                        "package": first_row if len(packages[place]) > 1 else 0,
                    }
                )
        if leaving:
            _take_out(connection, account_id, leaving)
        if not rows:
            return [], told
        for begun in range(0, len(rows), _PIECE):
            connection.execute(insert(change), rows[begun : begun + _PIECE])
            progress(min(begun + _PIECE, len(rows)))
        numbers = [row["row"] for row in rows]
        trail.write(connection, "accepted", person_id, account_id, {"rows": numbers, "replaced": leaving})
        return numbers, told

    try:
        numbers, told = store.transact(work)
    except IntegrityError as problem:
        raise Conflict("The plan changed meanwhile.", remedy="Do it once more.") from problem
    own = set(numbers)
    planned_now = tuple(each for each in planned(store, account_id) if each.change.row in own)
    return Accepted(planned_now, told)


def _take_out(connection: Connection, account_id: int, ids: Sequence[int]) -> int:
    """Takes open changes out; how many there were."""
    done = connection.execute(
        update(change)
        .where(change.c.id.in_(ids), change.c.account_id == account_id, change.c.removed_at.is_(None))
        .values(removed_at=utc_now(), open_key=None)
    )
    return done.rowcount


def remove_many(store: Store, account_id: int, person_id: int, change_ids: Sequence[int]) -> int:
    """Takes changes out of the plan, those that are still in it, each with all that it was proposed with; how many."""

    def work(connection: Connection) -> int:
        turns.take(connection, account_id, turns.PLAN)
        held = _open(connection, account_id)
        named = [each.change for each in held if each.id in set(change_ids)]
        rows = {each.row for each in whole([each.change for each in held], named)}
        ids = [each.id for each in held if each.change.row in rows]
        done = _take_out(connection, account_id, ids)
        trail.write(connection, "removed", person_id, account_id, {"changes": ids})
        return done

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
    """
    Takes over what an edited sheet, or a value typed on the plan, asks for: all of it, or nothing
    when the plan moved.
    """
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
    """
    Something done to the plan: by whom, when, what (accepted, removed, read back, edited), and how many changes it
    touched.
    """

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
        mine, trail_table.c.what == "exported", func.json_contains_path(trail_table.c.detail, "one", "$.sheet")
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
    Undoes a step (the person's newest acceptance when none is named); how many changes that touched. What was done to
    them since stays as it is. NotFound where there is no such step any more.
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
            raise NotFound("This cannot be undone any more.", remedy="Look at the plan: a sheet may have left since.")
        done = _UNDO[step.what](connection, account_id, step.detail)
        trail.write(connection, "undone in the plan", person_id, account_id, {"step": step.id})
        return done

    return store.transact(work)


def _of(account_id: int) -> Any:
    return change.c.account_id == account_id


def _undo_accepted(connection: Connection, account_id: int, detail: Mapping[str, Any]) -> int:
    """What went in leaves, and what it had replaced comes back."""
    gone = connection.execute(
        update(change)
        .where(_of(account_id), change.c.row.in_(detail["rows"]), change.c.removed_at.is_(None))
        .values(removed_at=utc_now(), open_key=None)
    )
    return gone.rowcount + _back(connection, account_id, change.c.id.in_(detail.get("replaced", ())))


def _undo_removed(connection: Connection, account_id: int, detail: Mapping[str, Any]) -> int:
    return _back(connection, account_id, change.c.id.in_(detail["changes"]))


def _back(connection: Connection, account_id: int, which: Any) -> int:
    """Puts changes back, whole packages, but those of which the plan changes anything in another way by now."""
    taken = set(
        connection.execute(select(change.c.open_key).where(_of(account_id), change.c.open_key.is_not(None))).scalars()
    )
    packages: dict[tuple[int, int], dict[str, int]] = {}
    for row in connection.execute(select(change).where(_of(account_id), which, change.c.removed_at.is_not(None))).all():
        whose = (row.package, 0 if row.package else row.id)
        packages.setdefault(whose, {})[_open_key(_planned(row).change)] = row.id
    done = 0
    for own in packages.values():
        if taken.isdisjoint(own):
            taken |= set(own)
            for open_key, number in own.items():
                connection.execute(
                    update(change).where(change.c.id == number).values(removed_at=None, open_key=open_key)
                )
            done += len(own)
    return done


def _undo_values(connection: Connection, account_id: int, detail: Mapping[str, Any]) -> int:
    done = 0
    for row, old, new, reason in detail["edited"]:
        back = connection.execute(
            update(change)
            .where(_of(account_id), change.c.row == row, change.c.new_value == new, change.c.removed_at.is_(None))
            .values(new_value=old, reason=reason)
        )
        done += back.rowcount
    return done + _back(connection, account_id, change.c.row.in_(detail["unplanned"]))


_UNDO: Final = {"accepted": _undo_accepted, "removed": _undo_removed, "read back": _undo_values, "edited": _undo_values}
