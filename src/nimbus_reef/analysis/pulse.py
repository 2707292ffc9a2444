"""The pulse of one brand account: what it spends and sells, how that moved, what is at stake."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date

import polars as pl

from nimbus_reef.analysis import fetching
from nimbus_reef.analysis.findings import SOURCES, Findings, findings_known
from nimbus_reef.analysis.lacking import lacking
from nimbus_reef.analysis.lost_pages import lost
from nimbus_reef.analysis.outcome import judged
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.totals import totals
from nimbus_reef.core.metrics import METRICS, TACOS, difference
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import closed_audits, hidden_findings, plans, rules
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.hidden_findings import PutAway
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads

_TRADE = "product_sales_daily"


@dataclass(frozen=True, slots=True)
class Sums:
    """Money of one window in micro-units; total_sales None where all trade is not held whole."""

    days: int
    spend: int
    sales: int
    total_sales: int | None

    @property
    def acos(self) -> float | None:
        """Spend ÷ sales."""
        return METRICS["acos"].value({"spend": self.spend, "sales": self.sales})

    @property
    def tacos(self) -> float | None:
        """Spend ÷ total sales."""
        if self.total_sales is None:
            return None
        return TACOS.value({"spend": self.spend, "total_sales": self.total_sales})


@dataclass(frozen=True, slots=True)
class Beat:
    """
    One account. source: the report of its totals. days: day, spend, sales of the window. overspend: wasted per 30 days
    in micro-units, None until it is computed. unread: no report to find problems in is loaded. lost: products whose
    page lost something (`lost_pages.lost`). cut: a sum of days that the window covers only in part. trouble: why
    reports do not come by themselves.
    """

    account: Account
    newest: date | None
    window: Window | None = None
    source: str | None = None
    days: pl.DataFrame | None = None
    now: Sums | None = None
    then: Sums | None = None
    overspend: int | None = None
    planned: int = 0
    loaded_at: date | None = None
    unread: bool = False
    lost: pl.DataFrame | None = None
    cut: tuple[Window, ...] = ()
    trouble: str = ""

    def moved(self, name: str) -> float | None:
        """Relative change of spend or sales per day; None without a base."""
        if self.now is None or self.then is None:
            return None
        now, then = getattr(self.now, name) / self.now.days, getattr(self.then, name) / self.then.days
        return difference(now, then).relative


def idle(facts: Facts, account: Account) -> Beat:
    """An account of which nothing is loaded."""
    return _begun(facts, account, None)


def _begun(facts: Facts, account: Account, newest: date | None) -> Beat:
    planned = len(plans.planned(facts.store, account.id))
    batches = loads.batches(facts.store, account.id, limit=1)
    loaded_at = batches[0].loaded_at.date() if batches else None
    trouble = fetching.trouble(facts.store, account.id)
    return Beat(account, newest, planned=planned, loaded_at=loaded_at, trouble=trouble)


def beat(facts: Facts, selection: Selection, today: date) -> Beat:
    """
    The pulse of an account, or of a part of it. today: in the account's time zone, for what is put
    away until some day.
    """
    account, window, against = selection.account, selection.window, selection.against
    begun = replace(_begun(facts, account, facts.newest_day(account.id)), window=window)
    found = totals(facts, selection)
    if found is None or not found.held_now:
        return replace(begun, unread=True)
    then = None
    if against and found.then is not None and found.held_then:
        then = _sums(facts, selection.at(against), found.then, found.held_then)
    known = findings_known(facts, selection, hidden_findings.away(facts.store, account.id), today)
    return replace(
        begun,
        source=found.source,
        days=found.now,
        now=_sums(facts, selection, found.now, found.held_now),
        then=then,
        overspend=known.overspend if known else None,
        unread=lacking(facts, account, window, SOURCES) is not None,
        lost=lost(facts, selection),
        cut=tuple(block for blocks in facts.cut(account.id, window).values() for block in blocks)[:1],
    )


def _sums(facts: Facts, selection: Selection, ads: pl.DataFrame, value: int) -> Sums:
    account, window = selection.account, selection.window
    trade = facts.by_day(account.id, _TRADE, window, ("total_sales",))
    # All trade is that of the whole account: beside a part of its ads it says nothing.
    whole = facts.held_days(account.id, _TRADE, window) == window.days and not selection.part
    return Sums(
        value, int(ads["spend"].sum()), int(ads["sales"].sum()), int(trade["total_sales"].sum()) if whole else None
    )


@dataclass(frozen=True, slots=True)
class Agenda:
    """
    What an account asks for. findings: those worked out already, else None; hidden: snoozed or dismissed; closed: the
    day of the last closed audit; failed: newest loads that failed, with their files; rules: lists whose own rules are
    due, and how many rules each; did_not: carried-out changes that did not keep their promise, as far as that was
    worked out.
    """

    account: Account
    newest: date | None
    findings: Findings | None
    hidden: Sequence[PutAway]
    closed: date | None
    planned: int
    failed: Sequence[tuple[loads.Job, str]]
    rules: Mapping[str, int] = field(default_factory=dict)
    did_not: int = 0


def _did_not(facts: Facts, selection: Selection | None) -> int:
    """How many carried-out changes did not keep their promise, as far as that was worked out."""
    found = judged.known(facts, selection) if selection is not None else None
    return sum(each.verdict is OutcomeVerdict.DID_NOT for each in found.entries) if found else 0


def agenda(facts: Facts, account: Account, selection: Selection | None, today: date) -> Agenda:
    """What an account asks for now; selection: None where nothing is loaded."""
    hidden = hidden_findings.away(facts.store, account.id)
    closed = closed_audits.closings(facts.store, account.id, most=1)
    return Agenda(
        account,
        facts.newest_day(account.id),
        findings_known(facts, selection, hidden, today) if selection is not None else None,
        hidden,
        closed[0].at.date() if closed else None,
        len(plans.planned(facts.store, account.id)),
        [(job, name) for job, name in loads.recent_jobs(facts.store, account.id) if job.state == "failed"],
        rules.due(rules.of_view(facts.store, account.id), rules.runs(facts.store, account.id), today),
        _did_not(facts, selection),
    )
