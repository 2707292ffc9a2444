"""How often signing in was refused lately: counted in the trail, so that every web process counts the same."""

from __future__ import annotations

from datetime import timedelta
from typing import Final

from sqlalchemy import select

from nimbus_reef.errors import TooMany
from nimbus_reef.store.people import trail
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import trail as lines

REFUSED: Final = "sign-in refused"
_ANYWHERE: Final = 5
"""
So many times the limit may be refused of one address from everywhere together, and from one place
of all addresses.
"""
_LONGEST: Final = 255


def note(store: Store, address: str, place: str) -> None:
    """A sign-in was refused: for which address, from which place."""
    detail = {"address": address[:_LONGEST], "from": place}
    trail.note(store, REFUSED, person_id=None, account_id=None, detail=detail)


def must_be_few(store: Store, address: str, place: str, most: int, within: timedelta) -> None:
    """
    TooMany where an address was refused from this place as often as may be; or either of them, with whatever other,
    several times as often. A person who mistypes locks out nobody else, even where all come through one proxy.
    """
    since = utc_now() - within
    with store.read() as connection:
        rows = connection.execute(select(lines.c.detail).where(lines.c.what == REFUSED, lines.c.at > since)).scalars()
        pairs = [(each.get("address"), each.get("from")) for each in rows]
    who = address[:_LONGEST]
    both = sum(each == (who, place) for each in pairs)
    either = max(sum(each[0] == who for each in pairs), sum(each[1] == place for each in pairs))
    if both >= most or either >= _ANYWHERE * most:
        raise TooMany("Too many tries to sign in.", remedy=f"Wait {_spoken(within)} and try again.")


def _spoken(within: timedelta) -> str:
    minutes = max(1, round(within.total_seconds() / 60))
    return "a minute" if minutes == 1 else f"{minutes} minutes"
