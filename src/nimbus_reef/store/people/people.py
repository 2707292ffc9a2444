"""People: who may sign in, in which role, and whose brands they see."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlalchemy import ColumnElement, Connection, insert, select, update

from nimbus_reef.errors import BadInput
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import brand, person, person_brand

_HASHER = PasswordHasher()
SHORTEST_PASSWORD = 10


class Role(StrEnum):
    """Owners see every brand and manage people; analysts load and plan; viewers look."""

    OWNER = "owner"
    ANALYST = "analyst"
    VIEWER = "viewer"


@dataclass(frozen=True, slots=True)
class Person:
    """Somebody who may sign in. brands: ids given to them; owners need none."""

    id: int
    email: str
    name: str
    role: Role
    brands: frozenset[int]

    def sees(self, brand_id: int) -> bool:
        """Whether this brand is theirs to see: the one place where that is decided."""
        return self.role is Role.OWNER or brand_id in self.brands

    @property
    def writes(self) -> bool:
        """Whether they may load, accept and read back."""
        return self.role is not Role.VIEWER


_QUERY = select(person, person_brand.c.brand_id).outerjoin(
    person_brand, person_brand.c.person_id == person.c.id
)


def _find(connection: Connection, *which: ColumnElement[bool]) -> tuple[Person, str] | None:
    """The person who may sign in and fits, with the hash of their password."""
    rows = connection.execute(_QUERY.where(person.c.active, *which)).all()
    if not rows:
        return None
    first, brands = rows[0], frozenset(row.brand_id for row in rows if row.brand_id is not None)
    return Person(first.id, first.email, first.name, Role(first.role), brands), first.password_hash


def by_id(store: Store, person_id: int) -> Person | None:
    """The person, None when gone or switched off."""
    with store.read() as connection:
        found = _find(connection, person.c.id == person_id)
    return found[0] if found else None


@cache
def _nobody() -> str:
    """A hash to check against where there is no person, so that both take as long."""
    return _HASHER.hash("nobody signs in with this")


def signed_in(store: Store, email: str, password: str) -> Person | None:
    """The person whose address and password these are; as slow for an unknown address."""
    with store.read() as connection:
        found = _find(connection, person.c.email == email.strip().lower())
    try:
        _HASHER.verify(found[1] if found else _nobody(), password)
    except (VerifyMismatchError, InvalidHashError):
        return None
    return found[0] if found else None


def add(
    store: Store, *, email: str, name: str, password: str, role: Role, brand_names: tuple[str, ...] = ()
) -> Person:
    """Makes a person, or gives an existing one this name, password, role and these brands."""
    address = email.strip().lower()
    if "@" not in address:
        raise BadInput(f"“{email}” is not an e-mail address.", remedy="Write it like ann@example.com.")
    if len(password) < SHORTEST_PASSWORD:
        raise BadInput(
            f"The password has {len(password)} characters.",
            remedy=f"Use at least {SHORTEST_PASSWORD}.",
        )

    def work(connection: Connection) -> int:
        values = {"name": name, "password_hash": _HASHER.hash(password), "role": role.value}
        found = connection.execute(select(person.c.id).where(person.c.email == address)).scalar()
        if found is None:
            made = connection.execute(insert(person).values(email=address, **values))
            found = int(made.inserted_primary_key[0])  # type: ignore[index]
        else:
            connection.execute(update(person).where(person.c.id == found).values(**values))
        connection.execute(person_brand.delete().where(person_brand.c.person_id == found))
        for name_ in brand_names:
            brand_id = connection.execute(select(brand.c.id).where(brand.c.name == name_)).scalar()
            if brand_id is None:
                raise BadInput(f"There is no brand “{name_}”.", remedy="Load its account first.")
            connection.execute(insert(person_brand).values(person_id=found, brand_id=brand_id))
        return int(found)

    made = by_id(store, store.transact(work))
    assert made is not None
    return made
