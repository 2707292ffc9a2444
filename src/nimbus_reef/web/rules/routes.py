"""Own actions on rows of any list, and own rules: listed, changed, ordered, run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Final

from flask import Blueprint, flash, redirect, render_template, request, url_for
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis.judged import Judged
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.tiers import SETS_LIMITS
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.typed import whole
from nimbus_reef.store.people import rules as store_rules
from nimbus_reef.store.people.rules import Rule
from nimbus_reef.store.reading.facts import TARGET_SOURCES
from nimbus_reef.web import acting
from nimbus_reef.web.current import context, current_scope, figures, is_first_answer, must_manage, must_write, services
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.kit.judging import judged_first
from nimbus_reef.web.kit.lacking import need
from nimbus_reef.web.kit.opened import KINDS_OF_ROWS, path
from nimbus_reef.web.rules import pages
from nimbus_reef.web.rules.register import LISTS, TITLES, acted

rules = Blueprint("rules", __name__, url_prefix="/rules")
_JUDGED: Final[Mapping[str, Judged]] = {"targets": Judged.TARGETS, "terms": Judged.TERMS, "ads": Judged.ADS}


_VIEW_OF: Final[Mapping[Subject, str]] = {Subject.TARGET: "targets", Subject.TERM: "terms", Subject.AD: "ads"}


@rules.get("/")
def index() -> AnyResponse:
    """Opens on the rules of the first list."""
    return redirect(current_scope().link(url_for("rules.view", view=next(iter(LISTS)))))


@rules.get("/<view>")
def view(view: str) -> str:
    """The rules of a list."""
    acted(view)
    scope, facts = current_scope(), services().facts
    need(facts, scope, TARGET_SOURCES, figures())
    if view in _JUDGED:
        judged_first(facts, scope, _JUDGED[view], first=is_first_answer())
    return render_template("rules/rules.html", **shown(pages.page(context(), view, _number("rule"))))


def _number(name: str) -> int:
    text = request.values.get(name, "")
    return whole(text) if text.isdigit() else 0


def _rule(view: str) -> Rule:
    """The rule that a form is about; NotFound where it is gone, NotAllowed where it is for all brands."""
    known = store_rules.of_view(services().store, current_scope().account.id, view)
    found = next((each for each in known if each.id == _number("rule")), None)
    if found is None:
        raise NotFound("This rule does not exist any more.", remedy="Reload the page.")
    if found.everywhere:
        must_manage()
    return found


@rules.post("/<view>")
def save(view: str) -> AnyResponse:
    """Adds a rule or changes one."""
    who, scope, ask = must_write(), current_scope(), context()
    triples = zip(
        request.form.getlist("compared"),
        request.form.getlist("comparison"),
        request.form.getlist("amount"),
        strict=False,
    )
    conditions = [f"{key}:{operator}:{amount.strip()}" for key, operator, amount in triples if key and amount.strip()]
    rule = pages.read(ask, view, request.form, conditions)
    everywhere = bool(request.form.get("everywhere"))
    if everywhere:
        must_manage()
    changed = _rule(view).id if _number("rule") else 0
    rule = replace(rule, everywhere=everywhere, id=changed)
    words = pages.words_of(ask, rule)
    store_rules.save(services().store, scope.account.id, who.id, rule, words)
    flash(f"Rule saved: {words.removeprefix('own rule: ')}.")
    return _back(view)


@rules.post("/<view>/remove")
def remove(view: str) -> AnyResponse:
    """Takes a rule away."""
    who, found = must_write(), _rule(view)
    store_rules.remove(services().store, current_scope().account.id, who.id, found, pages.words_of(context(), found))
    flash("Rule removed.")
    return _back(view)


@rules.post("/<view>/move")
def move(view: str) -> AnyResponse:
    """Puts a rule before the one above it, or behind the one below."""
    who, found, scope = must_write(), _rule(view), current_scope()
    known = store_rules.of_view(services().store, scope.account.id, view)
    ids = [each.id for each in known if each.everywhere == found.everywhere]
    at = ids.index(found.id)
    to = at + (1 if request.form.get("to") == "down" else -1)
    if 0 <= to < len(ids):
        ids[at], ids[to] = ids[to], ids[at]
        store_rules.order(services().store, scope.account.id, who.id, view, ids)
    return _back(view)


@rules.post("/<view>/run")
def run(view: str) -> AnyResponse | str:
    """What the rules come to now: shown first, then put into the plan."""
    must_write()
    scope = current_scope()
    found = pages.ran(context(), view, raises=bool(request.form.get("raises")))
    answer = _put(view, found, {}, url_for("rules.run", view=view), scope.link(url_for("rules.view", view=view)))
    if isinstance(answer, AnyResponse):
        store_rules.was_run(services().store, scope.account.id, view)
    return answer


@rules.post("/<view>/act")
def act(view: str) -> AnyResponse | str:
    """Does an action on the selected rows, or on all that are filtered; first it says what that is."""
    who, scope, ask = must_write(), current_scope(), context()
    keys = None if request.form.get("all") else acting.selected()
    if request.form.get("do", "") in SETS_LIMITS and acted(view)[1].level:
        flash(pages.limits_set(ask, view, keys, request.form, who.id))
        return redirect(acting.back_to(scope, scope.link(path(ask, view), open="")), 303)
    found = pages.by_hand(ask, view, keys, request.form, raises=bool(request.form.get("raises")))
    back = acting.back_to(scope, scope.link(path(ask, view), open=""))
    return _put(view, found.proposals, found.notice, url_for("rules.act", view=view), back)


def _put(
    view: str, offered: Sequence[Proposal], notice: Mapping[str, str], action: str, back: str
) -> AnyResponse | str:
    # Some actions on a row are done to what is in it: those are what is shown.
    of = next((_VIEW_OF[each.subject.kind] for each in offered if each.subject.kind in _VIEW_OF), view)
    return acting.put(
        current_scope(),
        offered,
        title=f"Preview: {figures().counted(len(offered), KINDS_OF_ROWS[of], TITLES[of].lower())}",
        thing=KINDS_OF_ROWS[of],
        action=action,
        notice=notice,
        asks_alone=True,
        back=back,
    )


def _back(view: str) -> AnyResponse:
    return redirect(current_scope().link(url_for("rules.view", view=view), where=(), query=""), 303)
