"""Delivery: placements, hours, budgets, boosts."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import out_of_budget
from nimbus_reef.analysis.delivery import budgets, files, placements
from nimbus_reef.web import acting
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_write, services
from nimbus_reef.web.delivery import boost_pages, budget_pages, hour_pages, placement_pages
from nimbus_reef.web.kit.judging import worked_out_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.views import AreaView
from nimbus_reef.web.view_routes import add_acceptance, add_pages

delivery = Blueprint("delivery", __name__, url_prefix="/delivery")
VIEWS: Final[Mapping[str, AreaView]] = {
    "placements": AreaView(
        "Placements",
        placement_pages.page,
        files.NEEDS["placements"],
        placement_pages.LIST,
        drawer=placement_pages.drawer,
        thing="placement",
        things="placements",
        unselected=lambda ask: placements.to_limit(ask.facts, ask.selection)["row_id"].to_list(),
    ),
    "hours": AreaView("Hours", hour_pages.page, files.NEEDS["hours"], file=hour_pages.file),
    "budgets": AreaView("Budgets", budget_pages.page, files.NEEDS["budgets"], budget_pages.LIST),
    "boosts": AreaView("Boosts", boost_pages.page),
}


def _before(name: str) -> None:
    """Answers with sums first where hours are made from very many rows."""
    facts, scope = services().facts, current_scope()
    if name in ("hours", "budgets"):
        make, reads = lambda: budgets.is_worked_out(facts, scope.selection), [(out_of_budget.KIND, scope.window)]
        worked_out_first(facts, scope, make, reads, first=is_first_answer())


add_pages(delivery, VIEWS, "Delivery", "This area needs placements by day, hours and campaign settings.", _before)
add_acceptance(delivery, VIEWS, "Delivery")


def _here(name: str) -> str:
    return url_for("delivery.view", name=name)


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
