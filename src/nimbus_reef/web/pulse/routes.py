"""Pulse: every account of the person on one page; what is at stake comes after, where it takes long."""

from __future__ import annotations

from datetime import UTC, datetime

from flask import Blueprint, render_template, request

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.findings import SOURCES, findings
from nimbus_reef.analysis.lacking import lacking
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.pulse import Beat, beat, idle
from nimbus_reef.analysis.wording import ahead_words
from nimbus_reef.core import change
from nimbus_reef.formats.figures import Figures
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import target_acos
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.web import params
from nimbus_reef.web.current import account_of, away_from, my_accounts, services
from nimbus_reef.web.params import Scope
from nimbus_reef.web.pulse import pages

pulse = Blueprint("pulse", __name__, url_prefix="/pulse")


def _scope_of(account: Account) -> Scope:
    """The same days for every account, counted back from its own newest; its own targets."""
    args = request.values.copy()
    args.poplist("target_acos")
    return params.of_account(args, account, services().facts, target_acos.aims(services().store, account))


def _beat(account: Account) -> Beat:
    scope = _scope_of(account)
    return (
        idle(services().facts, account)
        if scope.newest is None
        else beat(services().facts, scope.look, today_of(account))
    )


@pulse.get("/")
def look() -> str:
    """One line per account, by currency."""
    beats = [_beat(account) for account in my_accounts()]
    return render_template("pulse/pulse.html", purses=pages.purses(beats, datetime.now(UTC).date()))


@pulse.get("/mover")
def mover() -> str:
    """The weakest metric of one account and the product that moved it most, worked out now."""
    account = account_of(request.args.get("account"))
    scope = _scope_of(account)
    facts, figures = services().facts, Figures(account.locale, account.currency)
    if scope.newest is None:
        return render_template("pulse/_mover.html", account=account, weak="", who="")
    weak, who = facts.kept("mover", account.id, lambda: _weak_and_mover(scope.look, figures), scope.look)
    return render_template("pulse/_mover.html", account=account, weak=weak, who=who)


def _weak_and_mover(look: Look, figures: Figures) -> tuple[str, str]:
    facts, weak, who = services().facts, "", ""
    told = {
        metric: each.standing.percentile
        for metric, each in standing.account_places(facts, look).items()
        if each.standing.percentile is not None
    }
    if told:
        weakest = min(told, key=lambda metric: told[metric])
        weak = f"{weakest.upper()}, {ahead_words(told[weakest], figures).removesuffix(' of peers')}"
    if look.against is not None:
        sides = movement.sides(facts, look, "product")
        split = change.split_acos(sides)
        if split is not None and len(split):
            # The one that pulled most the way it went, not the one that held most against it.
            rose = float(split["part"].sum()) >= 0
            most = split.sort("pull", descending=rose).row(0, named=True)
            who = f"{most['key']}, {figures.signed(most['pull'] * 100, 1)} pt of ACOS"
    return weak, who


@pulse.get("/at-stake")
def at_stake() -> str:
    """What is at stake in one account, worked out now."""
    account = account_of(request.args.get("account"))
    scope = _scope_of(account)
    if scope.newest is None or lacking(services().facts, account, scope.window, SOURCES):
        return "–"
    put_away = away_from(account.id)
    found = findings(services().facts, scope.look, put_away, today_of(account))
    return Figures(account.locale, account.currency).micro(found.overspend)
