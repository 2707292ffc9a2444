"""What People and the Trail say."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

from nimbus_reef.core.checks import CHECKS
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.api_tokens import ApiToken
from nimbus_reef.store.people.people import Listed, Role
from nimbus_reef.store.people.sessions import PersonSession
from nimbus_reef.store.people.trail import Entry
from nimbus_reef.web.kit.opened import OPENED

ROLES: Final[Mapping[Role, str]] = {
    Role.OWNER: "sees every brand, manages people and accounts",
    Role.ANALYST: "loads reports, plans and changes settings of the chosen brands",
    Role.VIEWER: "sees the chosen brands, changes nothing",
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
    sends: bool
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
            each.person.sends,
            _state(each),
            each.active,
        )
        for each in people
    ]


ORDERS: Final[Mapping[str, str]] = {"name": "who", "role": "role and brands", "state": "status"}
"""What people are sorted by, and the heads that do it."""


def narrowed(found: Sequence[PersonLine], query: str, sort: str) -> list[PersonLine]:
    """The people whose name, address, role, brands or status holds every word, in order; `-key` is descending."""
    key, words = sort.removeprefix("-"), query.lower().split()
    if sort and key not in ORDERS:
        raise BadInput(f"People cannot be sorted by “{key}”.", remedy=f"Use {', '.join(ORDERS)}.")
    texts = {each.id: " ".join((each.name, each.email, each.role, each.brands, each.state)).lower() for each in found}
    kept = [each for each in found if all(word in texts[each.id] for word in words)]
    return sorted(kept, key=lambda each: getattr(each, key).lower(), reverse=sort.startswith("-")) if sort else kept


def _state(each: Listed) -> str:
    if not each.active:
        return "switched off"
    if each.invited:
        return "invited, never signed in"
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
    names = [next((name for sign, name in known.items() if sign in each.agent), "") for known in (_BROWSERS, _SYSTEMS)]
    agent = " on ".join(name for name in names if name) or each.agent[:60] or "unknown"
    begun, seen = (f"{at:%Y-%m-%d %H:%M} UTC" for at in (each.begun_at, each.seen_at))
    return SessionLine(each.id, agent, each.address, begun, seen, here)


TOKEN_DAYS: Final = (30, 90, 365)


@dataclass(frozen=True, slots=True)
class TokenLine:
    """A token by which a program of one's own reads tables."""

    id: int
    name: str
    reads: str
    ends: str
    used: str


def token_lines(tokens: Sequence[ApiToken], accounts: Sequence[Account]) -> list[TokenLine]:
    """One's tokens as *Me* lists them; days in UTC."""
    called = {each.id: f"{each.brand}, {each.country}" for each in accounts}
    return [
        TokenLine(
            each.id,
            each.name,
            called.get(each.account_id, "no account any more") if each.account_id else "all your accounts",
            f"{each.ends_at:%Y-%m-%d}",
            f"{each.used_at:%Y-%m-%d %H:%M} UTC" if each.used_at else "never",
        )
        for each in tokens
    ]


@dataclass(frozen=True, slots=True)
class TrailLine:
    """A line of the trail in words."""

    at: str
    person: str
    account: str
    what: str
    detail: str
    href: str


def _opens(entry: Entry, url: Callable[..., str]) -> str:
    """Where what a line tells of is open: a note's thing, the plan; empty of the rest."""
    if not entry.account:
        return ""
    if entry.what == "noted" and entry.detail.get("view") in OPENED:
        endpoint, key = OPENED[entry.detail["view"]]
        row = {key: entry.detail["row"]} if key else {}
        return url(endpoint, name=entry.detail["view"], account=entry.account, **row)
    return url("plan.index", account=entry.account) if entry.what in _IN_PLAN else ""


_IN_PLAN: Final = frozenset({"accepted", "removed", "undone in the plan", "carried out"})
_MOST_SIGNS: Final = 200


def trail_lines(entries: Sequence[Entry], url: Callable[..., str]) -> list[TrailLine]:
    """The trail in words, details cut short. url: as `flask.url_for`."""
    return [
        TrailLine(
            f"{each.at:%Y-%m-%d %H:%M:%S}",
            each.person or "–",
            each.account or "–",
            _FORMER.get(each.what, each.what),
            details(each.detail),
            _opens(each, url),
        )
        for each in entries
    ]


_FORMER: Final = {"put away": "finding hidden", "brought back": "finding shown again"}
"""Words that older lines were written with."""
_NUMBERS: Final = frozenset({"rows", "replaced", "row", "note", "view"})
"""What points at rows by their numbers: left out where the same is told in words."""


def details(detail: Mapping[str, Any]) -> str:
    """What a line tells besides, in words."""
    in_words = {"such as", "changed", "on"} & set(detail)
    told = {name: value for name, value in detail.items() if not (in_words and name in _NUMBERS)}
    if told.get("check") in CHECKS:
        told["check"] = CHECKS[told["check"]].title
    text = "; ".join(f"{name.replace('_', ' ')} {_value(value)}" for name, value in told.items())
    return text if len(text) <= _MOST_SIGNS else f"{text[: _MOST_SIGNS - 1]}…"


def _value(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(str(each) for each in value)
    return "–" if value in (None, "") else str(value)
