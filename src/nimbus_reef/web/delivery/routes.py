"""Delivery: placements, hours, budgets, boosts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

from flask import Blueprint, flash, make_response, redirect, render_template, request, url_for
from flask import Response as PageResponse
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import out_of_budget
from nimbus_reef.analysis.acceptance import HANDFUL
from nimbus_reef.analysis.delivery import budgets, files, placements
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import NotFound
from nimbus_reef.web import acting
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.delivery import boost_pages, budget_pages, hour_pages, placement_pages
from nimbus_reef.web.downloads import hand_out_view
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.judging import worked_out_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.views import AreaView

delivery = Blueprint("delivery", __name__, url_prefix="/delivery")
VIEWS: Final[Mapping[str, AreaView]] = {
    "placements": AreaView(
        "Placements",
        placement_pages.page,
        files.NEEDS["placements"],
        placement_pages.LIST,
        drawer=placement_pages.drawer,
    ),
    "hours": AreaView("Hours", hour_pages.page, files.NEEDS["hours"], file=hour_pages.file),
    "budgets": AreaView("Budgets", budget_pages.page, files.NEEDS["budgets"], budget_pages.LIST),
    "boosts": AreaView("Boosts", boost_pages.page),
}
TITLES: Final = {name: each.title for name, each in VIEWS.items()}


@delivery.get("/")
def index() -> AnyResponse:
    """The area opens on placements."""
    return redirect(current_scope().link(_here("placements")))


def _here(name: str) -> str:
    return url_for("delivery.view", name=name)


@delivery.get("/<name>")
def view(name: str) -> str:
    """One of the area's views."""
    if name not in VIEWS:
        raise NotFound(f"Delivery has no view “{name}”.", remedy="Choose one under the title.")
    found, scope, facts = VIEWS[name], current_scope(), services().facts
    if scope.newest is None:
        return render_template("delivery/empty.html", view=name, views=TITLES)
    if found.needs:
        need(facts, scope, found.needs, figures())
    if name in ("hours", "budgets"):
        make, reads = lambda: budgets.is_worked_out(facts, scope.selection), [(out_of_budget.KIND, scope.window)]
        worked_out_first(facts, scope, make, reads, first=is_first_answer())
    ask = context()
    opened = found.drawer(ask, scope.open) if scope.open and found.drawer else None
    return render_template(f"delivery/{name}.html", view=name, views=TITLES, drawer=opened, **shown(found.page(ask)))


@delivery.get("/<name>/evidence")
def evidence(name: str) -> PageResponse:
    """The drawer alone, for swapping in."""
    if name != "placements":
        raise NotFound("This row does not exist.", remedy="Use a link on the page.")
    scope = current_scope()
    page = render_template("delivery/_drawer.html", view=name, drawer=placement_pages.drawer(context(), scope.open))
    return acting.pushed(make_response(page), scope.link(_here(name)))


@delivery.get("/placements/campaigns")
def campaigns() -> str:
    """
    What is told of single campaigns alone, asked for after the page that shows it: they may have to
    be judged first.
    """
    need(services().facts, current_scope(), VIEWS["placements"].needs, figures())
    return render_template("delivery/_campaigns_told.html", drawer=None, campaigns=placement_pages.campaigns(context()))


@delivery.get("/placements/solution")
def solution() -> str:
    """A campaign's solution alone, asked for after the page that shows it: its targets may have to be judged first."""
    scope = current_scope()
    need(services().facts, scope, VIEWS["placements"].needs, figures())
    solved = placement_pages.solved(context(), scope.own_value("whose"))
    return render_template("delivery/_solved.html", solved=solved, drawer=None)


@delivery.post("/budgets/move")
def move() -> AnyResponse | str:
    """Puts the move of budgets into the plan."""
    must_write()
    scope = current_scope()
    _, proposal = budget_pages.moved(context(), request.form.get("total", ""))
    return acting.put(
        scope,
        [proposal],
        title="Preview: budget moves",
        thing="budgets",
        action=url_for("delivery.move"),
        back=acting.back_to(scope, scope.elsewhere(_here("budgets"))),
    )


@delivery.post("/boosts/plan")
def plan_boost() -> AnyResponse:
    """Puts a boost into the plan."""
    must_write()
    scope = current_scope()
    given = {name: request.form.get(name, "") for name in (*boost_pages.GIVEN, "whose")}
    acting.accept_one(scope, boost_pages.to_plan(context(), given))
    flash("1 change added to the plan.", "accepted")
    return redirect(scope.choose(_here("boosts"), **given))


@delivery.post("/placements/accept")
def accept() -> AnyResponse | str:
    """Puts what is proposed on a placement into the plan; a base bid with its adjustments is shown first."""
    must_write()
    scope, row = current_scope(), request.form.get("row", "")
    (proposal,) = acting.proposed(scope, "placements", [row])
    if len(proposal.package) > HANDFUL:
        return _put([proposal], "accept")
    acting.accept_one(scope, proposal)
    return _swapped(row)


@delivery.post("/placements/accept-many")
def accept_many() -> AnyResponse | str:
    """
    Puts what is proposed on the selected placements into the plan; on all off-site ones above target where none is
    selected.
    """
    must_write()
    scope = current_scope()
    keys = (
        acting.keys_of(context(), placement_pages.LIST)
        or placements.to_limit(services().facts, scope.selection)["row_id"].to_list()
    )
    return _put([each.advised() for each in acting.proposed(scope, "placements", keys)], "accept_many")


@delivery.post("/placements/solve")
def solve() -> AnyResponse | str:
    """Puts a campaign's base bid and adjustments into the plan."""
    must_write()
    scope, campaign = current_scope(), request.form.get("row", "")
    return acting.put(
        scope,
        acting.proposed(scope, "solutions", [campaign]),
        title=f"Preview: base bid and adjustments of {campaign}",
        thing="campaign",
        action=url_for("delivery.solve"),
        back=scope.choose(_here("placements"), whose=campaign),
    )


def _put(offered: Sequence[Proposal], endpoint: str) -> AnyResponse | str:
    scope = current_scope()
    return acting.put(
        scope,
        offered,
        title=f"Preview: {figures().counted(len(offered), 'proposal')} on placements",
        thing="campaign",
        action=url_for(f"delivery.{endpoint}"),
        back=acting.back_to(scope, scope.link(_here("placements"), open="")),
    )


@delivery.post("/placements/take-back")
def take_back() -> AnyResponse:
    """Undoes an acceptance from the drawer, or of a solution."""
    acting.take_out(current_scope())
    return _swapped(request.form.get("row", ""))


def _swapped(row: str) -> AnyResponse:
    """The drawer anew and the plan strip with it; a whole page where no script asked."""
    if not acting.by_htmx():
        return redirect(current_scope().link(_here("placements"), open=row if ":" in row else ""), 303)
    opened = placement_pages.drawer(context(), row)
    return make_response(render_template("delivery/_accepted.html", view="placements", drawer=opened))


@delivery.get("/<name>/export.<ending>")
def export(name: str, ending: str) -> AnyResponse:
    """The rows of a view as a file."""
    return hand_out_view(
        VIEWS, name, ending, lambda: need(services().facts, current_scope(), VIEWS[name].needs, figures())
    )
