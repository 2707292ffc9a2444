"""Signs programs in by a personal token, limits them to tables, and limits their rate."""

from __future__ import annotations

import time
from typing import Final

from flask import Flask, current_app, request
from flask import Request as PageRequest
from limits import parse

from nimbus_reef.errors import NotAllowed, TooMany
from nimbus_reef.store.people import api_tokens, people
from nimbus_reef.web.current import SignedIn, services, token
from nimbus_reef.web.security import BEARER, limiter, logins, shows_token

TABLE: Final = "/export.<ending>"
"""How the address of every table that can be exported ends."""


def reads_tables(app: Flask) -> None:
    """Lets a token read the tables and nothing else, so often a minute and no more."""

    @logins.request_loader  # type: ignore[untyped-decorator]  # Flask-Login has no types
    def load(asked: PageRequest) -> SignedIn | None:
        if not shows_token():
            return None
        found = api_tokens.used(services().store, asked.headers["Authorization"].removeprefix(BEARER))
        who = people.by_id(services().store, found.person_id) if found else None
        return SignedIn(who, found) if who else None

    @app.before_request
    def is_for_tables() -> None:
        # Who asks without one is not looked up here: pages that say that the database is away have to come up.
        by = token() if shows_token() else None
        if by is None:
            return
        rule = str(request.url_rule or "")
        if request.method not in ("GET", "HEAD") or not (rule.endswith(TABLE) or request.blueprint == "api"):
            raise NotAllowed("A token reads tables, nothing else.", remedy="GET /api/tables lists their addresses.")
        most = parse(current_app.config["API_LIMIT"])
        if not limiter.limiter.hit(most, "token", str(by.id)):
            again = limiter.limiter.get_window_stats(most, "token", str(by.id)).reset_time - time.time()
            raise TooMany(
                f"This token may ask {most.amount} times in {most.get_expiry()} seconds.",
                remedy=f"Wait {max(1, round(again))} seconds and ask again.",
            )
