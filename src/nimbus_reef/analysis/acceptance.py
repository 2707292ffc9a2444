"""
From proposals to the plan: what accepting them would do, doing it, and undoing it, for every area
and the command line.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from typing import Final

from nimbus_reef.analysis import order
from nimbus_reef.analysis.delivery import plan_prices
from nimbus_reef.analysis.margins import margins_by_home
from nimbus_reef.analysis.order import Before
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.wording import REMEDY, rise_words, worded
from nimbus_reef.core.acceptance import Acceptance
from nimbus_reef.core.changes import Change, Entity, key
from nimbus_reef.core.plan import taken
from nimbus_reef.core.promises import typed, with_profit
from nimbus_reef.core.proposals import Package, Proposal
from nimbus_reef.errors import Conflict
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import plan_steps, plans
from nimbus_reef.store.people.plans import Accepted, Planned
from nimbus_reef.store.reading.facts import Facts

HANDFUL: Final = 5
"""So many changes are accepted without being shown first."""


@dataclass(frozen=True, slots=True)
class Assessed:
    """
    What accepting proposals would do. offered: all of them; left: rows left out by hand; told: what becomes of the
    others; planned: the plan before it; before: what is better settled first, by row.
    """

    offered: Sequence[Proposal]
    left: frozenset[str]
    acceptance: Acceptance
    planned: Sequence[Planned]
    before: dict[str, list[Before]]

    @property
    def acting(self) -> list[Proposal]:
        """Those that propose something and are not left out, in their order: places in `told` are theirs."""
        return _acting(self.offered, self.left)

    @property
    def going(self) -> list[Proposal]:
        """Those that go into the plan."""
        acting = self.acting
        return [acting[place] for place in self.acceptance.new]

    @property
    def replaced_rows(self) -> list[int]:
        """The rows of the plan that leave for it."""
        return [change.row for change in self.acceptance.replaced]


def _acting(offered: Sequence[Proposal], left: Collection[str]) -> list[Proposal]:
    return [each for each in offered if each.package and each.row_id not in left]


def assess(
    facts: Facts, selection: Selection, offered: Sequence[Proposal], left: frozenset[str] = frozenset()
) -> Assessed:
    """What accepting proposals would do, but for those whose rows are left out."""
    planned = plans.planned(facts.store, selection.account.id)
    changes = [each.change for each in planned]
    acting = _acting(offered, left)
    acceptance = plan_prices.accepted(facts, selection, changes, [each.changes for each in acting])
    return Assessed(
        offered,
        left,
        acceptance,
        planned,
        _before(facts, selection, [acting[place] for place in acceptance.new], changes),
    )


def _before(
    facts: Facts, selection: Selection, going: Sequence[Proposal], changes: Sequence[Change]
) -> dict[str, list[Before]]:
    """Of keywords alone: a product ad or a budget is such a thing itself."""
    keywords = [each for each in going if each.changes[0].entity in (Entity.TARGET, Entity.NEGATIVE)]
    homes = {home for each in keywords for home in each.homes}
    if not homes:
        return {}
    found = order.before(facts, selection, homes, changes)
    return {each.row_id: [one for home in each.homes for one in found.get(home, ())] for each in keywords}


def accept(
    facts: Facts,
    selection: Selection,
    person_id: int,
    going: Sequence[Proposal],
    replacing: Collection[int] = (),
    progress: Callable[[int], None] = lambda done: None,
) -> Accepted:
    """Puts proposals into the plan, each whole. replacing: the rows that somebody was told will leave."""
    return plans.accept_packages(
        facts.store, selection.account.id, person_id, packages(facts, selection, going), replacing, progress=progress
    )


def packages(facts: Facts, selection: Selection, going: Sequence[Proposal]) -> list[Package]:
    """The changes of proposals with their reasons in words, each with what it promises."""
    figures = Figures(selection.account.locale, selection.account.currency)
    margins = margins_by_home(facts, selection.account.id, selection.window)
    return [
        [
            (change, with_profit(change, typed(change, result), margins.of(change.campaign, change.ad_group)))
            for change, result in worded(each, figures).package
        ]
        for each in going
    ]


def accept_one(
    facts: Facts, selection: Selection, person_id: int, proposal: Proposal, replacing: Collection[int] = ()
) -> Accepted:
    """
    Puts one proposal into the plan.

    Conflict where there is nothing to accept, where something above target would cost more a click, or where changes of
    the plan would have to leave that nobody was told about.
    """
    if not proposal.package:
        raise Conflict("Nothing left to accept here.", remedy="Reload the page.")
    changes = [each.change for each in plans.planned(facts.store, selection.account.id)]
    acceptance = plan_prices.accepted(facts, selection, changes, [proposal.changes])
    if acceptance.refused:
        text = rise_words(acceptance.refused[0], Figures(selection.account.locale, selection.account.currency))
        raise Conflict(f"{text[0].upper()}{text[1:]}.", remedy=REMEDY)
    if acceptance.packaged:
        raise Conflict(
            "The plan changes this together with other things.", remedy="Remove those changes from the plan first."
        )
    if not acceptance.new:
        raise Conflict("The plan already changes this.", remedy="Remove the other change from the plan first.")
    return accept(facts, selection, person_id, [proposal], replacing)


@dataclass(frozen=True, slots=True)
class InPlan:
    """
    How far a proposal is in the plan. own: its rows there; left: how many changes accepting it puts in, 0 where it is
    in; replaced: the changes that leave the plan for it.
    """

    own: list[Planned]
    left: int
    replaced: tuple[Change, ...] = ()

    @property
    def is_shown_first(self) -> bool:
        """Whether accepting it asks first, with all of it in view."""
        return self.left > HANDFUL


def in_plan(planned: Sequence[Planned], proposal: Proposal) -> InPlan:
    """The plan's state of a proposal. Changes of the same thing that another page planned are not its own."""
    whose = {key(change): change.finding for change in proposal.changes}
    own = [each for each in planned if whose.get(key(each.change)) == each.change.finding]
    if not proposal.package:
        return InPlan([], 0)
    result = taken([each.change for each in planned], [proposal.changes])
    return InPlan(own, len(proposal.package) if result.new else 0, tuple(result.replaced))


def made_in_plan(planned: Sequence[Planned], proposal: Proposal) -> InPlan:
    """The same of a campaign to be made, of very many rows, which nothing else plans: told by its name."""
    if not proposal.package:
        return InPlan([], 0)
    first = proposal.changes[0]
    own = [each for each in planned if (each.change.campaign, each.change.finding) == (first.campaign, first.finding)]
    return InPlan(own, 0 if own else len(proposal.package))


def undo(facts: Facts, selection: Selection, person_id: int, step: int | None = None) -> int:
    """Undoes a step, one's newest acceptance where none is named; how many changes that touched."""
    return plan_steps.undo(facts.store, selection.account.id, person_id, step)
