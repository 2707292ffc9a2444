"""Pulse: every account of the person on one page; what is at stake comes after, where it takes long."""

from __future__ import annotations

from datetime import UTC, datetime

from flask import Blueprint, render_template, request

from nimbus_reef.core import change
from nimbus_reef.core.targeting import Aims
from nimbus_reef.jobs import audit, movement, standing
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.jobs.lacking import lacking
from nimbus_reef.jobs.pulse import Beat, beat
from nimbus_reef.store import aims, away
from nimbus_reef.store.accounts import Account
from nimbus_reef.web import params
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import account_of, my_accounts, parts
from nimbus_reef.web.pulse import pages
from nimbus_reef.web.strips import ahead_words

pulse = Blueprint("pulse", __name__, url_prefix="/pulse")


def _scope_of(account: Account) -> Scope:
    """The same days for every account, counted back from its own newest; its own target."""
    args = request.values.copy()
    args.poplist("target_acos")
    return params.of_account(args, account, parts().facts)


def _beat(account: Account) -> Beat:
    what = _scope_of(account)
    held = what.newest is not None
    return beat(
        parts().facts,
        account,
        what.window if held else None,
        what.against if held else None,
        what.newest,
        what.narrow,
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
    what = _scope_of(account)
    facts, write = parts().facts, Figures(account.locale, account.currency)
    if what.newest is None:
        return render_template("pulse/_mover.html", account=account, weak="", who="")
    aim = aims.aims(parts().store, account)
    key = ("mover", account.id, facts.generation(account.id), what.window, what.against, aim, what.narrow)
    weak, who = facts.cache.get(key, lambda: _weak_and_mover(account, what, aim, write))
    return render_template("pulse/_mover.html", account=account, weak=weak, who=who)


def _weak_and_mover(account: Account, what: Scope, aim: Aims, write: Figures) -> tuple[str, str]:
    facts, weak, who = parts().facts, "", ""
    on = standing.ground(facts, account, what.window, what.narrow)
    told = {
        metric: each.standing.percentile
        for metric, each in standing.places(on, on.rows).items()
        if each.standing.percentile is not None
    }
    if told:
        weakest = min(told, key=lambda metric: told[metric])
        weak = f"{weakest.upper()}, {ahead_words(told[weakest], write).removesuffix(' of peers')}"
    if what.against is not None:
        sides = movement.sides(facts, account, what.window, what.against, aim, "product", what.narrow)
        split = change.split_acos(sides)
        if split is not None and len(split):
            # The one that pulled most the way it went, not the one that held most against it.
            rose = float(split["part"].sum()) >= 0
            most = split.sort("pull", descending=rose).row(0, named=True)
            who = f"{most['key']}, {write.signed(most['pull'] * 100, 1)} pt of ACOS"
    return weak, who


@pulse.get("/at-stake")
def at_stake() -> str:
    """What is at stake in one account, worked out now."""
    account = account_of(request.args.get("account"))
    what = _scope_of(account)
    if what.newest is None or lacking(parts().facts, account, what.window, audit.SOURCES):
        return "–"
    found = audit.findings(
        parts().facts, account, what.window, aims.aims(parts().store, account),
        away.away(parts().store, account.id), today_of(account), what.narrow,
    )  # fmt: skip
    return Figures(account.locale, account.currency).micro(found.overspend)
