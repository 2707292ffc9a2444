"""The pages of the plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimbus_reef.analysis.tables import PAGE_ROWS
from nimbus_reef.store.people.plans import Planned


@dataclass(frozen=True, slots=True)
class PlanPage:
    """The changes of one page, and how many pages and campaigns there are."""

    planned: Sequence[Planned]
    number: int
    of: int
    campaigns: int


def page_of(planned: Sequence[Planned], number: int) -> PlanPage:
    """A page of the plan, its changes by campaign; the last where there are not so many."""
    order = {name: place for place, name in enumerate(dict.fromkeys(p.change.campaign for p in planned))}
    by_campaign = sorted(planned, key=lambda each: order[each.change.campaign])
    pages = max(1, -(-len(planned) // PAGE_ROWS))
    number = min(number, pages)
    return PlanPage(by_campaign[(number - 1) * PAGE_ROWS : number * PAGE_ROWS], number, pages, len(order))
