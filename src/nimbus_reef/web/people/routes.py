"""People: setting up, signing in and out, inviting and managing, oneself, and the trail of what was done."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, flash, redirect, render_template, request, url_for
from flask import Response as PageResponse
from flask_login import current_user
from werkzeug.wrappers import Response

from nimbus_reef.errors import BadInput, Conflict, NotFound, ReefError
from nimbus_reef.formats.tables import csv_lines
from nimbus_reef.formats.typed import whole
from nimbus_reef.jobs import demo_brands
from nimbus_reef.store.people import api_tokens, refused_sign_ins, trail
from nimbus_reef.store.people import people as store_people
from nimbus_reef.store.people import sessions as store_sessions
from nimbus_reef.store.people.people import Role
from nimbus_reef.store.people.trail import Asked
from nimbus_reef.store.record import loads, workers
from nimbus_reef.web import new_account, sessions
from nimbus_reef.web.current import account_of, inside, must_manage, my_accounts, person, services
from nimbus_reef.web.kit.account_forms import AccountForm
from nimbus_reef.web.people import pages
from nimbus_reef.web.people.forms import (
    InviteForm,
    OneselfForm,
    OwnerForm,
    RightsForm,
    SignInForm,
    TokenForm,
    TrailForm,
)
from nimbus_reef.web.security import limiter, most_tries, sign_in_limit

people = Blueprint("people", __name__)
_LINES = 200
_MOST_EXPORTED = 100_000


@people.route("/sign-in", methods=["GET", "POST"])
def sign_in() -> Response | str | tuple[str, int]:
    """The sign-in page."""
    target = inside(request.values.get("next", ""))
    if request.method == "GET":
        if current_user.is_authenticated:
            return redirect(target)
        nobody = not store_people.anybody(services().store)
        return render_template(
            "people/sign_in.html", target=target, email="", nobody=nobody, lost="lost" in request.args
        )
    form = SignInForm(request.form)
    email, password = form.email.data or "", form.password.data or ""
    place = request.remote_addr or ""
    refused_sign_ins.must_be_few(services().store, email, place, *most_tries())
    found = store_people.signed_in(services().store, email, password)
    if found is None:
        refused_sign_ins.note(services().store, email, place)
        flash("Wrong e-mail address or password.", "problem")
        return render_template("people/sign_in.html", target=target, email=email), 401
    sessions.begin(found)
    trail.note(services().store, "signed in", person_id=found.id, account_id=None, detail={})
    return redirect(target)


@people.post("/sign-out")
def sign_out() -> Response:
    """Ends the session."""
    sessions.end()
    return redirect(url_for("people.sign_in"))


# --- the first start ------------------------------------------------------------------


@people.route("/set-up/<token>", methods=["GET", "POST"])
@limiter.limit(sign_in_limit, methods=["POST"])
def set_up(token: str) -> Response | str | tuple[str, int]:
    """The first owner and the first brand account of an empty installation; or the demo brands to look at first."""
    store = services().store
    store_people.may_set_up(store, token)
    owner, account = OwnerForm(request.form), AccountForm(request.form)
    if request.method == "GET":
        return render_template("people/set_up.html", owner=owner, account=account)
    demo = request.form.get("do") == "demo"
    try:
        owner.checked()
        if not demo:
            account.checked()
            new_account.check(account)
        result = store_people.set_up(
            store, token, email=owner.email.data or "", name=owner.name.data or "", password=owner.password.data or ""
        )
    except BadInput as problem:
        flash(str(problem), "problem")
        return render_template("people/set_up.html", owner=owner, account=account), 400
    sessions.begin(result)
    trail.note(store, "signed in", person_id=result.id, account_id=None, detail={})
    if demo:
        return _load_demo(result.id)
    added = new_account.add(store, account, result.id)
    return redirect(url_for("intake.index", account=added.key))


@people.post("/demo")
def demo() -> Response:
    """Loads the demo brands beside one's own."""
    who = must_manage()
    if demo_brands.loaded(services().store):
        raise Conflict("The demo brands are loaded already.", remedy="Choose one in the scope bar.")
    return _load_demo(who.id)


def _load_demo(person_id: int) -> Response:
    job_id = loads.start_job(
        services().store, kind="demo", account_id=None, person_id=person_id, upload_id=None, request={}
    )
    services().queue.start(job_id)
    return redirect(url_for("people.demo_loading", job_id=job_id))


@people.get("/demo/<int:job_id>")
def demo_loading(job_id: int) -> str | Response:
    """How far the demo brands are; once they are there, the way to them."""
    must_manage()
    job = loads.get_job(services().store, job_id)
    if job is None or job.kind != "demo":
        raise NotFound("This job does not exist.", remedy="See the accounts.")
    nobody = job.open and not workers.present(services().store)
    return render_template("people/demo_loading.html", job=job, nobody=nobody)


