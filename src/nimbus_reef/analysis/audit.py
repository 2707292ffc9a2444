"""One audit of one account over one window: what each check of the overspend finds, and its weight."""

from __future__ import annotations

from dataclasses import dataclass

from nimbus_reef.analysis.readings import reading
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import checks
from nimbus_reef.core.checks import Found, Money, Reading
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading.facts import Facts, TargetSource


@dataclass(frozen=True, slots=True)
class Audit:
    """
    found: every check on the overspend, largest stake first; spend, sales: of all that was looked at.

    Money is in micro-units.
    """

    selection: Selection
    source: TargetSource
    found: tuple[Found, ...]
    spend: int
    sales: int


def run(facts: Facts, selection: Selection) -> Audit:
    """Judges every target and term; NotFound when the window holds nothing."""
    window = selection.window
    source = facts.target_source(selection.account.id, window)
    if not source.days:
        raise NotFound(
            f"No report covers {window.first} to {window.last}.",
            place=selection.account.key,
            remedy="Load targets or search terms for this period, or choose another period.",
        )
    targets = reading(facts, selection, Reading.TARGETS)
    found = [
        checks.run(check, reading(facts, selection, check.reads))
        for check in checks.CHECKS.values()
        if check.money is Money.OVERSPEND
    ]
    found.sort(key=lambda each: each.stake, reverse=True)
    return Audit(selection, source, tuple(found), int(targets["spend"].sum()), int(targets["sales"].sum()))
