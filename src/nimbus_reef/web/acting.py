"""
The one road from a proposal to the plan: what it would do is shown first where it is more than a handful, then it is
done, or refused.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

import polars as pl
from flask import Response, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import acceptance
from nimbus_reef.analysis.acceptance import HANDFUL, Assessed
from nimbus_reef.analysis.proposals import proposals
from nimbus_reef.analysis.readings import reading
from nimbus_reef.core.checks import CHECKS
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.formats.typed import whole
from nimbus_reef.jobs import acceptances
from nimbus_reef.store.people import plans
from nimbus_reef.store.record import loads
from nimbus_reef.web.current import context, current_scope, figures, inside, must_write, services
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.previews import AcceptancePreview, preview
from nimbus_reef.web.params import Scope

AT_ONCE: Final = 2_000
"""So many changes are put into the plan at once; more are a worker's."""
_OWN: Final = ("csrf_token", "sure", "asked", "replacing", "offered", "take", "again")
"""What the preview's own form sends besides what it was asked with."""


def proposed(scope: Scope, view: str, keys: Sequence[str]) -> list[Proposal]:
    """What is proposed on rows of a view."""
    return proposals(services().facts, scope.selection, view, keys, context().planned_changes())


def accept_one(scope: Scope, proposal: Proposal) -> None:
    """Puts what is proposed on one row into the plan; Conflict where that cannot be."""
    replacing = request.form.getlist("replacing", type=whole)
    acceptance.accept_one(services().facts, scope.selection, must_write().id, proposal, replacing)


def put(
    scope: Scope,
    offered: Sequence[Proposal],
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
    asked = acceptance.assess(services().facts, scope.selection, offered, _left())
    shown = preview(asked, title, thing, scope.window.days, scope.account.settings, figures())
    gone = set(asked.replaced_rows) - set(request.form.getlist("replacing", type=whole))
    open_questions = bool(notice or gone or (shown.asks and not request.form.get("asked")))
    few = shown.changes <= HANDFUL and len(offered) == 1 and not (shown.asks or asked.acceptance.refused)
    if not open_questions and (request.form.get("sure") or few):
        return _done(scope, asked, shown, back)
    return render_template(
        "preview.html",
        action=action,
        preview=shown,
        back=back,
        notice=notice or {},
        asks_alone=asks_alone,
        sent=[(name, value) for name, value in request.form.items(multi=True) if name not in _OWN],
    )


def _left() -> frozenset[str]:
    """The keys of rows that were shown with a tick and sent back without."""
    return frozenset(request.form.getlist("offered")) - frozenset(request.form.getlist("take"))


def _done(scope: Scope, asked: Assessed, shown: AcceptancePreview, back: str) -> AnyResponse:
    who = must_write()
    if shown.changes > AT_ONCE:
        return _by_a_worker(scope, asked, back)
    done = acceptance.accept(services().facts, scope.selection, who.id, asked.going, asked.replaced_rows)
    write = figures()
    texts = [f"{write.counted(len(done.planned), 'change')} added to the plan"]
    if done.taken.replaced:
        texts.append(f"{write.counted(len(done.taken.replaced), 'change')} replaced")
    texts += [f"left out {each}" for each in (*shown.skipped, *shown.refused)]
    flash("; ".join(texts) + ".", "accepted" if done.planned else "message")
    return redirect(back)


def _by_a_worker(scope: Scope, asked: Assessed, back: str) -> AnyResponse:
    handed = acceptances.hand_over(
        services().config.exports,
        acceptance.packages(services().facts, scope.selection, asked.going),
        asked.replaced_rows,
    )
    job_id = loads.start_job(
        services().store,
        kind="accept",
        account_id=scope.account.id,
        person_id=must_write().id,
        upload_id=None,
        request=handed | {"back": back},
    )
    services().queue.start(job_id, "accept")
    return redirect(scope.elsewhere(url_for("plan.accepting", job_id=job_id)))


def take_out(scope: Scope) -> None:
    """Takes the changes that a form names out of the plan, each with all that it was proposed with."""
    plans.remove_many(services().store, scope.account.id, must_write().id, request.form.getlist("change", type=whole))


def selected() -> list[str]:
    """The rows that a form selects: those of a table, or the ones behind selected findings."""
    rows, found = request.form.getlist("rows"), request.form.getlist("findings")
    check = CHECKS.get(request.form.get("check", ""))
    if found and check is not None:
        read = reading(services().facts, current_scope().selection, check.reads)
        if "members" in read.columns:
            found = read.filter(pl.col("row_id").is_in(found))["members"].explode().to_list()
    return [*rows, *found]


def keys_of(ask: Context, rows: ListSpec) -> list[str]:
    """The keys of the rows of a list that a form selects, or of all that are filtered where it says so."""
    if not request.form.get("all"):
        return selected()
    return list(dict.fromkeys(listed(ask, rows).found.ordered[rows.key]))


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
