"""What People and the Trail say."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

from nimbus_reef.store.people.people import Listed, Role
from nimbus_reef.store.people.sessions import PersonSession
from nimbus_reef.store.people.trail import Entry

ROLES: Final[Mapping[Role, str]] = {
    Role.OWNER: "sees every brand, manages people and accounts",
    Role.ANALYST: "loads, plans and sets, in the brands given",
    Role.VIEWER: "looks at the brands given, changes nothing",
}


@dataclass(frozen=True, slots=True)
class PersonLine:
    """A person in the list."""

    id: int
    name: str
    email: str
    role: str
    brands: str
    brand_ids: frozenset[int]
    state: str
    active: bool


def lines(people: Sequence[Listed], brands: Sequence[tuple[int, str]]) -> list[PersonLine]:
    """Everybody, with what they may see and how they stand."""
    called = dict(brands)
    return [
        PersonLine(
            each.person.id,
            each.person.name,
            each.person.email,
            each.person.role.value,
            (
                "every brand"
                if each.person.role is Role.OWNER
                else ", ".join(sorted(called[one] for one in each.person.brands)) or "none"
            ),
            each.person.brands,
            _state(each),
            each.active,
        )
        for each in people
    ]


def _state(each: Listed) -> str:
    if not each.active:
        return "switched off"
    if each.invited:
        return "invited, has not been here"
    return f"last signed in {each.seen:%Y-%m-%d %H:%M} UTC" if each.seen else "has not signed in yet"


_BROWSERS: Final = {"Edg": "Edge", "OPR": "Opera", "Firefox": "Firefox", "Chrome": "Chrome", "Safari": "Safari"}
_SYSTEMS: Final = {
    "Android": "Android",
    "iPhone": "iPhone",
    "iPad": "iPad",
    "Windows": "Windows",
    "Mac OS": "macOS",
    "Linux": "Linux",
}


@dataclass(frozen=True, slots=True)
class SessionLine:
    """One of one's sessions; here: the one that asks."""

    id: int
    agent: str
    address: str
    begun: str
    seen: str
    here: bool


def session_line(each: PersonSession, *, here: bool) -> SessionLine:
    """A session as *Me* lists it: browser and system as far as the browser tells them, times in UTC."""
    told = [next((name for sign, name in known.items() if sign in each.agent), "") for known in (_BROWSERS, _SYSTEMS)]
    agent = " on ".join(name for name in told if name) or each.agent[:60] or "unknown"
    begun, seen = (f"{at:%Y-%m-%d %H:%M} UTC" for at in (each.begun_at, each.seen_at))
    return SessionLine(each.id, agent, each.address, begun, seen, here)


@dataclass(frozen=True, slots=True)
class TrailLine:
    """A line of the trail in words."""

    at: str
    person: str
    account: str
    what: str
    detail: str


_MOST_SIGNS: Final = 200


def trail_lines(entries: Sequence[Entry]) -> list[TrailLine]:
    """The trail in words, details cut short."""
    return [
        TrailLine(f"{each.at:%Y-%m-%d %H:%M:%S}", each.person or "–", each.account or "–", each.what, told(each.detail))
        for each in entries
    ]


def told(detail: Mapping[str, Any]) -> str:
    """What a line tells besides, in words."""
    said = "; ".join(f"{name.replace('_', ' ')} {_value(value)}" for name, value in detail.items())
    return said if len(said) <= _MOST_SIGNS else f"{said[: _MOST_SIGNS - 1]}…"


def _value(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(str(each) for each in value)
    return "–" if value in (None, "") else str(value)
