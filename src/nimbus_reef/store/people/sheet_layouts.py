"""Layouts of one's own for the change sheet, kept per account."""

from __future__ import annotations

from typing import Any, Final

from sqlalchemy import Connection, delete, select
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.core.sheet_layouts import LayoutColumn, SheetLayout, problem
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import trail
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import sheet_layout

MOST: Final = 20


def of_account(store: Store, account_id: int) -> list[SheetLayout]:
    """The layouts of an account, by name."""
    query = select(sheet_layout).where(sheet_layout.c.account_id == account_id).order_by(sheet_layout.c.name)
    with store.read() as connection:
        return [_layout(row) for row in connection.execute(query)]


def layout(store: Store, account_id: int, layout_id: int) -> SheetLayout:
    """One of them; NotFound where there is none of that number."""
    found = next((each for each in of_account(store, account_id) if each.id == layout_id), None)
    if found is None:
        raise NotFound("This layout does not exist.", remedy="Choose one on the plan.")
    return found


def _layout(row: Any) -> SheetLayout:
    content = row.content
    columns = tuple(LayoutColumn(each["header"], each["of"], each["text"]) for each in content["columns"])
    return SheetLayout(row.name, columns, content["words"], content["apart"], row.id)


def save(store: Store, account_id: int, person_id: int, wanted: SheetLayout) -> None:
    """Keeps a layout; one of the same name gives way. BadInput for one that cannot stand."""
    wrong = problem(wanted)
    if wrong:
        raise BadInput(wrong, remedy="Change it and save again.")
    if len(of_account(store, account_id)) >= MOST and not wanted.id:
        raise BadInput(f"An account has up to {MOST} layouts.", remedy="Remove one first.")
    columns = [{"header": each.header, "of": each.of, "text": each.text} for each in wanted.columns]
    content = {"columns": columns, "words": dict(wanted.words), "apart": wanted.apart}

    def work(connection: Connection) -> None:
        if wanted.id:
            connection.execute(delete(sheet_layout).where(*_own(account_id, wanted.id)))
        kept = insert(sheet_layout).values(account_id=account_id, name=wanted.name, content=content)
        connection.execute(kept.on_duplicate_key_update(content=content))
        trail.write(connection, "layout saved", person_id, account_id, {"layout": wanted.name})

    store.transact(work)


def remove(store: Store, account_id: int, person_id: int, gone: SheetLayout) -> None:
    """Takes a layout away."""

    def work(connection: Connection) -> None:
        connection.execute(delete(sheet_layout).where(*_own(account_id, gone.id)))
        trail.write(connection, "layout removed", person_id, account_id, {"layout": gone.name})

    store.transact(work)


def _own(account_id: int, layout_id: int) -> tuple[Any, ...]:
    return sheet_layout.c.id == layout_id, sheet_layout.c.account_id == account_id
