"""Reports that marketplaces are asked for: each ordered once, and what became of it."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from enum import StrEnum
from typing import Any, Final

from sqlalchemy import delete, func, insert, select, update

from nimbus_reef.core.windows import Window
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import report_order as table

MOST_TRIES: Final = 5
_KEPT: Final = timedelta(days=120)


class OrderState(StrEnum):
    """How far an order is."""

    OPEN = "open"
    LOADED = "loaded"
    EMPTY = "empty"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class ReportOrder:
    """
    A report of some days. key: by which it is ordered; handle: by which the marketplace knows it, once it does; as_of:
    the marketplace's day then; tries: how often it failed; said: what went wrong.
    """

    id: int
    account_id: int
    kind: str
    window: Window
    key: str
    handle: str | None
    state: OrderState
    as_of: date
    tries: int
    said: str
    at: datetime


def _order(row: Any) -> ReportOrder:
    return ReportOrder(
        row.id,
        row.account_id,
        row.kind,
        Window(row.first_day, row.last_day),
        row.key,
        row.handle,
        OrderState(row.state),
        row.as_of,
        row.tries,
        row.said,
        row.at,
    )


def add(store: Store, account_id: int, as_of: date, wanted: Sequence[tuple[str, Window]]) -> int:
    """Notes reports to be ordered, but those that are open or were loaded as of the same day; how many are new."""

    def work(connection: Any) -> int:
        known = connection.execute(
            select(table.c.kind, table.c.first_day, table.c.last_day).where(
                table.c.account_id == account_id,
                (table.c.state == OrderState.OPEN.value)
                | ((table.c.as_of == as_of) & (table.c.state != OrderState.FAILED.value)),
            )
        )
        there = {(row.kind, row.first_day, row.last_day) for row in known}
        rows = [
            {
                "account_id": account_id,
                "kind": kind,
                "first_day": window.first,
                "last_day": window.last,
                "key": uuid.uuid4().hex,
                "as_of": as_of,
            }
            for kind, window in wanted
            if (kind, window.first, window.last) not in there
        ]
        if rows:
            connection.execute(insert(table), rows)
        return len(rows)

    return store.transact(work)


def waiting(store: Store, account_id: int) -> list[ReportOrder]:
    """Open orders of an account, in their order."""
    return _orders(store, table.c.account_id == account_id, table.c.state == OrderState.OPEN.value)


def of_account(store: Store, account_id: int, since: date) -> list[ReportOrder]:
    """All orders of an account as of a day and later."""
    return _orders(store, table.c.account_id == account_id, table.c.as_of >= since)


def newest(store: Store, account_id: int) -> list[ReportOrder]:
    """The newest order of each kind of report."""
    last = select(func.max(table.c.id)).where(table.c.account_id == account_id).group_by(table.c.kind)
    return _orders(store, table.c.id.in_(last))


def _orders(store: Store, *which: Any) -> list[ReportOrder]:
    with store.read() as connection:
        return [_order(row) for row in connection.execute(select(table).where(*which).order_by(table.c.id))]


def accounts_waiting(store: Store) -> list[int]:
    """The accounts that have open orders."""
    with store.read() as connection:
        return list(
            connection.execute(
                select(table.c.account_id).where(table.c.state == OrderState.OPEN.value).distinct()
            ).scalars()
        )


def note_handle(store: Store, order_id: int, handle: str | None) -> None:
    """Notes by what the marketplace knows an order; None where it is gone there and has to be ordered anew."""
    values: dict[str, Any] = {"handle": handle} if handle is not None else {"handle": None, "key": uuid.uuid4().hex}
    store.execute(update(table).where(table.c.id == order_id).values(**values))


def note_end(store: Store, order_id: int, state: OrderState, said: str = "") -> None:
    """Notes what became of an order."""
    store.execute(update(table).where(table.c.id == order_id).values(state=state.value, said=said[:512]))


def note_try(store: Store, order: ReportOrder, said: str) -> OrderState:
    """Notes that an order failed: it is tried again, a few times."""
    state = OrderState.FAILED if order.tries + 1 >= MOST_TRIES else OrderState.OPEN
    values = {"tries": order.tries + 1, "said": said[:512], "state": state.value}
    store.execute(update(table).where(table.c.id == order.id).values(**values))
    return state


def again(store: Store, account_id: int) -> int:
    """Tries what failed once more; how many."""
    done = store.execute(
        update(table)
        .where(table.c.account_id == account_id, table.c.state == OrderState.FAILED.value)
        .values(state=OrderState.OPEN.value, tries=0, handle=None)
    )
    return int(done.rowcount)


def sweep(store: Store) -> None:
    """Forgets what was ordered long ago."""
    store.execute(delete(table).where(table.c.at < utc_now() - _KEPT, table.c.state != OrderState.OPEN.value))
