"""One audit of one account over one window: judged rows and what each check finds."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from nimbus_reef.core import checks, targeting
from nimbus_reef.core.checks import Found
from nimbus_reef.core.checks.registry import Subject
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NotFound
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.facts import Facts, Held


@dataclass(frozen=True, slots=True)
class Audit:
    """Everything judged. Money in the frames is in micro-units."""

    account: Account
    window: Window
    target_acos: float
    source: Held
    targets: pl.DataFrame
    terms: pl.DataFrame

    def rows(self, subject: Subject) -> pl.DataFrame:
        """The judged rows of one subject."""
        return self.targets if subject is Subject.TARGET else self.terms

    def found(self) -> list[Found]:
        """Every check, largest stake first."""
        results = [checks.run(check, self.rows(check.subject)) for check in checks.CHECKS.values()]
        return sorted(results, key=lambda each: each.stake, reverse=True)


def judged_targets(facts: Facts, account: Account, window: Window, target_acos: float) -> pl.DataFrame:
    """All targets of the window, judged; kept until something is loaded."""
    key = (
        "judged targets",
        account.id,
        facts.generation(account.id),
        window,
        target_acos,
        account.min_clicks,
    )
    return facts.cache.get(
        key,
        lambda: targeting.judged(
            facts.target_rows(account.id, window), window.days, target_acos, account.min_clicks
        ),
    )


def judged_terms(facts: Facts, account: Account, window: Window, target_acos: float) -> pl.DataFrame:
    """All search terms of the window, judged; kept until something is loaded."""
    key = ("judged terms", account.id, facts.generation(account.id), window, target_acos, account.min_clicks)
    return facts.cache.get(
        key,
        lambda: targeting.judged(
            facts.term_rows(account.id, window), window.days, target_acos, account.min_clicks
        ),
    )


def run(facts: Facts, account: Account, window: Window, target_acos: float | None = None) -> Audit:
    """Judges every target and term; NotFound when the window holds nothing."""
    aim = target_acos if target_acos is not None else account.target_acos
    source = facts.held(account.id, window)
    if not source.days:
        raise NotFound(
            f"No report covers {window.first} to {window.last}.",
            place=account.key,
            remedy="Load a target or search term report of these days, or choose other days.",
        )
    return Audit(
        account, window, aim, source,
        judged_targets(facts, account, window, aim), judged_terms(facts, account, window, aim),
    )  # fmt: skip
