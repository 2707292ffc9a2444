"""The plan of an account: accepted changes, each open once per key, none ever lost."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Final

from sqlalchemy import Connection, bindparam, func, insert, select, update
from sqlalchemy.exc import IntegrityError

from nimbus_reef.core.changes import Change, ChangeState, Entity, key_digest, named, parents, word_of
from nimbus_reef.core.plan import ReadBack, Taken, edited_reason, taken, whole
from nimbus_reef.core.promises import Promise
from nimbus_reef.core.proposals import Package
from nimbus_reef.errors import Conflict, NotFound
from nimbus_reef.store.people import plan_steps, trail
from nimbus_reef.store.people.plan_steps import FIELDS, Did, StepKind, Touched, change_of
from nimbus_reef.store.record import locks
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import change

_PIECE: Final = 500
"""So many changes are written at once."""


@dataclass(frozen=True, slots=True)
class Planned:
    """A change in the plan, and what was promised of it."""

    id: int
    change: Change
    promise: Promise
    accepted_at: datetime
    state: ChangeState = ChangeState.PLANNED


def _planned(row: Any) -> Planned:
    return Planned(row.id, change_of(row), row.basis, row.accepted_at, ChangeState(row.state))


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
        return open_changes(connection, account_id)


def open_changes(connection: Connection, account_id: int) -> list[Planned]:
    """The same, in a transaction."""
    rows = connection.execute(
        select(change).where(change.c.account_id == account_id, change.c.removed_at.is_(None)).order_by(change.c.row)
    )
    return [_planned(row) for row in rows]


def decided(store: Store, account_id: int, entity: Entity) -> list[Planned]:
    """The changes of a kind of thing that were sent, or marked as carried out, or taken back; the newest first."""
    query = (
        select(change)
        .where(change.c.account_id == account_id, change.c.entity == entity.value)
        .where(change.c.state != ChangeState.PLANNED.value)
        .order_by(change.c.accepted_at.desc(), change.c.id.desc())
    )
    with store.read() as connection:
        return [_planned(row) for row in connection.execute(query)]


@dataclass(frozen=True, slots=True)
class Accepted:
    """
    What an acceptance did. planned: the changes that went in, in their order; taken: which packages were taken, and
    which not.
    """

    planned: tuple[Planned, ...]
    taken: Taken


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
        locks.take(connection, account_id, locks.PLAN)
        newest = connection.execute(select(func.max(change.c.row)).where(change.c.account_id == account_id)).scalar()
        by_key = {each.change.row: each for each in open_changes(connection, account_id)}
        result = taken(
            [each.change for each in by_key.values()], [[each for each, _ in package] for package in packages]
        )
        leaving = [by_key[each.row].id for each in result.replaced]
        if not {each.row for each in result.replaced} <= set(replacing):
            first = result.replaced[0]
            raise Conflict(
                f"The plan holds another change of this in row {first.row}: {first.field.replace('_', ' ')} "
                f"{first.old_value} → {first.new_value}.".replace("  ", " "),
                remedy="Remove it from the plan first, or replace it.",
            )
        rows: list[dict[str, Any]] = []
        for place in result.new:
            first_row = (newest or 0) + len(rows) + 1
            own = [each for each, _ in packages[place]]
            for each, parent, (_, promise) in zip(own, parents(own), packages[place], strict=True):
                rows.append(
                    {name: getattr(each, name) for name in FIELDS}
                    | {
                        "row": (newest or 0) + len(rows) + 1,
                        "account_id": account_id,
                        "person_id": person_id,
                        "basis": promise,
                        "open_key": key_digest(each),
                        "package": first_row if len(own) > 1 else 0,
                        "parent": 0 if parent is None else first_row + parent,
                    }
                )
        plan_steps.take_out(connection, account_id, leaving)
        if not rows:
            return [], result
        for begun in range(0, len(rows), _PIECE):
            connection.execute(insert(change), rows[begun : begun + _PIECE])
            progress(min(begun + _PIECE, len(rows)))
        numbers = [row["row"] for row in rows]
        ids = connection.execute(
            select(change.c.id).where(change.c.account_id == account_id, change.c.row.in_(numbers))
        ).scalars()
        touched = [*(Touched(each, Did.ADDED) for each in ids), *(Touched(each, Did.REPLACED) for each in leaving)]
        plan_steps.write(connection, account_id, person_id, StepKind.ACCEPTED, touched)
        added = [each for place in result.new for each, _ in packages[place]]
        detail = {**_told(added), "rows": numbers, "replaced": leaving}
        trail.write(connection, "accepted", person_id, account_id, detail)
        return numbers, result

    try:
        numbers, result = store.transact(work)
    except IntegrityError as problem:
        raise Conflict("The plan has changed since.", remedy="Do it once more.") from problem
    own = set(numbers)
    planned_now = tuple(each for each in planned(store, account_id) if each.change.row in own)
    return Accepted(planned_now, result)


_TOLD: Final = 3


def _told(changes: Sequence[Change]) -> dict[str, Any]:
    """What was done, for the trail: how many changes, and the first of them in words."""
    texts = [
        f"{word_of(each)} of {' in '.join(filter(None, named(each)))} {each.old_value} → {each.new_value}"
        for each in changes[:_TOLD]
    ]
    return {"count": len(changes), "such as" if len(changes) > _TOLD else "changed": texts}


def remove_many(store: Store, account_id: int, person_id: int, change_ids: Sequence[int]) -> int:
    """Takes changes out of the plan, those that are still in it, each with all that it was proposed with; how many."""

    def work(connection: Connection) -> int:
        locks.take(connection, account_id, locks.PLAN)
        planned = open_changes(connection, account_id)
        chosen = [each.change for each in planned if each.id in set(change_ids)]
        rows = {each.row for each in whole([each.change for each in planned], chosen)}
        ids = [each.id for each in planned if each.change.row in rows]
        done = plan_steps.take_out(connection, account_id, ids)
        plan_steps.write(connection, account_id, person_id, StepKind.REMOVED, [Touched(i, Did.TAKEN_OUT) for i in ids])
        gone = [each.change for each in planned if each.change.row in rows]
        trail.write(connection, "removed", person_id, account_id, {**_told(gone), "rows": ids})
        return done

    return store.transact(work)


def remove(store: Store, account_id: int, person_id: int, change_id: int) -> None:
    """Takes a change out of the plan; it stays on record and can be put back."""
    if not remove_many(store, account_id, person_id, [change_id]):
        raise NotFound("This change is not in the plan.", remedy="Reload the plan.")


def take(
    store: Store,
    account_id: int,
    person_id: int,
    seen: Sequence[Planned],
    answer: ReadBack,
    what: StepKind = StepKind.READ_BACK,
) -> None:
    """
    Takes over what an edited sheet, or a value typed on the plan, asks for: all of it, or nothing
    when the plan moved.
    """
    ids = {each.change.row: each.id for each in seen}

    def work(connection: Connection) -> None:
        locks.take(connection, account_id, locks.PLAN)
        now = connection.execute(
            select(change.c.id, change.c.new_value).where(
                change.c.account_id == account_id, change.c.removed_at.is_(None)
            )
        )
        if {row.id: row.new_value for row in now} != {e.id: e.change.new_value for e in seen}:
            raise Conflict("The plan has changed since.", remedy="Look at it, and do this once more.")
        former = {each.change.row: each.change for each in seen}
        plan_steps.refuse_on_their_way(connection, [ids[each.row] for each in answer.edited])
        touched = []
        for edited in answer.edited:
            before = former[edited.row]
            reason = edited_reason(before.reason, before.new_value, edited.new_value)
            connection.execute(
                update(change)
                .where(change.c.id == ids[edited.row])
                .values(new_value=edited.new_value, reason=reason[:1024], state=ChangeState.PLANNED.value)
            )
            values = (before.new_value, edited.new_value, before.reason)
            touched.append(Touched(ids[edited.row], Did.EDITED, *values))
        gone = [ids[each.row] for each in answer.unplanned]
        plan_steps.take_out(connection, account_id, gone)
        touched += [Touched(each, Did.TAKEN_OUT) for each in gone]
        plan_steps.write(connection, account_id, person_id, what, touched)
        detail = {
            "edited": [[each.row, former[each.row].new_value, each.new_value] for each in answer.edited],
            "unplanned": [each.row for each in answer.unplanned],
        }
        trail.write(connection, what.value, person_id, account_id, detail)

    store.transact(work)
