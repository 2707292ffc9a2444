"""The marketplace's HTTP interface; what each address takes and answers is told in openapi.json."""

from __future__ import annotations

import hmac
import json
import secrets
import socket
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import UTC, date, datetime, timedelta
from functools import wraps
from importlib.resources import files
from typing import Any, Final

from flask import Flask, Response, g, jsonify, request
from flask_limiter import Limiter
from werkzeug.exceptions import HTTPException

from nimbus_reef.market.accounts import MarketAccounts
from nimbus_reef.market.faults import Fault, Faults
from nimbus_reef.market.record import Client, Conflicting
from nimbus_reef.sim import account
from nimbus_reef.sim.settings import FIELDS
from nimbus_reef.sim.trade import MATURES_IN

TOKEN_SECONDS: Final = 3_600
MOST_ROWS: Final = 10_000
_PER_SECOND: Final = "50 per second"
_COLUMNS: Final = ("row", "action", "entity", "campaign", "field", "new_value")
_MAY_BE: Final = ("ad_group", "target", "match_type", "sku", "placement", "days", "from_hour", "to_hour", "old_value")


@dataclass(frozen=True, slots=True)
class ServicePace:
    """
    How slow the service is, in seconds: rows of a change set are worked on for `rows` each, at most `change_set`; a
    report is created, after half of `report` it is pending, then ready, and gone after `kept`.
    """

    row: float = 0.01
    change_set: float = 3.0
    report: float = 1.0
    kept: float = 86_400.0


class Refusal(Exception):
    """An answer that says no."""

    def __init__(self, status: int, code: str, message: str) -> None:
        super().__init__(message)
        self.status, self.code, self.message = status, code, message


@dataclass
class Tokens:
    """Who is signed in: tokens, whose they are and until when. They are forgotten when the service stops."""

    known: dict[str, tuple[str, float]] = field(default_factory=dict)

    def give(self, client: str, now: float) -> str:
        """A new one."""
        token = secrets.token_urlsafe(24)
        self.known[token] = (client, now + TOKEN_SECONDS)
        return token

    def client(self, token: str, now: float) -> str | None:
        """Whose it is; None where it is unknown or too old."""
        client, until = self.known.get(token, ("", 0.0))
        return client if now < until else None


def make_app(marketplace: MarketAccounts, faults: Faults | None = None, pace: ServicePace = ServicePace()) -> Flask:
    """The service. faults: what goes wrong on purpose."""
    app = Flask("nimbus_reef.market", static_folder=None)
    app.json.sort_keys = False  # type: ignore[attr-defined]
    faults = faults or Faults()
    service = _Service(marketplace, faults, pace)
    app.before_request(service.before)
    app.after_request(service.after)
    Limiter(
        lambda: request.headers.get("Authorization", request.remote_addr or ""),
        app=app,
        default_limits=[_PER_SECOND],
        headers_enabled=True,
        storage_uri="memory://",
    )
    app.register_error_handler(Refusal, _told)
    app.register_error_handler(
        HTTPException,
        lambda problem: _told(
            Refusal(problem.code or 500, problem.name.lower().replace(" ", "_"), problem.description or "")
        ),
    )
    for method, path, name in (
        ("POST", "/v1/token", "token"),
        ("GET", "/v1/account", "account"),
        ("POST", "/v1/change-sets", "send"),
        ("GET", "/v1/change-sets/<int:number>", "change_set"),
        ("POST", "/v1/held", "held"),
        ("GET", "/v1/changes", "changes"),
        ("POST", "/v1/reports", "order"),
        ("GET", "/v1/reports/<int:number>", "ordered"),
        ("GET", "/v1/reports/<int:number>/file", "file"),
        ("POST", "/v1/world/days", "pass_days"),
        ("PUT", "/v1/world/faults", "set_faults"),
        ("GET", "/v1/openapi.json", "openapi"),
    ):
        app.add_url_rule(path, name, getattr(service, name), methods=[method])
    return app


def _told(problem: Refusal) -> Response:
    answer = jsonify({"code": problem.code, "message": problem.message})
    answer.status_code = problem.status
    if problem.status in (429, 503):
        answer.headers.setdefault("Retry-After", "1")
    return answer


def _signed_in(view: Callable[..., Response]) -> Callable[..., Response]:
    @wraps(view)
    def checked(self: _Service, **path: Any) -> Response:
        g.client = self.signed_in()
        return view(self, **path)

    return checked


