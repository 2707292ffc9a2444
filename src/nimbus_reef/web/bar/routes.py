"""What the frame fetches: the parts of the scope bar as they are opened, the rail; and setting targets."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import date
from typing import Any, Final

from flask import Blueprint, flash, redirect, render_template, request
from werkzeug.wrappers import Response

from nimbus_reef.analysis import named_parts, offered_targets
from nimbus_reef.analysis.judged import stake_of_targets
from nimbus_reef.analysis.offered_targets import From
from nimbus_reef.core.own_limits import GOALS, Limit, goal_at
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import own_limits, target_acos
from nimbus_reef.web.bar.forms import AimForm
from nimbus_reef.web.current import current_scope, figures, inside, must_write, services
from nimbus_reef.web.params import Scope

bar = Blueprint("bar", __name__, url_prefix="/scope")
MOST_OFFERED: Final = 3_000


def _names(kind: str) -> list[str]:
    if kind not in named_parts.PARTS:
        raise NotFound(f"There is no list of “{kind}”.", remedy=f"Ask for {', '.join(named_parts.PARTS)}.")
    return named_parts.names(services().facts, current_scope().selection, kind)


@bar.get("/options/<kind>")
def options(kind: str) -> str:
    """The names of campaigns, portfolios, categories, labels or products, as options of a field."""
    return render_template("_options.html", names=_names(kind)[:MOST_OFFERED])


@bar.get("/rail")
def rail() -> str:
    """The audit line with what is at stake in Targeting, worked out after the page that shows it."""
    scope = current_scope()
    if scope.newest is not None:
        stake_of_targets(services().facts, scope.selection)
    return render_template("_rail.html")


@bar.get("/aims")
def own_aims() -> str:
    """The targets and bid limits set in this account, each with the way to take it back; what peers have."""
    scope, facts = current_scope(), services().facts
    with facts.store.read() as connection:
        kept = own_limits.kept(connection, scope.account.id)
    held = scope.newest is not None
    level = next((level for level in _SCOPED if getattr(scope, level)), "")
    return render_template(
        "_aims.html",
        lines=[
            (each.level, each.name, each.what, _limit_words(each.what, each.value, each.until_day)) for each in kept
        ],
        back=inside(request.args.get("back", "/")),
        sources=_SOURCES,
        goals=list(enumerate(GOALS, start=1)),
        scope_level=level,
        goal=_goal(scope, level, kept),
        offers=offered_targets.offered(facts, scope.selection) if held else (),
        tried=_tried(scope) if held and scope.target_acos_text else "",
    )


def _goal(scope: Scope, level: str, kept: Sequence[Any]) -> str:
    """The goal that is set for the part looked at, else the account's."""
    name = getattr(scope, level) if level else ""
    own = [each.value for each in kept if (each.level, each.name, each.what) == (level, name, Limit.GOAL)]
    return goal_at(own[0]) if own else scope.account.settings.goal


def _tried(scope: Scope) -> str:
    """How many verdicts the target that is tried changes."""
    saved = replace(scope.selection, aims=target_acos.aims(services().store, scope.account))
    changed, of = offered_targets.verdicts_changed(services().facts, saved, scope.target_acos)
    return f"{figures().count(changed)} of {figures().counted(of, 'target')} change their verdict."


def _limit_words(what: str, value: float, until: date | None = None) -> str:
    if what == own_limits.TARGET_ACOS:
        return figures().aim(value)
    if what in (Limit.STEP_DOWN, Limit.STEP_UP):
        return f"{_LIMITS[what]} {figures().rate(value, 0)}"
    if what == Limit.GOAL:
        return f"{_LIMITS[what]} {goal_at(value)}" + (f" until {figures().day(until)}" if until else "")
    return f"{_LIMITS[what]} {figures().number(value)}"


_LIMITS: Final[Mapping[str, str]] = {
    Limit.CEILING: "highest bid",
    Limit.FLOOR: "lowest bid",
    Limit.STEP_DOWN: "largest cut",
    Limit.STEP_UP: "largest raise",
    Limit.GOAL: "goal",
}
_SCOPED: Final = ("campaign", "label", "portfolio", "product")
_SOURCES: Final = {
    From.PEERS: "the median ACOS of peers in these categories",
    From.MARGINS: "break-even: the margin of the products sold, before ads",
}


@bar.post("/aims")
def set_aim() -> Response:
    """Sets a target or a bid limit for good, or takes one back (nothing entered)."""
    who, scope = must_write(), current_scope()
    form = AimForm(request.form, scope.account.locale).checked()
    level, name, value, what = form.level.data or "", form.of.data or "", form.value, form.what.data or ""
    if what not in (own_limits.TARGET_ACOS, *Limit):
        raise BadInput(f"“{what}” is not a limit.", remedy="Choose from the list.")
    if level == "account" and (value is None or what != own_limits.TARGET_ACOS):
        raise BadInput("No target entered.", remedy="Enter a percentage such as 28. Bid limits are under Settings.")
    store, of = services().store, f"{level} {name}".strip() if level != "account" else "account"
    if what == own_limits.TARGET_ACOS:
        target_acos.set_aim(store, scope.account, who.id, level, "" if level == "account" else name, value)
        flash(f"Target of the {of}: {figures().aim(value)}." if value else f"The {of} uses the account’s target again.")
    else:
        until = form.until.data if what == Limit.GOAL else None
        own_limits.set_limits(store, scope.account.id, who.id, level, [name] if name else [], what, value, until)
        flash(
            f"The {of}: {_limit_words(what, value, until)}."
            if value
            else f"The {of} has no {_LIMITS[what]} of its own now."
        )
    # What this form holds is no choice of the page that it goes back to.
    own = tuple(pair for pair in scope.own if pair[0] not in (form.what.name, form.percent.name, form.until.name))
    return redirect(scope.link(inside(form.back.data or "/"), target_acos_text="", own=own))
