"""Wires the web application together: parts, security, areas, and errors at one border."""

from __future__ import annotations

import gc
import hashlib
import secrets
from collections.abc import Callable
from datetime import timedelta
from functools import cache
from pathlib import Path
from typing import Any, Final
from urllib.parse import urlencode

import structlog
from flask import Flask, g, jsonify, redirect, render_template, request, url_for
from flask_compress import Compress
from flask_login import current_user, login_user
from flask_wtf.csrf import CSRFError
from werkzeug.exceptions import HTTPException
from werkzeug.routing import IntegerConverter, Map
from werkzeug.wrappers import Response

from nimbus_reef import __version__
from nimbus_reef.analysis.tables import OPERATORS
from nimbus_reef.config import Config
from nimbus_reef.core import glossary
from nimbus_reef.core.evidence import meaning
from nimbus_reef.errors import (
    BadFile,
    BadInput,
    Conflict,
    DiskFull,
    MarketplaceAway,
    MarketplaceRefused,
    NotAllowed,
    NotFound,
    ReefError,
    StoreAway,
    TooMany,
    is_full_disk,
)
from nimbus_reef.jobs import helper_process
from nimbus_reef.jobs.queue import Queue
from nimbus_reef.store.people.people import Person
from nimbus_reef.store.reading.disk_cache import DiskCache
from nimbus_reef.store.reading.facts import TARGET_SOURCES, Facts
from nimbus_reef.store.record import snapshot_reads
from nimbus_reef.store.record.engine import Store
from nimbus_reef.web import security
from nimbus_reef.web.api.routes import api
from nimbus_reef.web.api_tokens import reads_tables
from nimbus_reef.web.areas import AREAS, BY_NAME
from nimbus_reef.web.bar.routes import bar
from nimbus_reef.web.current import (
    SECOND_ANSWER,
    Services,
    SignedIn,
    current_scope,
    figures,
    here_path,
    my_accounts,
    services,
    usual_scope,
)
from nimbus_reef.web.exports.routes import exports
from nimbus_reef.web.frame import Frame
from nimbus_reef.web.health import health
from nimbus_reef.web.kit.judging import NotYet, waiting
from nimbus_reef.web.kit.lacking import NoFigures, described
from nimbus_reef.web.labels.routes import labels
from nimbus_reef.web.marketplace.routes import marketplace
from nimbus_reef.web.notes.routes import notes
from nimbus_reef.web.params import Scope
from nimbus_reef.web.people.routes import people
from nimbus_reef.web.proxies import NamedProxies
from nimbus_reef.web.rules.routes import rules
from nimbus_reef.web.saved.routes import saved
from nimbus_reef.web.sending.routes import sending
from nimbus_reef.web.sessions import ReefSessions
from nimbus_reef.web.settings.routes import settings

log = structlog.get_logger("web")

Answer = tuple[str | Response, int, dict[str, str]]

_STATUS = {
    BadInput: 400,
    BadFile: 422,
    NotFound: 404,
    NotAllowed: 403,
    Conflict: 409,
    StoreAway: 503,
    DiskFull: 507,
    TooMany: 429,
    MarketplaceRefused: 422,
    MarketplaceAway: 502,
}


