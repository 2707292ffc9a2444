"""What the frame fetches: the parts of the scope bar as they are opened, the rail; and setting targets."""

from __future__ import annotations

from typing import Final

from flask import Blueprint, flash, redirect, render_template, request
from werkzeug.wrappers import Response

from nimbus_reef.analysis import named_parts, offered_targets
from nimbus_reef.analysis.judged import stake_of_targets
from nimbus_reef.analysis.offered_targets import From
from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import target_acos
from nimbus_reef.web.bar.forms import AimForm
from nimbus_reef.web.current import current_scope, figures, inside, must_write, services

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
    """The targets set in this account, each with the way to take it back."""
    scope = current_scope()
    lines = [
        (level, name, figures().aim(value)) for level, name, value in target_acos.own(services().store, scope.account)
    ]
    unset = not scope.account.target_set and scope.newest is not None
    return render_template(
        "_aims.html",
        lines=lines,
        back=inside(request.args.get("back", "/")),
        sources=_SOURCES,
        offers=offered_targets.offered(services().facts, scope.selection) if unset else (),
    )


_SOURCES: Final = {
    From.PEERS: "the median ACOS of peers in these categories",
    From.MARGINS: "break-even: the margin of the products sold, before ads",
}


@bar.post("/aims")
def set_aim() -> Response:
    """Sets a target for good, or takes one back (an empty percentage)."""
    who, scope = must_write(), current_scope()
    form = AimForm(request.form, scope.account.locale).checked()
    level, name, value = form.level.data or "", form.of.data or "", form.target_acos
    if level == "account" and value is None:
        raise BadInput("No target entered.", remedy="Enter a percentage such as 28.")
    target_acos.set_aim(services().store, scope.account, who.id, level, "" if level == "account" else name, value)
    of = f"{level} {name}".strip() if level != "account" else "account"
    flash(f"Target of the {of}: {figures().aim(value)}." if value else f"The {of} uses the account’s target again.")
    return redirect(scope.link(inside(form.back.data or "/"), target_acos_text=""))
