"""Movement: the drift chart and its list, the ledger, why ACOS moved, trends, changes."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from flask import Blueprint, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from nimbus_reef.analysis import made_changes
from nimbus_reef.analysis.movement import GROUPINGS
from nimbus_reef.errors import NotFound
from nimbus_reef.web.acting import back_to, put
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.downloads import hand_out_view
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.judging import worked_out_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.views import AreaView
from nimbus_reef.web.movement import change_pages, drift_pages, ledger_pages, sides, trend_pages, trends, why

movement = Blueprint("movement", __name__, url_prefix="/movement")


VIEWS: Final[Mapping[str, AreaView]] = {
    "drift": AreaView("Drift", drift_pages.page, rows=drift_pages.LIST),
    "ledger": AreaView("Ledger", ledger_pages.page, rows=ledger_pages.LIST),
    "why": AreaView("Why ACOS moved", why.page, file=why.file),
    "trends": AreaView("Trends", trend_pages.page, file=trend_pages.file),
    "changes": AreaView("Changes", change_pages.page, rows=change_pages.LIST),
}
_OF_SIDES: Final = frozenset({"drift", "ledger", "why"})
"""Tell what rows did in both windows."""
TITLES: Final = {name: each.title for name, each in VIEWS.items()}


@movement.get("/")
def index() -> Response:
    """The area opens on the drift chart."""
    return redirect(current_scope().link(url_for("movement.view", name="drift")))


@movement.get("/<name>")
def view(name: str) -> str:
    """One of the area's views."""
    if name not in VIEWS:
        raise NotFound(f"Movement has no view “{name}”.", remedy="Choose one under the title.")
    found, scope = VIEWS[name], current_scope()
    if scope.newest is None or (scope.against is None and name in _OF_SIDES):
        _need(name)
        return render_template("movement/empty.html", view=name, views=TITLES)
    _need(name)
    ask = context()
    if name in _OF_SIDES:
        worked_out_first(ask.facts, scope, lambda: sides.are_made(ask), sides.reads(ask), first=is_first_answer())
    return render_template(
        f"movement/{name}.html", view=name, views=TITLES, groupings=GROUPINGS, **shown(found.page(ask))
    )


def _need(name: str) -> None:
    """NoFigures where the view has none of one of its windows."""
    ask = context()
    if ask.scope.newest is None:
        return
    if name == "changes":
        need(services().facts, ask.scope, (made_changes.KIND,), figures(), made_changes.days_of(ask.selection))
    else:
        sides.need_both(ask, trend=name == "trends")


@movement.get("/trends/things")
def things() -> str:
    """What a trend can be asked of, as options of its field; fetched when that is entered."""
    return render_template("_options.html", names=trends.offered(services().facts, current_scope()))


@movement.post("/changes/set-back")
def set_back() -> Response | str:
    """Sets the selected changes, or all that are shown, back; first it says what that does."""
    must_write()
    scope = current_scope()
    keys = None if request.form.get("all") else request.form.getlist("rows")
    back = change_pages.set_back(context(), keys)
    count = sum(bool(each.package) for each in back)
    return put(
        scope,
        back,
        title=f"{figures().counted(count, 'change')} to undo: preview",
        thing="what",
        action=url_for("movement.set_back"),
        back=back_to(scope, scope.link(url_for("movement.view", name="changes"))),
    )


@movement.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> Response:
    """The rows of a view as a file."""
    return hand_out_view(VIEWS, name, ending, lambda: _need(name))
