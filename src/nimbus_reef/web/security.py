"""Who gets in and what a browser may do: sign-in, CSRF, throttling, headers."""

from __future__ import annotations

import re
from datetime import timedelta
from typing import Any, Final
from urllib.parse import urlsplit

from flask import Flask, Response, current_app, jsonify, redirect, request, url_for
from flask_limiter import Limiter
from flask_limiter.util import get_remote_address
from flask_login import LoginManager, current_user
from flask_wtf import CSRFProtect
from limits import parse
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.config import Config
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import people
from nimbus_reef.web import sessions
from nimbus_reef.web.current import account_of, services

csrf = CSRFProtect()
limiter = Limiter(get_remote_address, headers_enabled=False)
logins = LoginManager()

OPEN_ENDPOINTS = frozenset({"people.sign_in", "people.set_up", "people.take_up", "static", "alive", "ready", "metrics"})
"""What answers without a sign-in, and stands outside the frame."""
BEARER: Final = "Bearer "
_SMALL_BYTES: Final = 64 * 1024
_CONTROL: Final = re.compile("[\x00-\x08\x0b\x0c\x0e-\x1e\x7f\ud800-\udfff]")
"""No text holds one; \\x1f stands between two names in forms of our own."""
_HERE: Final = frozenset({"localhost", "127.0.0.1", "::1"})
_POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "img-src 'self' data:",
        "font-src 'self'",
        "connect-src 'self'",
        "form-action 'self'",
        "base-uri 'none'",
        "frame-ancestors 'none'",
    )
)
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
    Where somebody signs in, to come back to the page that they were on: a part of a page, or a form, has no address to
    come back to. What was sent by somebody who is not signed in any more is said not to be done.
    """
    asks, in_page = request.method in ("GET", "HEAD"), "HX-Request" in request.headers
    here = request.headers.get("HX-Current-URL", "") if in_page else request.url if asks else request.referrer
    page = urlsplit(here or "")
    target = f"{page.path}?{page.query}" if page.query else page.path
    address = url_for("people.sign_in", next=target, lost=None if asks else "yes")
    return Response(status=401, headers={"HX-Redirect": address}) if in_page else redirect(address)


def shows_token() -> bool:
    """Whether the request shows a token, be it one that works or not."""
    return request.headers.get("Authorization", "").startswith(BEARER)


def asks_for_json() -> bool:
    """Whether a program asks, which reads JSON rather than pages."""
    return shows_token() or request.path.startswith("/api/")


def to_token() -> AnyResponse:
    """What a program is told that shows no token, or one that does not work any more."""
    answer = jsonify(message="This address needs a token that works.", remedy="Make one on the page Me.")
    answer.status_code, answer.headers["WWW-Authenticate"] = 401, BEARER.strip()
    return answer


def own_names(config: Config) -> frozenset[str]:
    """The names and addresses that the server answers to, besides the address that a connection came in by."""
    return _HERE | config.hosts | {config.host}


def _host_name(host: str) -> str:
    """The name in a Host header, without its port; empty where there is none."""
    try:
        return urlsplit(f"//{host}").hostname or ""
    except ValueError:
        return ""


def _listening_address() -> str:
    """The address of this machine that the connection came in by; empty where the server does not tell."""
    connection = request.environ.get("gunicorn.socket")
    return str(connection.getsockname()[0]) if connection is not None else ""


def guard(app: Flask) -> None:
    """Puts every route behind sign-in but the few that are open, and headers on every answer."""

    @app.before_request
    def is_opened_by_a_name_of_its_own() -> None:
        # Redirects and invitations name the host that the request names: it has to be one of this server's.
        name = _host_name(request.host)
        if not name or name not in {*own_names(services().config), _listening_address()}:
            raise BadInput(
                f"This server is not called “{name[:80]}”.",
                remedy="Open it by its own name. Whoever runs it can add names with REEF_HOSTS.",
            )

    @app.before_request
    def bodies_are_small_but_for_who_brings_files() -> Any:
        # Before anything reads it: a form of somebody who may not load is never a file.
        if not request.content_length and "chunked" not in request.headers.get("Transfer-Encoding", ""):
            return None
        signed_in = current_user.is_authenticated
        if signed_in and current_user.person.writes:
            return None
        request.max_content_length = _SMALL_BYTES
        if (request.content_length or _SMALL_BYTES + 1) <= _SMALL_BYTES:
            return None
        refused = not signed_in and request.endpoint not in OPEN_ENDPOINTS
        response = to_sign_in() if refused else current_app.make_response(("Too large.\n", 413))
        response.headers["Connection"] = "close"
        return response

    @app.before_request
    def texts_are_texts() -> None:
        sent = [text for each in (request.args, request.form) for pair in each.items(multi=True) for text in pair]
        sent += [file.filename or "" for _, file in request.files.items(multi=True)]
        if any(_CONTROL.search(text) for text in sent):
            raise BadInput("The text contains a character that cannot be saved.", remedy="Type it again.")

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
        refused = None if current_user.is_authenticated else to_token() if asks_for_json() else to_sign_in()
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
