"""People: who may sign in, in which role, and whose brands they see."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from functools import cache
from typing import Any

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlalchemy import ColumnElement, Connection, delete, func, insert, select, update

from nimbus_reef.errors import BadInput, Conflict, NotAllowed, NotFound
from nimbus_reef.store.people import one_time_links, sessions, trail
from nimbus_reef.store.people.one_time_links import INVITATION_LASTS, Purpose
from nimbus_reef.store.record import locks
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import brand, person, person_brand
from nimbus_reef.store.record.models import trail as trail_table

_HASHER = PasswordHasher()
SHORTEST_PASSWORD = 10


class Role(StrEnum):
    """Owners see every brand and manage people; analysts load and plan; viewers look."""

    OWNER = "owner"
    ANALYST = "analyst"
    VIEWER = "viewer"


@dataclass(frozen=True, slots=True)
class Person:
    """
    Somebody who may sign in. brands: ids given to them; owners need none. sends: they may send changes to a
    marketplace, where their role lets them write.
    """

    id: int
    email: str
    name: str
    role: Role
    brands: frozenset[int]
    sends: bool = False

    def sees(self, brand_id: int) -> bool:
        """Whether this brand is theirs to see: the one place where that is decided."""
        return self.role is Role.OWNER or brand_id in self.brands

    @property
    def writes(self) -> bool:
        """Whether they may load, accept and read back."""
        return self.role is not Role.VIEWER

    @property
    def may_send(self) -> bool:
        """Whether they may send changes to a marketplace: a right of its own."""
        return self.writes and self.sends

    @property
    def manages(self) -> bool:
        """Whether people and accounts are theirs to manage."""
        return self.role is Role.OWNER


@dataclass(frozen=True, slots=True)
class Listed:
    """A person as owners see them. invited: they have not taken up their invitation; seen: when they signed in last."""

    person: Person
    active: bool
    invited: bool
    seen: datetime | None


_QUERY = select(person, person_brand.c.brand_id).outerjoin(person_brand, person_brand.c.person_id == person.c.id)


def _people(rows: Sequence[Any]) -> dict[int, tuple[Person, Any]]:
    """Each person of rows of `_QUERY`, with a row of theirs."""
    brands: dict[int, set[int]] = {}
    first: dict[int, Any] = {}
    for row in rows:
        first.setdefault(row.id, row)
        brands.setdefault(row.id, set()).update([row.brand_id] if row.brand_id is not None else [])
    return {
        id_: (Person(id_, row.email, row.name, Role(row.role), frozenset(brands[id_]), bool(row.sends)), row)
        for id_, row in first.items()
    }


def _find(connection: Connection, *which: ColumnElement[bool]) -> tuple[Person, str] | None:
    """The person who may sign in and fits, with the hash of their password."""
    found = _people(connection.execute(_QUERY.where(person.c.active, *which)).all())
    return next(((who, row.password_hash) for who, row in found.values()), None)


def by_id(store: Store, person_id: int) -> Person | None:
    """The person, None when gone or switched off."""
    with store.read() as connection:
        found = _find(connection, person.c.id == person_id)
    return found[0] if found else None


def by_address(store: Store, email: str) -> Listed | None:
    """Whoever has an address, None where nobody does."""
    address = email.strip().lower()
    return next((each for each in everybody(store) if each.person.email == address), None)


def anybody(store: Store) -> bool:
    """Whether anybody is known yet."""
    with store.read() as connection:
        return connection.execute(select(person.c.id).limit(1)).first() is not None


def everybody(store: Store) -> list[Listed]:
    """All people, by name."""
    signed = (
        select(trail_table.c.person_id, func.max(trail_table.c.at).label("seen"))
        .where(trail_table.c.what == "signed in")
        .group_by(trail_table.c.person_id)
    )
    with store.read() as connection:
        found = _people(connection.execute(_QUERY.order_by(person.c.name, person.c.id)).all())
        seen = {row.person_id: row.seen for row in connection.execute(signed)}
    return [Listed(who, row.active, not row.password_hash, seen.get(who.id)) for who, row in found.values()]


@cache
def _nobody() -> str:
    """A hash to check against where there is no person, so that both take as long."""
    return _HASHER.hash("nobody signs in with this")


def signed_in(store: Store, email: str, password: str) -> Person | None:
    """The person whose address and password these are; as slow for an unknown address."""
    with store.read() as connection:
        found = _find(connection, person.c.email == email.strip().lower())
    right = _is_password(found[1] if found else "", password)
    return found[0] if found and right else None


def _is_password(kept: str, password: str) -> bool:
    try:
        return _HASHER.verify(kept or _nobody(), password) and bool(kept)
    except (VerifyMismatchError, InvalidHashError):
        return False


def address_of(email: str) -> str:
    """An address as it is kept; BadInput for what is none."""
    address = email.strip().lower()
    if "@" not in address.strip("@") or any(sign.isspace() for sign in address):
        raise BadInput(f"“{email}” is not an e-mail address.", remedy="Enter an address such as ann@example.com.")
    return address


def must_be_long(password: str) -> None:
    """BadInput for a password that is too short."""
    if len(password) < SHORTEST_PASSWORD:
        raise BadInput(f"The password has {len(password)} characters.", remedy=f"Use at least {SHORTEST_PASSWORD}.")


def _insert(
    connection: Connection, *, email: str, name: str, password_hash: str, role: Role, brands: Collection[int]
) -> int:
    address = address_of(email)
    if connection.execute(select(person.c.id).where(person.c.email == address)).first():
        raise Conflict(f"A person with the address {address} already exists.", remedy="Change their role under People.")
    cursor = connection.execute(
        insert(person).values(
            email=address,
            name=name.strip() or address,
            password_hash=password_hash,
            role=role.value,
            sends=role is Role.OWNER,
        )
    )
    person_id = int(cursor.inserted_primary_key[0])  # type: ignore[index]
    _give_brands(connection, person_id, brands)
    return person_id


def _give_brands(connection: Connection, person_id: int, brands: Collection[int]) -> None:
    connection.execute(delete(person_brand).where(person_brand.c.person_id == person_id))
    known = set(connection.execute(select(brand.c.id)).scalars())
    if unknown := set(brands) - known:
        raise BadInput(f"There is no brand {min(unknown)}.", remedy="Choose from the list.")
    for each in sorted(brands):
        connection.execute(insert(person_brand).values(person_id=person_id, brand_id=each))


def brand_ids(store: Store, names: Sequence[str]) -> list[int]:
    """The ids of brands; BadInput for one that is not there."""
    with store.read() as connection:
        known = {row.name: row.id for row in connection.execute(select(brand.c.id, brand.c.name))}
    for name in names:
        if name not in known:
            raise BadInput(f"There is no brand “{name}”.", remedy="Add its account first.")
    return [known[name] for name in names]


def brands(store: Store) -> list[tuple[int, str]]:
    """All brands, by name."""
    with store.read() as connection:
        return [(row.id, row.name) for row in connection.execute(select(brand).order_by(brand.c.name))]


def add(store: Store, *, email: str, name: str, password: str, role: Role, brand_names: tuple[str, ...] = ()) -> Person:
    """Makes a person; Conflict where the address is taken, BadInput for what cannot be."""
    must_be_long(password)
    ids = brand_ids(store, brand_names)

    def work(connection: Connection) -> int:
        return _insert(connection, email=email, name=name, password_hash=_HASHER.hash(password), role=role, brands=ids)

    return _now_there(store, store.transact(work))


def _now_there(store: Store, person_id: int) -> Person:
    result = by_id(store, person_id)
    assert result is not None
    return result


# --- the first start -----------------------------------------------------------------


def set_up_link(store: Store) -> str | None:
    """The token with which an empty installation is set up, a new one each time; None once there is anybody."""

    def work(connection: Connection) -> str | None:
        if connection.execute(select(person.c.id).limit(1)).first():
            return None
        return one_time_links.make(connection, Purpose.SET_UP)

    return store.transact(work)


def may_set_up(store: Store, token: str) -> None:
    """NotFound unless this token sets up an installation that has nobody yet."""
    one_time_links.works(store, Purpose.SET_UP, token)
    if anybody(store):
        raise NotFound("This installation already has an owner.", remedy="Sign in, or ask an owner to invite you.")


def set_up(store: Store, token: str, *, email: str, name: str, password: str) -> Person:
    """The first owner; the link is used up. NotFound where it does not work, or there is somebody already."""
    must_be_long(password)

    def work(connection: Connection) -> int:
        link = one_time_links.working(connection, Purpose.SET_UP, token)
        if connection.execute(select(person.c.id).limit(1)).first():
            raise NotFound("This installation already has an owner.", remedy="Sign in, or ask an owner to invite you.")
        value = _insert(
            connection, email=email, name=name, password_hash=_HASHER.hash(password), role=Role.OWNER, brands=()
        )
        one_time_links.use(connection, link)
        trail.write(connection, "set up", value, None, {})
        return value

    return _now_there(store, store.transact(work))


# --- inviting and managing -------------------------------------------------------------


def invite(
    store: Store, by: int | None, *, email: str, name: str, role: Role, brands: Collection[int]
) -> tuple[int, str]:
    """A person who cannot sign in yet, and the token of the link by which they choose a password."""

    def work(connection: Connection) -> tuple[int, str]:
        value = _insert(connection, email=email, name=name, password_hash="", role=role, brands=brands)
        token = one_time_links.make(connection, Purpose.INVITATION, value, INVITATION_LASTS)
        trail.write(connection, "invited", by, None, {"person": email, "role": role.value})
        return value, token

    return store.transact(work)


def new_link(store: Store, by: int | None, person_id: int) -> str:
    """Another link for somebody, to choose a (new) password by; the one before stops working."""

    def work(connection: Connection) -> str:
        who = _known(connection, person_id)
        trail.write(connection, "link made", by, None, {"person": who.email})
        return one_time_links.make(connection, Purpose.INVITATION, person_id, INVITATION_LASTS)

    return store.transact(work)


def invited(store: Store, token: str) -> Person:
    """Whose link this is; NotFound where it does not work any more."""
    found = one_time_links.works(store, Purpose.INVITATION, token)
    who = by_id(store, found.person_id or 0)
    if who is None:
        raise NotFound("This person is deactivated.", remedy="Ask an owner.")
    return who


def take_up(store: Store, token: str, *, name: str, password: str) -> Person:
    """The invited person chooses a name and a password; the link is used up, other sessions end."""
    must_be_long(password)

    def work(connection: Connection) -> int:
        link = one_time_links.working(connection, Purpose.INVITATION, token)
        person_id = link.person_id or 0
        _known(connection, person_id)
        one_time_links.use(connection, link)
        _new_password(connection, person_id, password)
        if name.strip():
            connection.execute(update(person).where(person.c.id == person_id).values(name=name.strip()))
        trail.write(connection, "invitation taken up", person_id, None, {})
        return person_id

    result = by_id(store, store.transact(work))
    if result is None:
        raise NotFound("This person is deactivated.", remedy="Ask an owner.")
    return result


def _known(connection: Connection, person_id: int) -> Any:
    row = connection.execute(select(person).where(person.c.id == person_id).with_for_update()).first()
    if row is None:
        raise NotFound("This person does not exist.", remedy="Reload the list.")
    return row


def _must_leave_an_owner(connection: Connection, person_id: int) -> None:
    """There is always an owner who can sign in; they go in turn, so that the last two do not go at once."""
    locks.take(connection, locks.NO_ACCOUNT, locks.OWNERS)
    others = connection.execute(
        select(person.c.id).where(
            person.c.role == Role.OWNER.value, person.c.active, person.c.password_hash != "", person.c.id != person_id
        )
    ).all()
    if not others:
        raise NotAllowed("This is the last owner.", remedy="Make another person an owner first.")


def set_rights(
    store: Store, by: int | None, person_id: int, role: Role, brands: Collection[int], *, sends: bool | None = None
) -> None:
    """
    What somebody may do, whose brands they see, and whether they may send (as before where that is left out);
    NotAllowed for the last owner.
    """

    def work(connection: Connection) -> None:
        who = _known(connection, person_id)
        if who.role == Role.OWNER.value and role is not Role.OWNER:
            _must_leave_an_owner(connection, person_id)
        may_send = bool(who.sends) if sends is None else sends
        connection.execute(update(person).where(person.c.id == person_id).values(role=role.value, sends=may_send))
        _give_brands(connection, person_id, () if role is Role.OWNER else brands)
        detail = {"person": who.email, "role": role.value, "brands": sorted(brands), "sends": may_send}
        trail.write(connection, "rights set", by, None, detail)

    store.transact(work)


def switch(store: Store, by: int | None, person_id: int, *, active: bool) -> None:
    """Lets somebody in, or out: their sessions end. NotAllowed for the last owner."""

    def work(connection: Connection) -> None:
        who = _known(connection, person_id)
        if not active and who.role == Role.OWNER.value:
            _must_leave_an_owner(connection, person_id)
        connection.execute(update(person).where(person.c.id == person_id).values(active=active))
        sessions.end_all(connection, person_id)
        trail.write(connection, "switched on" if active else "switched off", by, None, {"person": who.email})

    store.transact(work)


def rename(store: Store, person_id: int, name: str) -> None:
    """What somebody is called."""
    if not name.strip():
        raise BadInput("A name is needed.", remedy="Enter the name others know.")
    store.execute(update(person).where(person.c.id == person_id).values(name=name.strip()))


def change_password(store: Store, person_id: int, *, old: str, new: str) -> Person:
    """Another password; all sessions begun before end. BadInput where the old one is not right."""
    must_be_long(new)

    def work(connection: Connection) -> None:
        if not _is_password(_known(connection, person_id).password_hash, old):
            raise BadInput("Wrong password.", remedy="Enter your current password again.")
        _new_password(connection, person_id, new)
        trail.write(connection, "password changed", person_id, None, {})

    store.transact(work)
    return _now_there(store, person_id)


def set_password(store: Store, email: str, new: str) -> None:
    """Another password for somebody, by whoever runs the installation; nothing else of them changes."""
    must_be_long(new)

    def work(connection: Connection) -> None:
        found = connection.execute(select(person.c.id).where(person.c.email == address_of(email))).scalar()
        if found is None:
            raise NotFound(f"Nobody has the address {email}.", remedy="See `reef user list`.")
        _new_password(connection, found, new)
        trail.write(connection, "password changed", found, None, {"by": "command line"})

    store.transact(work)


def _new_password(connection: Connection, person_id: int, password: str) -> None:
    connection.execute(update(person).where(person.c.id == person_id).values(password_hash=_HASHER.hash(password)))
    sessions.end_all(connection, person_id)


def end_sessions(store: Store, person_id: int) -> None:
    """Signs somebody out everywhere."""

    def work(connection: Connection) -> None:
        sessions.end_all(connection, person_id)
        trail.write(connection, "signed out everywhere", person_id, None, {})

    store.transact(work)
