"""Who gets in and what a browser may do: sign-in, CSRF, throttling, headers."""

from __future__ import annotations

from datetime import timedelta
from typing import Any, Final
from urllib.parse import urlsplit

from flask import Flask, Response, current_app, redirect, request, url_for
from flask_limiter import Limiter
from flask_limiter.util import get_remote_address
from flask_login import LoginManager, current_user
from flask_wtf import CSRFProtect
from limits import parse
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.store.people import people
from nimbus_reef.web import sessions
from nimbus_reef.web.parts import account_of

csrf = CSRFProtect()
limiter = Limiter(get_remote_address, headers_enabled=False)
logins = LoginManager()

OPEN_ENDPOINTS = frozenset(
    {"people.sign_in", "people.set_up", "people.take_up", "static", "alive", "ready", "metrics"}
)
"""What answers without a sign-in, and stands outside the frame."""
_VISITORS_BYTES: Final = 64 * 1024
_POLICY = "; ".join(
    (
        "default-src 'none'", "script-src 'self'", "style-src 'self'", "img-src 'self' data:",
        "font-src 'self'", "connect-src 'self'", "form-action 'self'", "base-uri 'none'",
        "frame-ancestors 'none'",
    )
)  # fmt: skip
_HEADERS = {
    "Content-Security-Policy": _POLICY,
    "X-Content-Type-Options": "nosniff",
    "X-Frame-Options": "DENY",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Permissions-Policy": "camera=(), microphone=(), geolocation=()",
}

_TLS_ONLY: Final = "max-age=31536000; includeSubDomains"
"""Said where TLS ends in front of the application: browsers that heard it ask for nothing else for a year."""


def sign_in_limit() -> str:
    """How often one address may try to sign in."""
    limit: str = current_app.config["SIGN_IN_LIMIT"]
    return limit


def most_tries() -> tuple[int, timedelta]:
    """The same as a number, and the time that it is counted over."""
    found = parse(sign_in_limit())
    return found.amount, timedelta(seconds=found.get_expiry())


def to_sign_in() -> AnyResponse:
    """
    Where somebody signs in, to come back to the page that they were on: a part of a page, or a form, has no address to come back to.
    What was sent by somebody who is not signed in any more is said not to be done.
    """
    asks, in_page = request.method in ("GET", "HEAD"), "HX-Request" in request.headers
    here = request.headers.get("HX-Current-URL", "") if in_page else request.url if asks else request.referrer
    page = urlsplit(here or "")
    target = f"{page.path}?{page.query}" if page.query else page.path
    address = url_for("people.sign_in", next=target, lost=None if asks else "yes")
    return Response(status=401, headers={"HX-Redirect": address}) if in_page else redirect(address)


def guard(app: Flask) -> None:
    """Puts every route behind sign-in but the few that are open, and headers on every answer."""

    @app.before_request
    def bodies_of_visitors_are_small() -> Any:
        # Before anything reads it: a form of somebody who is not signed in is a sign-in, never a file.
        if not request.content_length and "chunked" not in request.headers.get("Transfer-Encoding", ""):
            return None
        if current_user.is_authenticated:
            return None
        request.max_content_length = _VISITORS_BYTES
        if (request.content_length or _VISITORS_BYTES + 1) <= _VISITORS_BYTES:
            return None
        refused = request.endpoint not in OPEN_ENDPOINTS
        response = to_sign_in() if refused else current_app.make_response(("Too large.\n", 413))
        response.headers["Connection"] = "close"
        return response

    csrf.init_app(app)
    limiter.init_app(app)
    # Templates get the person from the frame; Flask-Login's own way there would ask the database
    # even on the page that says that it is away.
    logins.init_app(app, add_context_processor=False)

    logins.user_loader(sessions.loader(people.by_id))

    @app.before_request
    def must_be_signed_in() -> Any:
        if request.endpoint is None or request.endpoint in OPEN_ENDPOINTS:
            return None
        refused = None if current_user.is_authenticated else to_sign_in()
        if refused is None and request.values.get("account"):
            # Whatever the route then does: an account that is named is one of this person's.
            account_of(request.values["account"])
        return refused

    @app.after_request
    def add_headers(response: Response) -> Response:
        for name, value in _HEADERS.items():
            response.headers.setdefault(name, value)
        if current_app.config["SESSION_COOKIE_SECURE"]:
            response.headers.setdefault("Strict-Transport-Security", _TLS_ONLY)
        if request.endpoint != "static":
            response.headers.setdefault("Cache-Control", "no-store")
        return response
