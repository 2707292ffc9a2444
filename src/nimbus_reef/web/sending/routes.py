"""Changes on their way to a marketplace: the last look, sending, results, approval, taking back."""

from __future__ import annotations

import tempfile
import uuid
from collections.abc import Mapping, Sequence
from pathlib import Path

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import acceptance, leaving, taking_back
from nimbus_reef.core.changes import ChangeState
from nimbus_reef.errors import BadInput, Conflict, MarketplaceAway, MarketplaceRefused, NotAllowed
from nimbus_reef.formats import change_sheet, sandbox
from nimbus_reef.formats.typed import whole
from nimbus_reef.jobs import marketplaces
from nimbus_reef.jobs.queue import ask_marketplace
from nimbus_reef.store.people import marketplace_links, plans, sendings
from nimbus_reef.store.people.people import Person
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.people.sendings import RowAnswer, SendingState
from nimbus_reef.store.record import workers
from nimbus_reef.web.current import context, current_scope, figures, must_write, person, services
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.sending import pages

sending = Blueprint("sending", __name__, url_prefix="/plan/sendings")


def must_send() -> Person:
    """Who is signed in, if they may send; NotAllowed otherwise."""
    who = must_write()
    if not who.may_send:
        raise NotAllowed("You may plan changes, but not send them.", remedy="Ask an owner for the right to send.")
    return who


def _held(chosen: Sequence[Planned]) -> tuple[Mapping[int, str | None] | None, str]:
    """What the marketplace holds of the changes, by row; else why it could not be asked."""
    rows = [change_sheet.as_row(each.change) for each in chosen]
    services_, account = services(), current_scope().account
    try:
        with marketplaces.connected(services_.config, services_.store, account.id, marketplaces.HURRIED) as there:
            return there.held(rows), ""
    except (MarketplaceAway, MarketplaceRefused) as problem:
        return None, problem.message


@sending.get("/new")
def check() -> str:
    """What is about to be sent, and what speaks against it."""
    ids = request.args.getlist("rows", type=whole)
    return _check_page(ids)


def _check_page(ids: Sequence[int]) -> str:
    store, account, who = services().store, current_scope().account, person()
    link, chosen = marketplace_links.link(store, account.id), leaving.chosen(services().facts, account.id, ids)
    held, away = _held(chosen) if link and chosen else (None, "")
    others = leaving.others_at_work(services().facts, account.id, who)
    view = pages.check(
        context(), chosen, held, away, others, ids=ids, token=uuid.uuid4().hex, link=link, may_send=who.may_send
    )
    return render_template("sending/check.html", **shown(view))


@sending.post("/")
def send() -> AnyResponse:
    """Hands changes over to be sent."""
    who, scope, store, form = must_send(), current_scope(), services().store, request.form
    account, ids, token = scope.account, form.getlist("rows", type=whole), form.get("token", "")
    if not 16 <= len(token) <= 64:
        raise BadInput("This form is not complete.", remedy="Open the plan and send from there.")
    held, _ = _held(leaving.chosen(services().facts, account.id, ids))
    over = frozenset(form.getlist("over", type=whole))
    asked = leaving.Leaving(ids, held, over, form.get("reason", "").strip(), token)
    number = leaving.hand_over(services().facts, scope.selection, who, asked, figures())
    ask_marketplace(store, services().queue, account.id)
    return redirect(scope.elsewhere(url_for("sending.one", sending_id=number)), 303)


@sending.get("/<int:sending_id>")
def one(sending_id: int) -> str:
    """A sending: how far it is, and what was said to each row."""
    return _one("one", sending_id)


@sending.get("/<int:sending_id>/progress")
def progress(sending_id: int) -> str:
    """The same, for following it live."""
    return _one("_sending", sending_id)


def _one(page: str, sending_id: int) -> str:
    store, scope = services().store, current_scope()
    entry = sendings.one(store, scope.account.id, sending_id)
    view = pages.sending(
        entry,
        sendings.changes_of(store, sending_id),
        plans.planned(store, scope.account.id),
        scope.page,
        figures(),
        person().id,
    )
    nobody = entry.open and not workers.present(store)
    return render_template(
        f"sending/{page}.html", nobody=nobody, may_send=person().may_send, alone=page != "one", **shown(view)
    )


