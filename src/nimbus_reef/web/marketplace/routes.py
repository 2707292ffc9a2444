"""An account's marketplace: its link, its schedule, fetching by hand, and the simulated one's days."""

from __future__ import annotations

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.formats.typed import whole
from nimbus_reef.jobs import marketplaces
from nimbus_reef.jobs.queue import MARKET, ask_marketplace
from nimbus_reef.store.loading import report_orders
from nimbus_reef.store.people import marketplace_links, trail
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.web.current import current_scope, figures, must_manage, must_write, person, services
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.marketplace import pages

marketplace = Blueprint("marketplace", __name__, url_prefix="/marketplace")
MOST_DAYS = 60


@marketplace.get("/")
def index() -> str:
    """The link, and the reports that come by it."""
    return _page("marketplace")


@marketplace.get("/reports")
def reports() -> str:
    """The reports alone, for following them live."""
    return _page("_reports")


def _page(template: str) -> str:
    store, account = services().store, current_scope().account
    view = pages.page(
        marketplace_links.link(store, account.id),
        report_orders.newest(store, account.id),
        services().facts.spans(account.id, account.timezone),
        loads.open_job(store, MARKET, account.id),
        utc_now(),
        figures(),
        manages=person().manages,
    )
    return render_template(f"marketplace/{template}.html", moves=view.moves, **shown(view))


@marketplace.post("/")
def save() -> AnyResponse:
    """Links the account, or changes its link; the first reports are asked for at once."""
    who, account, form = must_manage(), current_scope().account, request.form
    minutes = form.get("every_minutes", type=whole)
    if minutes is None:
        raise BadInput("Say how often reports are fetched.", remedy="Enter minutes, such as 360.")
    marketplace_links.save(
        services().store,
        account.id,
        who.id,
        url=form.get("url", ""),
        client_id=form.get("client_id", ""),
        secret=form.get("secret", ""),
        key=marketplaces.credentials_key(services().config),
        every_minutes=minutes,
        active=form.get("active") == "yes",
    )
    flash("Marketplace saved.")
    return _fetch()


@marketplace.post("/remove")
def remove() -> AnyResponse:
    """Unlinks the account; what is loaded stays."""
    who = must_manage()
    marketplace_links.remove(services().store, current_scope().account.id, who.id)
    flash("Marketplace unlinked. Loaded reports stay.")
    return _back()


@marketplace.post("/fetch")
def fetch() -> AnyResponse:
    """Has missing reports fetched now."""
    must_write()
    flash("Reports are being fetched.")
    return _fetch()


@marketplace.post("/again")
def again() -> AnyResponse:
    """Tries what failed once more."""
    must_write()
    count = report_orders.again(services().store, current_scope().account.id)
    flash(f"{figures().counted(count, 'report')} tried again.")
    return _fetch()


def _fetch() -> AnyResponse:
    store, account = services().store, current_scope().account
    if marketplace_links.link(store, account.id) is not None:
        marketplace_links.hurry(store, account.id)
        ask_marketplace(store, services().queue, account.id)
    return _back()


def _back() -> AnyResponse:
    return redirect(current_scope().elsewhere(url_for("marketplace.index")), 303)


@marketplace.post("/days")
def pass_days() -> AnyResponse:
    """Lets days pass in a simulated world."""
    who, scope, store = must_write(), current_scope(), services().store
    link = marketplace_links.link(store, scope.account.id)
    if link is None or not link.simulated:
        raise NotFound("Days pass by themselves here.", remedy="Only a simulated marketplace can be hurried.")
    days = request.form.get("days", type=whole) or 0
    if not 1 <= days <= MOST_DAYS:
        raise BadInput(f"{days} days cannot pass at once.", remedy=f"Enter 1 to {MOST_DAYS}.")
    with marketplaces.connected(services().config, store, scope.account.id, marketplaces.PATIENT) as there:
        today = there.pass_days(days)
    trail.note(store, "days passed", person_id=who.id, account_id=scope.account.id, detail={"days": days})
    flash(f"{figures().counted(days, 'day')} passed: it is {today} there. Reports come by themselves.")
    return _fetch()