class _Service:
    """The views, over one marketplace."""

    def __init__(self, marketplace: MarketAccounts, faults: Faults, pace: ServicePace) -> None:
        self.marketplace, self.faults, self.pace = marketplace, faults, pace
        self.tokens = Tokens()

    def now(self) -> float:
        """The service's clock, in seconds since 1970."""
        return time.time() + self.faults.skew

    def before(self) -> Response | None:
        """What goes wrong before a request is looked at."""
        if request.path.startswith("/v1/world"):
            return None
        g.fault = self.faults.strike(request.path)
        if g.fault is Fault.SLOW:
            time.sleep(self.faults.slow)
        if g.fault is Fault.THROTTLE:
            raise Refusal(429, "too_many", "Too many requests. Try again later.")
        if g.fault is Fault.ERROR:
            raise Refusal(503, "away", "The service is not available. Try again later.")
        if g.fault is Fault.DROP_BEFORE:
            _hang_up()
        return None

    def after(self, answer: Response) -> Response:
        """What goes wrong once all is done; and the service's clock, with every answer."""
        if g.get("fault") is Fault.DROP_AFTER:
            _hang_up()
        answer.headers["Date"] = datetime.fromtimestamp(self.now(), UTC).strftime("%a, %d %b %Y %H:%M:%S GMT")
        return answer

    def signed_in(self) -> Client:
        """Whose request it is."""
        scheme, _, token = request.headers.get("Authorization", "").partition(" ")
        key = self.tokens.client(token, self.now()) if scheme == "Bearer" else None
        found = next((each for each in self.marketplace.record.clients() if each.key == key), None)
        if found is None:
            raise Refusal(401, "sign_in", "Sign in first: the token is missing or too old.")
        return found

    def token(self) -> Response:
        """A token for a client and its secret."""
        asked = _body()
        for each in self.marketplace.record.clients():
            if each.key == asked.get("client_id") and hmac.compare_digest(
                each.secret, str(asked.get("client_secret", ""))
            ):
                token = self.tokens.give(each.key, self.now())
                return jsonify({"access_token": token, "token_type": "Bearer", "expires_in": TOKEN_SECONDS})
        raise Refusal(401, "wrong_secret", "The client or its secret is wrong.")

    @_signed_in
    def account(self) -> Response:
        """Whose account it is, which days there are reports of, and what day it is."""
        own = self.marketplace.account(g.client)
        spec = own.made.world.spec
        return jsonify(
            {
                "account": spec.key,
                "brand": spec.name,
                "marketplace": spec.marketplace,
                "country": spec.country,
                "currency": spec.currency,
                "first_day": own.first_day.isoformat(),
                "today": own.today.isoformat(),
                "maturing_days": MATURES_IN,
                "kinds": list(account.KINDS),
                "simulated": True,
            }
        )

    @_signed_in
    def send(self) -> Response:
        """Takes a change set."""
        key, rows = _idempotency_key(), [_row(each) for each in _list("rows")]
        if not 0 < len(rows) <= MOST_ROWS:
            raise Refusal(400, "rows", f"A change set has 1 to {MOST_ROWS} rows.")
        busy = self.faults.some(len(rows)) if self.faults.strike(request.path, (Fault.PARTIAL,)) else []
        try:
            event, _ = self.marketplace.send(g.client, key, rows, busy, self.now())
        except Conflicting:
            raise Refusal(409, "key_used", "This key was used for another change set.") from None
        answer = self._results(event.seq)
        answer.status_code = 202
        return answer

    @_signed_in
    def change_set(self, number: int) -> Response:
        """How far a change set is, and what was said to its rows so far."""
        return self._results(number)

    def _results(self, number: int) -> Response:
        found = self.marketplace.change_set(g.client, number)
        if found is None:
            raise Refusal(404, "not_found", f"There is no change set {number}.")
        event, answers = found
        took = min(self.pace.change_set, self.pace.row * len(answers))
        part = 1.0 if took <= 0 else min(1.0, (self.now() - event.at) / took)
        # A clock that was set back must not leave a set unfinished for ever.
        known = len(answers) if part >= 1 or part < 0 else int(part * len(answers))
        rows = [
            {"row": row["row"], "status": said.status, "code": said.code, "message": said.message}
            if place < known
            else {"row": row["row"], "status": "pending", "code": "", "message": ""}
            for place, (row, said) in enumerate(zip(event.body["rows"], answers, strict=True))
        ]
        today = self.marketplace.account(g.client).today
        state = "done" if known == len(answers) else "working" if known else "accepted"
        return jsonify({"id": event.seq, "state": state, "as_of": today.isoformat(), "rows": rows})

    @_signed_in
    def held(self) -> Response:
        """What the fields of rows stand at now."""
        rows = [_row(each) for each in _list("rows")]
        values = self.marketplace.held(g.client, rows)
        return jsonify({"rows": [{"row": r["row"], "value": v} for r, v in zip(rows, values, strict=True)]})

    @_signed_in
    def changes(self) -> Response:
        """Changes made since a moment."""
        since = request.args.get("since", "")
        own = self.marketplace.account(g.client)
        return jsonify({"changes": [each for each in own.changes if each["at"] >= since]})

    @_signed_in
    def order(self) -> Response:
        """Orders a report."""
        asked, key = _body(), _idempotency_key()
        kind, first, last = asked.get("kind"), _day(asked, "from"), _day(asked, "to")
        if kind not in account.KINDS:
            raise Refusal(400, "kind", f"“{kind}” is none of {', '.join(account.KINDS)}.")
        if first > last:
            raise Refusal(400, "days", f"{first} is after {last}.")
        try:
            ordered = self.marketplace.record.order(g.client.key, key, str(kind), first, last, self.now())
        except Conflicting:
            raise Refusal(409, "key_used", "This key was used for another report.") from None
        answer = jsonify(self._state(ordered.id))
        answer.status_code = 202
        return answer

    def _state(self, number: int) -> dict[str, Any]:
        ordered = self.marketplace.record.ordered(g.client.key, number)
        if ordered is None:
            raise Refusal(404, "not_found", f"There is no report {number}.")
        age, took = self.now() - ordered.at, self.pace.report
        state = "ready" if age >= took or age < 0 else "created" if age < took / 2 else "pending"
        return {
            "id": number,
            "state": "gone" if age > self.pace.kept else state,
            "kind": ordered.kind,
            "from": ordered.first.isoformat(),
            "to": ordered.last.isoformat(),
        }

    @_signed_in
    def ordered(self, number: int) -> Response:
        """How far a report is."""
        return jsonify(self._state(number))

    @_signed_in
    def file(self, number: int) -> Response:
        """A report's file."""
        state = self._state(number)
        if state["state"] != "ready":
            status = 410 if state["state"] == "gone" else 409
            raise Refusal(status, state["state"], f"The report is {state['state']}.")
        first, last = date.fromisoformat(state["from"]), date.fromisoformat(state["to"])
        rows, today = self.marketplace.report(g.client, state["kind"], first, last)
        if len(rows) and self.faults.strike(request.path, (Fault.DUPLICATE,)):
            rows = rows[[*range(len(rows)), *self.faults.some(len(rows))]]
        answer = Response(rows.write_csv() if rows.width else "", mimetype="text/csv")
        answer.headers["X-As-Of"] = today.isoformat()
        return answer

    @_signed_in
    def pass_days(self) -> Response:
        """Lets simulated days pass."""
        days = _body().get("days")
        if not isinstance(days, int) or not 1 <= days <= account.MOST_DAYS:
            raise Refusal(400, "days", f"Say how many days, 1 to {account.MOST_DAYS}.")
        today = self.marketplace.pass_days(g.client, days, self.now())
        return jsonify({"today": today.isoformat(), "newest_day": (today - timedelta(days=1)).isoformat()})

    @_signed_in
    def set_faults(self) -> Response:
        """Has other things go wrong from now on."""
        try:
            self.faults.set(_body())
        except (ValueError, TypeError):
            raise Refusal(400, "faults", f"Faults are {', '.join(Fault)}.") from None
        return jsonify({"chances": {fault.value: chance for fault, chance in self.faults.chances.items()}})

    def openapi(self) -> Response:
        """The interface, described."""
        return jsonify(description())