def make_app(config: Config, store: Store, queue: Queue, *, secret_key: str, testing: bool = False) -> Flask:
    """The web application on a store and a queue."""
    app = Flask("nimbus_reef.web", template_folder="templates", static_folder="static")
    app.config.update(
        SECRET_KEY=secret_key,
        MAX_CONTENT_LENGTH=config.max_upload_bytes,
        SESSION_COOKIE_SECURE=config.secure_cookies,
        SESSION_COOKIE_HTTPONLY=True,
        SESSION_COOKIE_SAMESITE="Lax",
        PERMANENT_SESSION_LIFETIME=timedelta(days=14),
        SIGN_IN_LIMIT=config.sign_in_limit,
        API_LIMIT=config.api_limit,
        RATELIMIT_STORAGE_URI=config.redis_url or "memory://",
        RATELIMIT_IN_MEMORY_FALLBACK_ENABLED=bool(config.redis_url),
        WTF_CSRF_TIME_LIMIT=None,
        COMPRESS_MIMETYPES=["text/html", "text/css", "text/javascript", "application/javascript", "image/svg+xml"],
        SEND_FILE_MAX_AGE_DEFAULT=timedelta(days=30),
        TESTING=testing,
    )
    app.url_map.converters["int"] = _Id
    # Two slashes in an address are no other way to say one: the redirect would name the host that the request names.
    app.url_map.merge_slashes = False
    app.jinja_env.trim_blocks = app.jinja_env.lstrip_blocks = True
    app.extensions["reef_tables"] = {area.name: (area.title, area.tables) for area in AREAS}
    app.extensions["reef"] = Services(
        config,
        store,
        Facts(
            store,
            disk_cache=DiskCache(config.judged, config.judged_bytes),
            helper=lambda asked: helper_process.ask(config.judged, asked),
        ),
        queue,
    )
    app.wsgi_app = NamedProxies(app.wsgi_app, config.proxies)  # type: ignore[method-assign]
    app.session_interface = ReefSessions(store)
    _one_moment(app)
    security.guard(app)
    reads_tables(app)
    app.before_request(_keep_filter)
    Compress(app)
    for each in (
        *(area.blueprint for area in AREAS),
        people,
        settings,
        exports,
        saved,
        notes,
        labels,
        rules,
        bar,
        sending,
        marketplace,
        api,
    ):
        app.register_blueprint(each)
    app.context_processor(_everywhere)
    app.jinja_env.globals["means"] = meaning
    app.jinja_env.globals["operators"] = OPERATORS
    app.jinja_env.globals["here_path"] = here_path
    app.jinja_env.globals["asset"] = _asset_addresses(app)
    app.add_url_rule("/", "start", _start)
    app.add_url_rule("/glossary", "glossary", lambda: render_template("glossary.html", groups=glossary.groups()))
    app.add_url_rule("/ready", "ready", _ready)
    app.add_url_rule("/alive", "alive", lambda: ("alive", {"Content-Type": "text/plain"}))
    if config.metrics_token:
        from nimbus_reef.web import metrics

        metrics.measure(app, config.metrics_token, store, app.extensions["reef"].facts)
    _map_errors(app)
    return app


def page_for(app: Flask, person: Person, address: str) -> str:
    """A page as somebody sees it, without a browser; raises what the page would answer with."""
    with app.test_request_context(address):
        login_user(SignedIn(person))
        answer = app.dispatch_request()
        return str(answer if isinstance(answer, str) else app.make_response(answer).get_data(as_text=True))


class _Id(IntegerConverter):
    """A whole number in an address: no larger than an id can be; what is larger leads nowhere."""

    def __init__(self, url_map: Map, *args: Any, **named: Any) -> None:
        super().__init__(url_map, *args, **{"max": 2**32 - 1, **named})


def compile_templates(app: Flask) -> None:
    """For a process that serves: else the first person to ask for each page waits while its template is compiled."""
    for name in app.jinja_env.list_templates():
        app.jinja_env.get_template(name)


