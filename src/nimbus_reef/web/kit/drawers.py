"""What is opened beside a table: a thing, what is proposed on it, and how far that is in the plan."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from nimbus_reef.analysis.acceptance import InPlan, in_plan
from nimbus_reef.analysis.wording import Worded, worded
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.luck import Luck


@dataclass(frozen=True, slots=True)
class Offered:
    """A proposal in words and how far it is in the plan. changes: how many it is."""

    worded: Worded
    planned: InPlan
    changes: int


def offered(ask: Context, proposal: Proposal) -> Offered:
    """A proposal as it is shown."""
    return Offered(worded(proposal, ask.figures), in_plan(ask.planned(), proposal), len(proposal.package))


@dataclass(frozen=True, slots=True)
class Drawer:
    """
    Something opened. bold, rest: what it did, in a sentence; offer: what is proposed on it; hits: what else is hit, in
    words; links: words and address; siblings: mark, name, what it did and spend of what stands beside it, their title,
    and how many more; picture, verdict: what its verdict rests on; course: how ranks
    went; outcome: what a change did, beside its control; acts: what accepting is called, where it is no
    usual proposal; more: what only drawers of its area show, by name.
    """

    id: str
    name: str
    where: str
    bold: str
    rest: str
    offer: Offered
    hits: tuple[str, ...] = ()
    links: tuple[tuple[str, str], ...] = ()
    siblings: tuple[tuple[str, str, str, str], ...] = ()
    siblings_title: str = "Other products there"
    siblings_more: int = 0
    picture: Luck | None = None
    verdict: str = ""
    course: Any = None
    outcome: Any = None
    acts: str = ""
    shift: Any = None
    conversion: Any = None
    changed: tuple[tuple[str, str], ...] = ()
    without: tuple[tuple[str, str, str], ...] = ()
