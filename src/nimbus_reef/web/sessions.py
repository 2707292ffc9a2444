"""
The session of a request. Its cookie holds who is signed in and little more; what else it remembers is kept with the
session's row, so that nothing is lost for its length, and a cookie is worth nothing once its session has ended.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Final, cast

import structlog
from flask import Flask, Request, Response, request, session
from flask.json.tag import TaggedJSONSerializer
from flask.sessions import SecureCookieSession, SecureCookieSessionInterface
from flask_login import login_user, logout_user

from nimbus_reef.errors import StoreAway
from nimbus_reef.store.people import sessions
from nimbus_reef.store.people.people import Person
from nimbus_reef.store.people.sessions import PersonSession
from nimbus_reef.store.record.engine import Store
from nimbus_reef.web.current import SignedIn, services

log = structlog.get_logger("web")

_TOKEN: Final = "token"  # noqa: S105  the name of a key
_IN_THE_COOKIE: Final = frozenset({_TOKEN, "_user_id", "_fresh", "_permanent", "csrf_token"})
_TEXT: Final = TaggedJSONSerializer()


class ReefSession(SecureCookieSession):
    """
    What a request knows of who asks. row: their open session, None for visitors; away: the database could not be asked
    for it; sent: what the cookie held.
    """

    row: PersonSession | None = None
    away: bool = False
    sent: dict[str, Any]


class ReefSessions(SecureCookieSessionInterface):
    """Opens and keeps sessions."""

    session_class = ReefSession

    def __init__(self, store: Store) -> None:
        self._store = store

    def open_session(self, app: Flask, request: Request) -> ReefSession | None:
        """The session that the cookie names, with what it remembers."""
        found = cast("ReefSession | None", super().open_session(app, request))
        if found is None:
            return None
        found.sent = dict(found)
        if _TOKEN not in found or request.path.startswith(f"{app.static_url_path}/"):
            return found
        try:
            found.row = sessions.of_token(self._store, found[_TOKEN])
        except StoreAway:
            found.away = True
        if found.row is not None and found.row.kept:
            found.update(_TEXT.loads(found.row.kept))
        found.modified = False
        return found

    def save_session(self, app: Flask, session: SecureCookieSession, response: Response) -> None:  # type: ignore[override]
        """Writes what changed: to the row what only the row holds, to the cookie the rest."""
        found = cast("ReefSession", session)
        by_key = dict(found)
        if found.row is not None and _TOKEN in found:
            rest = {key: value for key, value in found.items() if key not in _IN_THE_COOKIE}
            self._keep(found.row, _TEXT.dumps(rest) if rest else "")
            by_key = {key: value for key, value in found.items() if key in _IN_THE_COOKIE}
        cookie = ReefSession(by_key)
        cookie.accessed, cookie.modified = found.accessed, by_key != found.sent
        super().save_session(app, cookie, response)

    def _keep(self, row: PersonSession, kept: str) -> None:
        if kept == row.kept:
            return
        try:
            sessions.keep(self._store, row.id, kept)
        except StoreAway:
            log.warning("the database is away; what a session remembers is lost")


def here() -> ReefSession:
    """The session of this request."""
    return cast("ReefSession", session._get_current_object())  # type: ignore[attr-defined]


def begin(found: Person) -> None:
    """A session of somebody, and nothing of whoever was here before."""
    end()
    store = services().store
    token = sessions.begin(
        store, found.id, agent=request.headers.get("User-Agent", ""), address=request.remote_addr or ""
    )
    session[_TOKEN] = token
    here().row = sessions.of_token(store, token)
    login_user(SignedIn(found))


def end() -> None:
    """Ends the session, if there is one, and forgets all of it."""
    now = here()
    if now.row is not None:
        sessions.end(services().store, now.row.person_id, now.row.id)
        now.row = None
    logout_user()
    session.clear()


def loader(by_id: Callable[[Store, int], Person | None]) -> Callable[[str], SignedIn | None]:
    """Who is signed in: the person of the cookie, as long as its session is open and theirs."""

    def load(user_id: str) -> SignedIn | None:
        now = here()
        if now.away:
            raise StoreAway("The database does not answer.", remedy="Try again in a moment.")
        if now.row is None or str(now.row.person_id) != user_id:
            return None
        found = by_id(services().store, now.row.person_id)
        return SignedIn(found) if found else None

    return load