def _back_to(sending_id: int) -> AnyResponse:
    return redirect(current_scope().elsewhere(url_for("sending.one", sending_id=sending_id)), 303)


@sending.post("/<int:sending_id>/approve")
def approve(sending_id: int) -> AnyResponse:
    """Lets a sending go that somebody else asked for."""
    who, scope = must_send(), current_scope()
    sendings.approve(services().store, scope.account.id, who.id, sending_id)
    ask_marketplace(services().store, services().queue, scope.account.id)
    return _back_to(sending_id)


@sending.post("/<int:sending_id>/cancel")
def cancel(sending_id: int) -> AnyResponse:
    """Takes back what has not left yet."""
    who, scope = must_write(), current_scope()
    count = sendings.cancel(services().store, scope.account.id, who.id, sending_id)
    flash(f"Cancelled. {figures().counted(count, 'change')} back in the plan.")
    return _back_to(sending_id)


@sending.post("/<int:sending_id>/results")
def results(sending_id: int) -> AnyResponse:
    """Reads the result file of a sheet that was uploaded by hand."""
    who, scope = must_write(), current_scope()
    file = request.files.get("results")
    if file is None or not file.filename:
        raise BadInput("No file chosen.", remedy="Choose the result file.")
    entry = sendings.one(services().store, scope.account.id, sending_id)
    if entry.state is not SendingState.SHEET:
        raise Conflict("This sending gets its answers from the marketplace.", remedy="Wait for them.")
    with tempfile.NamedTemporaryFile(dir=services().config.scratch) as kept:
        file.save(kept)
        kept.flush()
        rows = sandbox.result_rows(Path(kept.name), file.filename)
    sent = {each.change.row for each in sendings.changes_of(services().store, sending_id)}
    if strange := sorted({row for row, *_ in rows} - sent):
        raise BadInput(
            f"Row {strange[0]} is not in this sheet.", remedy="Choose the result file of this sheet. Nothing was noted."
        )
    answers = [RowAnswer(*row) for row in rows]
    last = len({row for row, *_ in rows}) >= entry.waiting
    done = sendings.note_answers(services().store, scope.account.id, who.id, sending_id, answers, last=last)
    flash(f"Result file read: {figures().counted(done, 'change')} done.")
    return _back_to(sending_id)


@sending.post("/<int:sending_id>/take-back")
def take_back(sending_id: int) -> AnyResponse:
    """Puts what undoes a sending's changes into the plan, to be sent as a sheet of its own."""
    who, scope = must_write(), current_scope()
    sendings.one(services().store, scope.account.id, sending_id)
    rows = set(request.form.getlist("rows", type=whole))
    sent = sendings.changes_of(services().store, sending_id)
    keys = [str(each.id) for each in sent if each.result is ChangeState.DONE and (not rows or each.id in rows)]
    proposals = [each for each in taking_back.proposals(services().facts, scope.selection, keys) if each.package]
    if not proposals:
        raise Conflict("Nothing here can be taken back.", remedy="Open the plan.")
    assessed = acceptance.assess(services().facts, scope.selection, proposals)
    if not assessed.going:
        raise Conflict(
            "Nothing was added: the plan changes these things, or clicks above target would cost more than today.",
            remedy="Open one of them in Outcome to see which.",
        )
    accepted = acceptance.accept(
        services().facts, scope.selection, who.id, assessed.going, replacing=assessed.replaced_rows
    )
    left = len(proposals) - len(assessed.going)
    rest = (
        f" {figures().count(left)} left out: the plan changes them, or clicks above target would cost more."
        if left
        else ""
    )
    flash(
        f"{figures().counted(len(accepted.planned), 'change')} added to the plan. Send them to take this back.{rest}",
        "accepted",
    )
    return redirect(scope.elsewhere(url_for("plan.index")), 303)