def description() -> dict[str, Any]:
    """The interface as OpenAPI 3.1."""
    found: dict[str, Any] = json.loads(files("nimbus_reef.market").joinpath("openapi.json").read_text("utf-8"))
    return found


def _hang_up() -> None:
    """Lets the connection fall: whoever asked does not learn what became of it."""
    own = request.environ.get("gunicorn.socket") or request.environ.get("werkzeug.socket")
    if own is not None:
        own.shutdown(socket.SHUT_RDWR)
    raise Refusal(500, "gone", "The connection fell.")


def _body() -> Mapping[str, Any]:
    found = request.get_json(silent=True)
    if not isinstance(found, dict):
        raise Refusal(400, "body", "Send one JSON object.")
    return found


def _list(name: str) -> list[Any]:
    found = _body().get(name)
    if not isinstance(found, list):
        raise Refusal(400, name, f"“{name}” is a list.")
    return found


def _idempotency_key() -> str:
    key = request.headers.get("Idempotency-Key", "")
    if not 8 <= len(key) <= 128:
        raise Refusal(400, "key", "Send an Idempotency-Key of 8 to 128 characters.")
    return key


def _row(given: Any) -> dict[str, str]:
    if not isinstance(given, dict) or any(not isinstance(value, str | int) for value in given.values()):
        raise Refusal(400, "rows", "A row is an object of texts.")
    row = {name: str(given.get(name, "")) for name in (*_COLUMNS, *_MAY_BE)}
    if not row["row"] or row["entity"] not in FIELDS:
        raise Refusal(400, "rows", f"A row has a number and one of {', '.join(FIELDS)}.")
    return row


def _day(asked: Mapping[str, Any], name: str) -> date:
    try:
        return date.fromisoformat(str(asked.get(name, "")))
    except ValueError:
        raise Refusal(400, name, f"“{name}” is a day like 2026-11-30.") from None