# --- inviting and managing -----------------------------------------------------------------


@people.get("/people")
def listed() -> str:
    """Everybody, and the way to invite somebody."""
    must_manage()
    return _people_page()


def _people_page(link: str = "", whose: str = "", form: InviteForm | None = None) -> str:
    store = services().store
    brands = store_people.brands(store)
    query, sort = request.args.get("q", "").strip(), request.args.get("sort", "")
    every = pages.lines(store_people.everybody(store), brands)
    return render_template(
        "people/people.html",
        lines=pages.narrowed(every, query, sort),
        of=len(every),
        query=query,
        sort=sort,
        orders=pages.ORDERS,
        brands=brands,
        roles=[(role.value, words) for role, words in pages.ROLES.items()],
        link=link,
        whose=whose,
        form=form or InviteForm(None, brands),
    )


def _address(token: str) -> str:
    return url_for("people.take_up", token=token, _external=True)


@people.post("/people/invite")
def invite() -> str | tuple[str, int]:
    """Makes a person who is not here yet, and the link to hand over."""
    who, store = must_manage(), services().store
    form = InviteForm(request.form, store_people.brands(store))
    try:
        form.checked()
        role = Role(form.role.data or "")
        brands = [] if role is Role.OWNER else form.brands.data or []
        email = form.email.data or ""
        _, token = store_people.invite(store, who.id, email=email, name=form.name.data or "", role=role, brands=brands)
    except ReefError as problem:
        flash(str(problem), "problem")
        return _people_page(form=form), 400
    return _people_page(_address(token), email)


def _listed(person_id: int) -> store_people.Listed:
    found = next((each for each in store_people.everybody(services().store) if each.person.id == person_id), None)
    if found is None:
        raise NotFound("This person does not exist.", remedy="Reload the list.")
    return found


@people.post("/people/<int:person_id>/rights")
def rights(person_id: int) -> Response:
    """Another role, other brands."""
    who, store = must_manage(), services().store
    found = _listed(person_id)
    form = RightsForm(request.form, store_people.brands(store)).checked()
    store_people.set_rights(
        store, who.id, person_id, Role(form.role.data or ""), form.brands.data or [], sends=bool(form.sends.data)
    )
    flash(f"{found.person.name} is {form.role.data} now.")
    return redirect(url_for("people.listed"))


@people.post("/people/<int:person_id>/link")
def new_link(person_id: int) -> str:
    """Another link, by which somebody chooses a password; the one before stops working."""
    who = must_manage()
    found = _listed(person_id)
    token = store_people.new_link(services().store, who.id, person_id)
    return _people_page(_address(token), found.person.email)


@people.post("/people/<int:person_id>/switch")
def switch(person_id: int) -> Response:
    """Switches somebody off, or on again."""
    who = must_manage()
    found = _listed(person_id)
    store_people.switch(services().store, who.id, person_id, active=not found.active)
    flash(f"{found.person.name} {'cannot sign in any more' if found.active else 'may sign in again'}.")
    return redirect(url_for("people.listed"))


@people.route("/invitation/<token>", methods=["GET", "POST"])
@limiter.limit(sign_in_limit, methods=["POST"])
def take_up(token: str) -> Response | str | tuple[str, int]:
    """Whoever holds an invitation chooses a name and a password, and is in."""
    store = services().store
    who = store_people.invited(store, token)
    form = OneselfForm(request.form)
    if request.method == "GET":
        form.name.data = who.name if who.name != who.email else ""
        return render_template("people/take_up.html", form=form, who=who)
    try:
        form.checked()
    except BadInput as problem:
        flash(str(problem), "problem")
        return render_template("people/take_up.html", form=form, who=who), 400
    result = store_people.take_up(store, token, name=form.name.data or "", password=form.password.data or "")
    sessions.begin(result)
    trail.note(store, "signed in", person_id=result.id, account_id=None, detail={})
    return redirect(url_for("start"))


# --- oneself ---------------------------------------------------------------------------------


@people.get("/me")
def me() -> str:
    """One's name, password, sessions, tokens."""
    return _me_page()


def _me_page(made: str = "") -> str:
    now = sessions.here().row
    open_now = store_sessions.of_person(services().store, person().id)
    lines = [pages.session_line(each, here=now is not None and each.id == now.id) for each in open_now]
    return render_template(
        "people/me.html",
        who=person(),
        sessions=lines,
        tokens=pages.token_lines(api_tokens.of_person(services().store, person().id), my_accounts()),
        accounts=my_accounts(),
        days=pages.TOKEN_DAYS,
        made=made,
        tables=url_for("api.tables", _external=True),
    )