def quieten_collector() -> None:
    """
    For a process that serves: what is there after starting stays, so it is not searched for
    garbage again, and what pages leave behind is collected less often. Pages make many small
    objects and no cycles; a collection in the middle of one took longer than the page.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(100_000, 50, 100)


def _one_moment(app: Flask) -> None:
    """A page reads one consistent version; who writes reads one until then, and what was written after it."""

    @app.before_request
    def begin() -> None:
        g.moment = snapshot_reads.begin(until_written=request.method not in ("GET", "HEAD"))

    @app.teardown_request
    def end(_: BaseException | None) -> None:
        if "moment" in g:
            snapshot_reads.end(g.pop("moment"))


def _keep_filter() -> Response | None:
    """A filter that was just typed stands in the address like any other, for links to keep."""
    return redirect(current_scope().link(request.path)) if request.args.get("compared") else None


def _asset_addresses(app: Flask) -> Callable[[str], str]:
    """Addresses of built files that change with their contents, so browsers may keep them."""

    @cache
    def address(name: str) -> str:
        digest = hashlib.sha256((Path(app.static_folder or "") / name).read_bytes()).hexdigest()[:10]
        return url_for("static", filename=name, v=digest)

    return address


def _ready() -> tuple[str, int, dict[str, str]]:
    found = health(services().config, services().store)
    return "\n".join(found.lines) + "\n", 200 if found.ready else 503, {"Content-Type": "text/plain"}


def _start() -> Response:
    if not my_accounts():
        return redirect(url_for("settings.index"))
    scope = current_scope()
    return redirect(scope.elsewhere(url_for(BY_NAME[_begins_with(scope)].home)))


def _begins_with(scope: Scope) -> str:
    """The area that opens first: where there is one brand, the one that its reports have most to say in."""
    if len(my_accounts()) > 1:
        return "pulse"
    if not scope.newest:
        return "intake"
    by_key = services().facts.spans(scope.account.id)
    return "targeting" if by_key.keys() & set(TARGET_SOURCES) else "pulse"


def _everywhere() -> dict[str, Any]:
    """What the frame of every page shows; nothing of it where nobody is signed in."""
    if g.get("store_away"):
        return {"version": __version__, "signed_in": False}
    base = {"version": __version__, "signed_in": current_user.is_authenticated}
    if not current_user.is_authenticated or request.endpoint in security.OPEN_ENDPOINTS:
        return base
    return base | {"person": current_user.person, "f": Frame()}


_FILES: Final = ("export", "workbook")


def _has_frame() -> bool:
    """
    True where the page can stand in its frame: somebody is signed in and has an account. A scope that
    cannot be understood gives way to the usual one.
    """
    outside = request.endpoint in security.OPEN_ENDPOINTS
    if g.get("store_away") or not current_user.is_authenticated or outside:
        return False
    g.erring = True
    try:
        current_scope()
    except ReefError:
        try:
            usual_scope()
        except ReefError:
            return False
    return True


def _map_errors(app: Flask) -> None:
    """Every error becomes a page of one layout, or JSON for a program: what happened, where, what to do."""

    def page(status: int, message: str, remedy: str) -> Answer:
        if security.asks_for_json():
            return jsonify(message=message, remedy=remedy), status, {}
        # htmx swaps only answers of 2xx; the header tells the page's script to show this one.
        template = "error_framed.html" if status < 500 and _has_frame() else "error.html"
        return (
            render_template(template, status=status, message=message, remedy=remedy),
            status,
            {"X-Reef-Error": "yes"},
        )

    @app.errorhandler(NoFigures)
    def empty(problem: NoFigures) -> Answer:
        if request.method != "GET" or (request.endpoint or "").endswith(_FILES):
            return page(404, problem.message, problem.remedy)
        area = BY_NAME[(request.endpoint or "").partition(".")[0]]
        return (
            render_template(
                "lacking.html",
                said=described(problem.lack, figures()),
                area=area.title,
                head=[f"{area.name}/_head.html", "_area_head.html"] if area.views else "",
                against=problem.days == "against",
                view=(request.view_args or {}).get("name", ""),
                views=area.heads,
            ),
            200,
            {},
        )

    @app.errorhandler(NotYet)
    def judging(problem: NotYet) -> str:
        area = BY_NAME[(request.endpoint or "").partition(".")[0]]
        query = urlencode([*request.args.items(multi=True), SECOND_ANSWER])
        return render_template(
            "judging.html",
            said=waiting(problem.rows, figures()),
            area=area.title,
            head=[f"{area.name}/_head.html", "_area_head.html"] if area.views else "",
            view=(request.view_args or {}).get("name", ""),
            views=area.heads,
            second=f"{here_path()}?{query}",
        )

    @app.errorhandler(ReefError)
    def known(problem: ReefError) -> Answer:
        status = next((code for kind, code in _STATUS.items() if isinstance(problem, kind)), 400)
        where = f"{problem.place}: " if problem.place else ""
        g.store_away = isinstance(problem, StoreAway)
        return page(status, f"{where}{problem.message}", problem.remedy)

    @app.errorhandler(OSError)
    def unwritable(problem: OSError) -> Answer:
        return known(DiskFull()) if is_full_disk(problem) else unknown(problem)

    @app.errorhandler(CSRFError)
    def forged(_: CSRFError) -> Response | Answer:
        if not current_user.is_authenticated and request.endpoint not in security.OPEN_ENDPOINTS:
            return security.to_sign_in()
        return page(400, "The page has expired.", "Reload it and try again.")

    @app.errorhandler(HTTPException)
    def http(problem: HTTPException) -> Answer:
        words = {
            404: ("There is no such page.", "Use a link in the application."),
            405: ("This address cannot be opened.", "Go back and use the button."),
            413: ("The file is too large.", "Download the report in shorter ranges of days."),
            429: ("Too many tries.", "Wait a minute and try again."),
        }
        message, remedy = words.get(problem.code or 500, (problem.description or "Something went wrong.", ""))
        return page(problem.code or 500, message, remedy)

    @app.errorhandler(Exception)
    def unknown(problem: Exception) -> Answer:
        if app.testing:
            raise problem
        fault = secrets.token_hex(4)
        log.error("request failed", fault=fault, path=request.path, exc_info=problem)
        return page(
            500, f"The application failed (error {fault}).", "Try again. The log has the details under that number."
        )
