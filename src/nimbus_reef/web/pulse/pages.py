"""What Pulse says: one line per account, and what all of them ask for this week."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any, Final

from nimbus_reef.analysis.pulse import Agenda, Beat
from nimbus_reef.core.checks import CHECKS, Money
from nimbus_reef.core.glossary import definition
from nimbus_reef.core.metrics import TACOS, ratio
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.beats import STALE_DAYS, BeatLine, line
from nimbus_reef.web.kit.opened import KINDS_OF_ROWS

WEEK_LINES: Final = 9
RETURN_DAYS: Final = 7
_FIGURES: Final[Mapping[str, Callable[[Beat], Any]]] = {
    "name": lambda each: (each.account.brand, each.account.country),
    "spend": lambda each: each.now.spend if each.now else None,
    "sales": lambda each: each.now.sales if each.now else None,
    "acos": lambda each: each.now.acos if each.now else None,
    "tacos": lambda each: each.now.tacos if each.now else None,
    "stake": lambda each: each.overspend,
    "loaded": lambda each: each.loaded_at,
}
"""What accounts are sorted by."""


@dataclass(frozen=True, slots=True)
class Purse:
    """The accounts of one currency, and what they come to: currencies are never added together."""

    currency: str
    lines: tuple[BeatLine, ...]
    spend: str
    sales: str
    acos: str


@dataclass(frozen=True, slots=True)
class PulseHead:
    """A column: sort: what a click asks for; sorted: how it is sorted now, for a reader of the page."""

    label: str
    definition: str = ""
    sort: str = ""
    sorted: str = ""
    css: str = ""


def heads(sort: str) -> list[PulseHead]:
    """The columns in their order."""

    def head(label: str, key: str, words: str = "", css: str = "") -> PulseHead:
        down = sort == f"-{key}"
        return PulseHead(
            label, words, key if down else f"-{key}", "descending" if down else "ascending" if sort == key else "", css
        )

    return [
        head("brand", "name", css="first"),
        PulseHead("sales over spend, by day", css="words"),
        head("spend", "spend"),
        head("sales", "sales"),
        head("ACOS", "acos", definition("ACOS")),
        head("TACOS", "tacos", f"{definition(TACOS.label)}. Needs product sales for every day"),
        head("wasted per 30 days", "stake", "Likely spend above target per 30 days, the same money counted once"),
        PulseHead(
            "weakest metric, biggest driver",
            "Lowest metric against peers, and the product that moved ACOS most",
            css="words",
        ),
        head("loaded", "loaded"),
        PulseHead("next", css="words"),
    ]


def purses(beats: Sequence[Beat], today: date, query: str = "", sort: str = "") -> list[Purse]:
    """Accounts by currency, as they come or sorted; query: words of their names. BadInput for an unknown sort."""
    words = query.lower().split()
    kept = [each for each in beats if all(word in _named(each) for word in words)]
    if sort:
        key = _FIGURES.get(sort.removeprefix("-"))
        if key is None:
            raise BadInput(f"Brands are not sorted by “{sort}”.", remedy=f"Use {', '.join(_FIGURES)}.")
        known = sorted((each for each in kept if key(each) is not None), key=key, reverse=sort.startswith("-"))
        kept = known + [each for each in kept if key(each) is None]
    found: dict[str, list[Beat]] = {}
    for each in kept:
        found.setdefault(each.account.currency, []).append(each)
    return [_purse(currency, own, today) for currency, own in found.items()]


def _named(beat: Beat) -> str:
    account = beat.account
    return f"{account.brand} {account.country} {account.marketplace} {account.key}".lower()


def _purse(currency: str, beats: Sequence[Beat], today: date) -> Purse:
    figures = Figures(beats[0].account.locale, currency)
    spend = sum(each.now.spend for each in beats if each.now)
    sales = sum(each.now.sales for each in beats if each.now)
    return Purse(
        currency,
        tuple(line(each, today) for each in beats),
        figures.micro(spend),
        figures.micro(sales),
        figures.rate(ratio(spend, sales)),
    )


@dataclass(frozen=True, slots=True)
class AgendaLine:
    """One thing to do. opens: endpoint and its arguments besides the account's key."""

    key: str
    brand: str
    words: str
    amount: str
    opens: str
    args: Mapping[str, str]
    beside: str = ""


