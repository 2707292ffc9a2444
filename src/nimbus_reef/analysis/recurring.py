"""An audit of an account against those of it that were closed before."""

from __future__ import annotations

from dataclasses import dataclass

from nimbus_reef.analysis.findings import Findings
from nimbus_reef.core.recurring import Key, Since, since
from nimbus_reef.store.people import closed_audits
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.closed_audits import Closing
from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class Recurring:
    """The closed audits of one part of an account, newest first, and what changed since the last."""

    closings: tuple[Closing, ...]
    since: Since

    @property
    def last(self) -> Closing | None:
        """The audit that this one is measured by."""
        return self.closings[0] if self.closings else None


def since_last(facts: Facts, account: Account, found: Findings, part: str) -> Recurring:
    """Compares what is found now with the closed audits of the same part."""
    before = tuple(closed_audits.closings(facts.store, account.id, part))
    keys = [_keys(each) for each in before]
    now = {(group.check.key, row_id) for group in found.groups for row_id in group.rows["row_id"].to_list()}
    changed = since(now, keys, {(each.check, each.row_id) for each in found.hidden})
    if not part:
        # For the rail, which must not work it out; see `news_known`.
        facts.note("news", account.id, len(changed.news))
    return Recurring(before, changed)


def news_known(facts: Facts, account: Account) -> int:
    """How many findings are news, as far as that was worked out since the last load."""
    known: int | None = facts.known("news", account.id)
    return known or 0


def _keys(closing: Closing) -> set[Key]:
    return {(each["check"], each["row"]) for each in closing.found}
