"""Pulse: every account of the person on one page; what is at stake comes after, where it takes long."""

from __future__ import annotations

from datetime import UTC, datetime

from flask import Blueprint, render_template, request
from werkzeug.wrappers import Response as AnyResponse

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis import pulse as pulses
from nimbus_reef.analysis.findings import SOURCES, findings
from nimbus_reef.analysis.lacking import lacking
from nimbus_reef.analysis.pulse import Beat, beat, idle
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.wording import ahead_words
from nimbus_reef.core import change
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import target_acos
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.web import params
from nimbus_reef.web.current import account_of, away_from, my_accounts, services
from nimbus_reef.web.downloads import hand_out
from nimbus_reef.web.kit.context import shown
from nimbus_reef.web.params import Scope
from nimbus_reef.web.pulse import compare_pages, pages

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
        else beat(services().facts, scope.selection, today_of(account))
    )


@pulse.get("/")
def index() -> str:
    """One line per account, by currency, and what all of them ask for."""
    beats = [_beat(account) for account in my_accounts()]
    asked = request.args
    query, sort = asked.get("q", ""), asked.get("sort", "")
    return render_template(
        "pulse/pulse.html",
        purses=pages.purses(beats, datetime.now(UTC).date(), query, sort),
        heads=pages.heads(sort),
        query=query,
        agenda=_agenda(),
    )


@pulse.get("/brands")
def brands() -> str:
    """Chosen brands side by side, metric by metric."""
    return render_template("pulse/brands.html", **shown(compare_pages.page(_compared(), my_accounts())))


@pulse.get("/brands/export.<ending>")
def export_brands(ending: str) -> AnyResponse:
    """The same as a file."""
    return hand_out(compare_pages.file(_compared()), ending)


def _compared() -> list[compare_pages.ComparedBrand]:
    """The brands that are asked for, else the first few."""
    wanted = request.args.getlist("brand")
    unknown = set(wanted) - {each.key for each in my_accounts()}
    if unknown:
        raise NotFound(f"There is no account “{min(unknown)}” for you.", remedy="Choose one from the list.")
    accounts = [each for each in my_accounts() if not wanted or each.key in wanted][: compare_pages.MOST]
    found = []
    for account in accounts:
        scope = _scope_of(account)
        selection = scope.selection if scope.newest is not None else None
        found.append(compare_pages.told(services().facts, account, selection))
    return found


@pulse.get("/agenda")
def agenda() -> str:
    """What all brands ask for, asked again while findings of some are being calculated."""
    return render_template("pulse/_agenda.html", agenda=_agenda())


def _agenda() -> pages.AgendaView:
    entries = []
    for account in my_accounts():
        scope = _scope_of(account)
        selection = scope.selection if scope.newest is not None else None
        entries.append(pulses.agenda(services().facts, account, selection, today_of(account)))
    return pages.agenda(entries, datetime.now(UTC).date())


@pulse.get("/mover")
def mover() -> str:
    """The weakest metric of one account and the product that moved it most, worked out now."""
    account = account_of(request.args.get("account"))
    scope = _scope_of(account)
    facts, figures = services().facts, Figures(account.locale, account.currency)
    if scope.newest is None:
        return render_template("pulse/_mover.html", account=account, weak="", who="")
    weak, who = facts.kept("mover", account.id, lambda: _weak_and_mover(scope.selection, figures), scope.selection)
    return render_template("pulse/_mover.html", account=account, weak=weak, who=who)


def _weak_and_mover(selection: Selection, figures: Figures) -> tuple[str, str]:
    facts, weak, who = services().facts, "", ""
    by_key = {
        metric: each.standing.percentile
        for metric, each in standing.account_places(facts, selection).items()
        if each.standing.percentile is not None
    }
    if by_key:
        weakest = min(by_key, key=lambda metric: by_key[metric])
        weak = f"{weakest.upper()}, {ahead_words(by_key[weakest], figures).removesuffix(' of peers')}"
    if selection.against is not None:
        sides = movement.sides(facts, selection, "product")
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
    found = findings(services().facts, scope.selection, put_away, today_of(account))
    return Figures(account.locale, account.currency).micro(found.overspend)
