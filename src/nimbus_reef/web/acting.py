"""
The one road from a proposal to the plan: what it would do is shown first where it is more than a handful, then it is
done, or refused.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from flask import Response, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import order
from nimbus_reef.analysis.delivery import plan_prices
from nimbus_reef.analysis.offers import Offer
from nimbus_reef.core.changes import Change, Entity, key
from nimbus_reef.core.plan import Taken, taken
from nimbus_reef.errors import Conflict
from nimbus_reef.formats.typed import whole
from nimbus_reef.jobs import acceptances
from nimbus_reef.store.people import plans
from nimbus_reef.store.people.plans import Package, Planned
from nimbus_reef.store.record import loads
from nimbus_reef.web.kit import settled_first
from nimbus_reef.web.kit.candidates import Candidate
from nimbus_reef.web.kit.previews import DeedsPreview, Selection, preview
from nimbus_reef.web.kit.prices import REMEDY, rise_words
from nimbus_reef.web.kit.settled_first import First
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import figures, inside, must_write, parts

HANDFUL: Final = 5
"""So many changes are accepted without being shown first."""
AT_ONCE: Final = 2_000
"""So many changes are put into the plan at once; more are a worker's."""
_OWN: Final = ("csrf_token", "sure", "asked", "replacing", "offered", "take", "again")
"""What the preview's own form sends besides what it was asked with."""


@dataclass(frozen=True, slots=True)
class Acted:
    """
    How far an offer is in the plan. own: its rows there; left: how many changes accepting it puts in, 0 where it is in;
    replaced: the changes that leave the plan for it.
    """

    own: list[Planned]
    left: int
    replaced: tuple[Change, ...] = ()

    @property
    def is_shown_first(self) -> bool:
        """Whether accepting it asks first, with all of it in view."""
        return self.left > HANDFUL


def acted(scope: Scope, offer: Offer | None) -> Acted:
    """The plan's state of an offer. Changes of the same thing that another page planned are not its own."""
    if offer is None:
        return Acted([], 0)
    changes = [change for change, _ in offer.changes]
    whose = {key(change): change.finding for change in changes}
    held = plans.planned(parts().store, scope.account.id)
    own = [each for each in held if whose.get(key(each.change)) == each.change.finding]
    told = taken([each.change for each in held], [changes])
    return Acted(own, len(changes) if told.new else 0, tuple(told.replaced))


def acted_on_campaign(scope: Scope, offer: Offer, check: str) -> Acted:
    """The same of an offer of very many rows, all of one campaign that nothing else plans: told by its name."""
    held = plans.planned(parts().store, scope.account.id)
    own = [each for each in held if (each.change.campaign, each.change.finding) == (offer.key, check)]
    return Acted(own, 0 if own else len(offer.changes))


def accept_one(scope: Scope, candidate: Candidate) -> Taken:
    """
    Puts what is proposed on one row into the plan.

    Conflict where there is nothing to accept, where something above target would cost more a click, or where changes of
    the plan would have to leave that nobody was told about.
    """
    who = must_write()
    if not candidate.package:
        raise Conflict("There is nothing to accept here any more.", remedy="Look at it again.")
    held = [each.change for each in plans.planned(parts().store, scope.account.id)]
    told = plan_prices.accepted(parts().facts, scope.look, held, [[change for change, _ in candidate.package]])
    if told.refused:
        raise Conflict(f"{_sentence(rise_words(told.refused[0], figures()))}.", remedy=REMEDY)
    if told.packaged:
        raise Conflict(
            "The plan changes this together with other things.", remedy="Take those changes out of the plan first."
        )
    if not told.new:
        raise Conflict("The plan already changes this.", remedy="Take the other change out of the plan first.")
    replacing = request.form.getlist("replacing", type=whole)
    return plans.accept_packages(parts().store, scope.account.id, who.id, [candidate.package], replacing).told


