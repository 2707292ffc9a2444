"""A last check before changes are sent: whether the marketplace still holds what they were made from, and guards."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import guards
from nimbus_reef.core.changes import Action, number_of
from nimbus_reef.core.guards import Guard
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.projection import total
from nimbus_reef.core.promises import projected
from nimbus_reef.core.windows import month_factor
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.reading.facts import Facts


class Differs(StrEnum):
    """How the marketplace differs from what a change was made from."""

    MOVED = "moved"
    GONE = "gone"
    ALREADY = "already"


@dataclass(frozen=True, slots=True)
class HeldDifference:
    """A change whose field stands at another value by now."""

    planned: Planned
    held: str
    how: Differs


def differences(planned: Sequence[Planned], held: Mapping[int, str | None]) -> list[HeldDifference]:
    """Those of the changes that no longer start from what is there. held: by row, what the field stands at now."""
    found = []
    for each in planned:
        change = each.change
        if change.action is Action.CREATE or change.row not in held:
            continue
        now = held[change.row]
        if now is None:
            found.append(HeldDifference(each, "", Differs.GONE))
        elif _same(now, change.new_value):
            found.append(HeldDifference(each, now, Differs.ALREADY))
        elif change.old_value and not _same(now, change.old_value):
            found.append(HeldDifference(each, now, Differs.MOVED))
    return found


def _same(one: str, other: str) -> bool:
    numbers = number_of(one), number_of(other)
    return one == other if None in numbers else numbers[0] == numbers[1]


def month_of(facts: Facts, selection: Selection) -> tuple[float, float]:
    """Spend and sales of the whole account in 30 days, in units."""
    account, window = selection.account, selection.window
    source = facts.target_source(account.id, window).kind
    days = facts.by_day(account.id, source, window, ("spend", "sales"))
    monthly = month_factor(facts.monthly_days(account.id, source, window))
    spend, sales = (from_micro(int(days[name].sum())) * monthly for name in ("spend", "sales"))
    return spend, sales


def guards_of(facts: Facts, selection: Selection, planned: Sequence[Planned], others: Iterable[str]) -> list[Guard]:
    """The limits of the account's settings that sending these changes is beyond. others: who else is at work."""
    limits = selection.account.settings
    sent = [(each.change, each.promise) for each in planned]
    return guards.beyond(sent, month_of(facts, selection), (limits.send_spend_share, limits.send_sales_share), others)


def needs_second(selection: Selection, planned: Sequence[Planned]) -> bool:
    """Whether sending these changes needs somebody else's yes."""
    limits = selection.account.settings
    moved = abs(total(projected(each.change, each.promise) for each in planned).spend.middle)
    return guards.needs_second(len(planned), moved, limits.send_rows_alone, limits.send_spend_alone)
