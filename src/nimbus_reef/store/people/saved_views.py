"""Views of a table that a person keeps under a name: an address without its account."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import delete, or_, select
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.errors import BadInput
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import person, saved_view

LONGEST_NAME = 64
_LONGEST_QUERY = 2048


@dataclass(frozen=True, slots=True)
class SavedView:
    """
    query: the part of the address after `?`, without the account. by: who shares it, empty for one's own; shared:
    others see it.
    """

    id: int
    name: str
    query: str
    by: str = ""
    shared: bool = False


def views(store: Store, person_id: int, place: str, brand_id: int) -> list[SavedView]:
    """What a person keeps of one table, and what others share with a brand's people, by name."""
    with store.read() as connection:
        rows = connection.execute(
            select(saved_view, person.c.name.label("whose"))
            .join(person, person.c.id == saved_view.c.person_id)
            .where(
                or_(saved_view.c.person_id == person_id, saved_view.c.brand_id == brand_id), saved_view.c.place == place
            )
            .order_by(saved_view.c.name, saved_view.c.id)
        )
        return [
            SavedView(
                row.id, row.name, row.query, "" if row.person_id == person_id else row.whose, row.brand_id is not None
            )
            for row in rows
        ]


def save(store: Store, person_id: int, place: str, name: str, query: str, brand_id: int | None = None) -> None:
    """Keeps a view; one of the same name gives way. brand_id: the brand whose people see it besides."""
    name = name.strip()
    if not name or len(name) > LONGEST_NAME:
        raise BadInput("A view needs a name of up to 64 characters.", remedy="Enter a shorter name.")
    if len(query) > _LONGEST_QUERY:
        raise BadInput("This view has too many filters to be kept.", remedy="Remove some of them.")
    kept = insert(saved_view).values(person_id=person_id, place=place, name=name, query=query, brand_id=brand_id)
    store.execute(kept.on_duplicate_key_update(query=kept.inserted.query, brand_id=kept.inserted.brand_id))


def forget(store: Store, person_id: int, view_id: int) -> bool:
    """Drops one of the person's own views; False when it is none of them."""
    done = store.execute(delete(saved_view).where(saved_view.c.id == view_id, saved_view.c.person_id == person_id))
    return bool(done.rowcount)