def put(
    scope: Scope,
    offered: Sequence[Candidate],
    *,
    title: str,
    thing: str,
    action: str,
    back: str,
    notice: Mapping[str, str] | None = None,
    asks_alone: bool = False,
) -> AnyResponse | str:
    """
    Puts what is proposed on rows into the plan and goes back; what is more than a handful, replaces something or is
    beyond the settings is shown first, and done when that was sent back.

    title: on what, in words; thing: what a row is; action: where the preview is sent to; notice: questions of the
    page's own that stand above it: words by the name of the field that answers them; asks_alone: raises of what never
    made an order can be asked for there.
    """
    must_write()
    planned = plans.planned(parts().store, scope.account.id)
    held = [each.change for each in planned]
    left = _left()
    acting = [each for each in offered if each.package and each.key not in left]
    told = plan_prices.accepted(
        parts().facts, scope.look, held, [[change for change, _ in each.package] for each in acting]
    )
    asked = Selection(offered, left, told, planned, scope.window.days)
    shown = preview(asked, title, thing, _before(scope, asked.going, held), scope.account.settings, figures())
    gone = {change.row for change in told.replaced} - set(request.form.getlist("replacing", type=whole))
    sure = (
        bool(request.form.get("sure"))
        and not notice
        and not gone
        and (not shown.asks or bool(request.form.get("asked")))
    )
    at_once = not (gone or shown.asks or told.refused or notice) and shown.changes <= HANDFUL and len(offered) == 1
    if sure or at_once:
        return _done(scope, asked, shown, back)
    return render_template(
        "preview.html",
        action=action,
        told=shown,
        back=back,
        notice=notice or {},
        asks_alone=asks_alone,
        sent=[(name, value) for name, value in request.form.items(multi=True) if name not in _OWN],
    )


def _left() -> frozenset[str]:
    """The keys of rows that were shown with a tick and sent back without."""
    return frozenset(request.form.getlist("offered")) - frozenset(request.form.getlist("take"))


def _before(scope: Scope, going: Sequence[Candidate], held: Sequence[Change]) -> dict[str, list[First]]:
    """
    What is better settled first, by the key of the row: of keywords, since a product ad or a budget is such a thing
    itself.
    """
    keywords = [each for each in going if each.package[0][0].entity in (Entity.TARGET, Entity.NEGATIVE)]
    homes = {home for each in keywords for home in each.homes}
    if not homes:
        return {}
    found = order.before(parts().facts, scope.look, homes, held)
    return {
        each.key: settled_first.first(
            [one for home in each.homes for one in found.get(home, ())],
            _WHAT.get(each.kind, settled_first.BID),
            figures(),
        )
        for each in keywords
    }


_WHAT: Final = {"pause": settled_first.PAUSE, "negative": settled_first.NEGATIVE}


def _done(scope: Scope, asked: Selection, shown: DeedsPreview, back: str) -> AnyResponse:
    who = must_write()
    packages = [each.package for each in asked.going]
    if shown.changes > AT_ONCE:
        return _by_a_worker(scope, packages, [change.row for change in asked.told.replaced], back)
    done = plans.accept_packages(
        parts().store, scope.account.id, who.id, packages, [change.row for change in asked.told.replaced]
    )
    write = figures()
    said = [f"{write.counted(len(done.planned), 'change')} added to the plan"]
    if done.told.replaced:
        said.append(f"{write.counted(len(done.told.replaced), 'change')} replaced")
    said += [f"left out {each}" for each in (*shown.skipped, *shown.refused)]
    flash("; ".join(said) + ".", "accepted" if done.planned else "message")
    return redirect(back)


def _by_a_worker(scope: Scope, packages: Sequence[Package], replacing: Sequence[int], back: str) -> AnyResponse:
    request_of = acceptances.hand_over(parts().config.exports, packages, replacing) | {"back": back}
    job_id = loads.start_job(
        parts().store,
        kind="accept",
        account_id=scope.account.id,
        person_id=must_write().id,
        upload_id=None,
        request=request_of,
    )
    parts().queue.start(job_id, "accept")
    return redirect(scope.elsewhere(url_for("plan.accepting", job_id=job_id)))


def _sentence(said: str) -> str:
    return f"{said[0].upper()}{said[1:]}"


def selected() -> list[str]:
    """The rows that a form selects: those of a table, or the ones behind selected findings."""
    return [*request.form.getlist("rows"), *request.form.getlist("findings")]


def back_to(scope: Scope, usual: str) -> str:
    """Where an acceptance leads back to: the page that asked for it, else the usual one."""
    asked = request.form.get("back")
    return scope.elsewhere(inside(asked)) if asked else usual


def by_htmx() -> bool:
    """Whether a script asked, for a part of the page."""
    return bool(request.headers.get("HX-Request"))


def pushed(response: Response, address: str) -> Response:
    """An answer after which the address is the page's with the drawer open."""
    if not request.args.get("stay"):
        response.headers["HX-Push-Url"] = address
    return response
