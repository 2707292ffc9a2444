"""One audit of one account over one window: what each check of the overspend finds, and its weight."""

from __future__ import annotations

from dataclasses import dataclass

from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.readings import reading
from nimbus_reef.core import checks
from nimbus_reef.core.checks import Found, Money, Reading
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading.facts import Facts, Held


@dataclass(frozen=True, slots=True)
class Audit:
    """
    found: every check on the overspend, largest stake first; spend, sales: of all that was looked at.

    Money is in micro-units.
    """

    look: Look
    source: Held
    found: tuple[Found, ...]
    spend: int
    sales: int


def run(facts: Facts, look: Look) -> Audit:
    """Judges every target and term; NotFound when the window holds nothing."""
    window = look.window
    source = facts.held(look.account.id, window)
    if not source.days:
        raise NotFound(
            f"No report covers {window.first} to {window.last}.",
            place=look.account.key,
            remedy="Load a target or search term report of these days, or choose other days.",
        )
    targets = reading(facts, look, Reading.TARGETS)
    found = [
        checks.run(check, reading(facts, look, check.reads))
        for check in checks.CHECKS.values()
        if check.money is Money.OVERSPEND
    ]
    found.sort(key=lambda each: each.stake, reverse=True)
    return Audit(look, source, tuple(found), int(targets["spend"].sum()), int(targets["sales"].sum()))