@dataclass(frozen=True, slots=True)
class AgendaView:
    """All brands: what to do this week by money, by currency; what broke; what is due; waiting: not calculated yet."""

    week: Mapping[str, Sequence[AgendaLine]]
    broke: Sequence[AgendaLine]
    due: Sequence[AgendaLine]
    waiting: int


def agenda(entries: Sequence[Agenda], today: date) -> AgendaView:
    """What all brands ask for."""
    return AgendaView(
        _week(entries),
        [line for each in entries for line in _broke(each)],
        [line for each in entries for line in _due(each, today)],
        sum(each.newest is not None and each.findings is None for each in entries),
    )


_KINDS: Final = {
    Money.OVERSPEND: "wasted",
    Money.OWN: "wasted",
    Money.MISSED: "missed sales",
    Money.GAIN: "expected gain",
}


def _week(entries: Sequence[Agenda]) -> dict[str, list[AgendaLine]]:
    """The largest kinds of findings of each currency."""
    found: dict[str, list[tuple[int, AgendaLine]]] = {}
    for each in entries:
        figures = Figures(each.account.locale, each.account.currency)
        for group in each.findings.groups if each.findings else ():
            if group.check.money not in _KINDS or group.check.urgent or group.stake <= 0:
                continue
            amount = f"{figures.micro(group.stake)} {_KINDS[group.check.money]}"
            opened = replace(
                _line(each, group.check.title, amount, "findings.opened", key=group.check.key), beside=group.check.to_do
            )
            found.setdefault(each.account.currency, []).append((group.stake, opened))
    return {
        currency: [line for _, line in sorted(lines, key=lambda pair: -pair[0])[:WEEK_LINES]]
        for currency, lines in found.items()
    }


def _broke(each: Agenda) -> list[AgendaLine]:
    """Pages that lost content, conversion that dropped, loads that failed."""
    figures = Figures(each.account.locale, each.account.currency)
    lines = []
    for group in each.findings.groups if each.findings else ():
        if group.check.urgent or group.check is CHECKS["page-broke"]:
            named = str(group.rows["name"][0])
            more = f" and {figures.count(len(group.rows) - 1)} more" if len(group.rows) > 1 else ""
            lines.append(_line(each, f"{group.check.title}: {named}{more}", "", "findings.opened", key=group.check.key))
    for job, name in each.failed[:1]:
        lines.append(_line(each, f"Load failed: {name or job.kind}. {job.message}", "", "intake.index"))
    return lines


def _due(each: Agenda, today: date) -> list[AgendaLine]:
    """Loads, changes to send, audits, findings that return."""
    figures = Figures(each.account.locale, each.account.currency)
    if each.newest is None:
        return [_line(each, "Load a first report.", "", "intake.index")]
    lines = []
    age = (today - each.newest).days
    if age > STALE_DAYS:
        lines.append(_line(each, f"Load newer days: the newest is {age} days old.", "", "intake.index"))
    if each.planned:
        lines.append(_line(each, f"Send {figures.counted(each.planned, 'planned change')}.", "", "plan.index"))
    if each.closed is None:
        lines.append(_line(each, "Close a first audit.", "", "findings.index"))
    elif (today - each.closed).days >= each.account.settings.audit_days:
        lines.append(
            _line(each, f"Audit: the last one is {(today - each.closed).days} days old.", "", "findings.index")
        )
    if each.did_not:
        kept_not = figures.counted(each.did_not, "change")
        lines.append(_line(each, f"Take back {kept_not} that did not keep the promise.", "", "outcome.index"))
    for view, count in each.rules.items():
        words = f"Run {figures.counted(count, 'rule')} on {KINDS_OF_ROWS[view]} rows."
        lines.append(_line(each, words, "", "rules.view", view=view))
    soon = [put.until_day for put in each.hidden if put.until_day and 0 <= (put.until_day - today).days <= RETURN_DAYS]
    if soon:
        words = f"{figures.counted(len(soon), 'snoozed finding')} {'returns' if len(soon) == 1 else 'return'}"
        lines.append(_line(each, f"{words} from {figures.day(min(soon))}.", "", "findings.index"))
    return lines


def _line(each: Agenda, words: str, amount: str, opens: str, **args: str) -> AgendaLine:
    return AgendaLine(each.account.key, f"{each.account.brand}, {each.account.country}", words, amount, opens, args)
