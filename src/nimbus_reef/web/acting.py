"""Acting on what is offered: whether it is planned, and putting it into the plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from flask import Response, flash, request

from nimbus_reef.analysis.offers import Offer
from nimbus_reef.core.changes import key
from nimbus_reef.errors import BadInput, Conflict
from nimbus_reef.store.people import plans
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.offered import Worded
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import must_write, parts

MOST_AT_ONCE: Final = 2_000


@dataclass(frozen=True, slots=True)
class Acted:
    """How far an offer is in the plan: own, its rows there; left: how many of its changes nothing planned makes yet."""

    own: list[Planned]
    left: int


def acted(scope: Scope, offer: Offer | None) -> Acted:
    """
    How far an offer is in the plan. What another page planned of the same thing is neither its own, so that taking back leaves
    it, nor left to do.
    """
    if offer is None:
        return Acted([], 0)
    whose = {key(change): change.finding for change, _ in offer.changes}
    held = [each for each in plans.planned(parts().store, scope.account.id) if key(each.change) in whose]
    own = [each for each in held if each.change.finding == whose[key(each.change)]]
    return Acted(own, len(whose) - len(held))


def acted_on_campaign(scope: Scope, offer: Offer, check: str) -> Acted:
    """The same of an offer of very many rows, all of one campaign that nothing else plans: told by its name."""
    held = plans.planned(parts().store, scope.account.id)
    own = [each for each in held if (each.change.campaign, each.change.finding) == (offer.key, check)]
    return Acted(own, max(0, len(offer.changes) - len(own)))


def accept_one(scope: Scope, worded: Worded) -> None:
    """Puts an offer into the plan; Conflict where there is nothing to accept, or the plan changes all of it already."""
    who = must_write()
    if not worded.changes:
        raise Conflict("There is nothing to accept here any more.", remedy="Look at it again.")
    if not plans.accept_many(parts().store, scope.account.id, who.id, worded.changes):
        raise Conflict(
            "The plan already changes this.", remedy="Take the other change out of the plan first."
        )


def accept_all(scope: Scope, offered: Sequence[Worded], figures: Figures, nothing: str) -> None:
    """Puts many offers into the plan at once and says what that did; nothing: why some have no proposal."""
    who = must_write()
    changes = [change for each in offered for change in each.changes]
    if len(changes) > MOST_AT_ONCE:
        raise BadInput(
            f"{figures.count(len(changes))} changes would come of it; at most {figures.count(MOST_AT_ONCE)} are accepted at a time.",
            remedy="Select fewer rows.",
        )
    accepted = plans.accept_many(parts().store, scope.account.id, who.id, changes)
    said = [f"{figures.counted(len(accepted), 'change')} accepted into the plan"]
    if len(accepted) < len(changes):
        said.append(f"{figures.count(len(changes) - len(accepted))} were in it already")
    idle = sum(1 for each in offered if each.offer is None)
    if idle:
        said.append(f"nothing to propose on {figures.count(idle)}, {nothing}")
    flash("; ".join(said) + ".", "accepted" if accepted else "message")


def selected() -> list[str]:
    """The rows that a form selects: those of a table, or the ones behind selected findings."""
    return [*request.form.getlist("rows"), *request.form.getlist("findings")]


def by_htmx() -> bool:
    """Whether a script asked, for a part of the page."""
    return bool(request.headers.get("HX-Request"))


def pushed(response: Response, address: str) -> Response:
    """An answer after which the address is the page's with the drawer open."""
    if not request.args.get("stay"):
        response.headers["HX-Push-Url"] = address
    return response