@people.post("/me/tokens")
def make_token() -> str:
    """A token by which a program of one's own reads tables, shown this once."""
    form = TokenForm(request.form).checked()
    of = account_of(form.of.data) if form.of.data else None
    token = api_tokens.make(
        services().store, person().id, form.called.data or "", form.days.data or 0, of.id if of else None
    )
    return _me_page(token)


@people.post("/me/tokens/<int:token_id>/revoke")
def revoke_token(token_id: int) -> Response:
    """Ends one of one's tokens."""
    api_tokens.revoke(services().store, person().id, token_id)
    flash("The token does not work any more.")
    return redirect(url_for("people.me"))


@people.post("/me/name")
def rename() -> Response:
    """What one is called."""
    store_people.rename(services().store, person().id, request.form.get("name", ""))
    flash("Name saved.")
    return redirect(url_for("people.me"))


@people.post("/me/password")
@limiter.limit(sign_in_limit)
def change_password() -> Response:
    """Another password; every other session ends."""
    new = request.form.get("new", "")
    if new != request.form.get("again", ""):
        raise BadInput("The new passwords differ.", remedy="Enter the same password twice.")
    result = store_people.change_password(services().store, person().id, old=request.form.get("old", ""), new=new)
    sessions.begin(result)
    flash("Password saved. You are signed out everywhere else.")
    return redirect(url_for("people.me"))


@people.post("/me/sessions/<int:session_id>/end")
def end_session(session_id: int) -> Response:
    """Ends one of one's sessions, wherever it is."""
    if not store_sessions.end(services().store, person().id, session_id):
        raise NotFound("This session has ended already.", remedy="Reload the list.")
    flash("The session has ended.")
    return redirect(url_for("people.me"))


@people.post("/me/sign-out-everywhere")
def sign_out_everywhere() -> Response:
    """Ends all of one's sessions, this one too."""
    store_people.end_sessions(services().store, person().id)
    sessions.end()
    return redirect(url_for("people.sign_in"))


# --- the trail ---------------------------------------------------------------------------------


def _asked() -> tuple[TrailForm, Asked]:
    form = TrailForm(request.args).checked()
    named = form.person.data or ""
    try:
        who = whole(named) if named else None
    except ValueError:
        raise BadInput(f"“{named}” is nobody.", remedy="Choose one from the list.") from None
    wanted = request.args.get("of", "")
    of = next((each for each in my_accounts() if each.key == wanted), None)
    if wanted and of is None:
        raise NotFound(f"There is no account “{wanted}” for you.", remedy="Choose one from the list.")
    asked = Asked(who, of.id if of else None, form.what.data or "", form.first.data, form.last.data)
    return form, asked


def _entries(asked: Asked, limit: int, skip: int = 0) -> list[trail.Entry]:
    mine = None if person().manages else [each.id for each in my_accounts()]
    return trail.entries(services().store, asked, of_accounts=mine, limit=limit, skip=skip)


@people.get("/trail")
def trail_of() -> str:
    """Who did what to which thing, when; of those who are no owners, of their own brands."""
    form, asked = _asked()
    page = max(1, request.args.get("page", 1, type=whole))
    found = _entries(asked, _LINES + 1, (page - 1) * _LINES)
    kept: dict[str, Any] = {name: value for name, value in request.args.items() if name != "page" and value}
    return render_template(
        "people/trail.html",
        lines=pages.trail_lines(found[:_LINES], url_for),
        form=form,
        kinds=trail.kinds(services().store),
        people=store_people.everybody(services().store) if person().manages else [],
        accounts=my_accounts(),
        page=page,
        more=len(found) > _LINES,
        kept=kept,
    )


@people.get("/trail/export.csv")
def trail_export() -> PageResponse:
    """The same as a file."""
    _, asked = _asked()
    rows = [
        [each.at.replace(tzinfo=UTC).isoformat(), each.person, each.account, each.what, pages.details(each.detail)]
        for each in _entries(asked, _MOST_EXPORTED)
    ]
    trail.note(
        services().store,
        "exported",
        person_id=person().id,
        account_id=None,
        detail={"table": "trail", "rows": len(rows)},
    )
    response = PageResponse(csv_lines(["at", "person", "account", "what", "detail"], rows), mimetype="text/csv")
    response.headers["Content-Disposition"] = f"attachment; filename=trail-{datetime.now(UTC):%Y-%m-%d}.csv"
    return response
