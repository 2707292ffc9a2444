"""Audits one after the other: what each found, what was new or gone since then, and what its changes brought."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, timedelta

from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome, Outcomes
from nimbus_reef.core.recurring import News, Since, since
from nimbus_reef.store.people import closed_audits
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.closed_audits import Closing
from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class AuditRound:
    """
    An audit of the whole account, None for the time before the first was closed. since: against the one before; sent:
    the changes that were sent from its day on, up to the day before the next one's.
    """

    closing: Closing | None
    since: Since
    sent: tuple[ChangeOutcome, ...]

    @property
    def sheets(self) -> list[int]:
        """The numbers of its sheets, in order."""
        return sorted({each.done.sending_id for each in self.sent})

    def count(self, news: News) -> int:
        """How many findings were new, or came back."""
        return self.since.count(news)


def rounds(facts: Facts, account: Account, found: Outcomes) -> list[AuditRound]:
    """The audits of an account that were closed, newest first, each with its changes."""
    closings = closed_audits.closings(facts.store, account.id, "")
    keys = [{(each["check"], each["row"]) for each in closing.found} for closing in closings]
    entries = []
    before = None
    for number, closing in enumerate(closings):
        begun = closing.at.date()
        entries.append(AuditRound(closing, since(keys[number], keys[number + 1 :]), _sent(found, begun, before)))
        before = begun
    earlier = _sent(found, date.min, before)
    return [*entries, AuditRound(None, since((), ()), earlier)] if earlier else entries


def _sent(found: Outcomes, first: date, before: date | None) -> tuple[ChangeOutcome, ...]:
    return tuple(
        each for each in found.entries if first <= each.done.sent and (before is None or each.done.sent < before)
    )


def sent_since(found: Outcomes, day: date) -> Sequence[ChangeOutcome]:
    """Changes that were sent from a day on."""
    return _sent(found, day, None)


def next_due(facts: Facts, account: Account) -> date | None:
    """The day on which the next audit is due by the account's schedule; None before a first one."""
    closings = closed_audits.closings(facts.store, account.id, "", most=1)
    return closings[0].at.date() + timedelta(days=account.settings.audit_days) if closings else None
