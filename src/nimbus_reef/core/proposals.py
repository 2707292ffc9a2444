"""
A proposal: changes of one thing that go into the plan together or not at all, why, and what is likely to come of them.

Every area's proposals are of this one type: a bid, a base bid with its adjustments, a family's pauses, a campaign to be
made. Nothing here is in words; see `analysis.wording`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from nimbus_reef.core.changes import Action, Change, Entity, number_of, word_of
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.projection import NOTHING, Projected, total
from nimbus_reef.core.promises import Promise, guarded
from nimbus_reef.core.reasons import Headline, Reason, ReasonKey

Package = Sequence[tuple[Change, Promise]]
"""Changes that are proposed together, each with its promise: in the plan all of them, or none."""
Home = tuple[str, str]
"""Campaign and ad group."""


@dataclass(frozen=True, slots=True)
class EntityKey:
    """What something of an account is, by the names that the marketplace knows; empty where they are not part of it."""

    kind: Subject
    campaign: str = ""
    ad_group: str = ""
    name: str = ""
    match_type: str = ""


@dataclass(frozen=True, slots=True)
class Evidence:
    """
    What a judged thing did in the window: its verdict, clicks, orders, spend and sales in units; chance: that it is
    above target, null where that is not known.
    """

    verdict: str
    clicks: int
    orders: int
    spend: float
    sales: float
    chance: float | None = None


@dataclass(frozen=True, slots=True)
class Stopped:
    """
    Another search that a negative would stop too: its row, the term, clicks, orders, spend and sales (micro-units) of
    the window, and what stopping it does in 30 days.
    """

    row_id: str
    term: str
    clicks: int
    orders: int
    spend: int
    sales: int
    projected: Projected


@dataclass(frozen=True, slots=True)
class Proposal:
    """
    What is proposed on one thing, or why nothing is.

    row_id: the row that shows it, in its view; package: its changes, empty where nothing is proposed; fact: what its
    reasons follow from; effect: spend and sales in 30 days, of all changes together; evidence: where the thing is
    judged; stops: other searches that it stops; homes: the ad groups in which something else may be better settled
    first; sources: reasons of single changes that are not those of the proposal, by their place in the package;
    optional: possible, but nothing that is advised; name: what several changes together are called; context: where the
    thing stands, where its names do not say so.
    """

    subject: EntityKey
    row_id: str
    headline: Headline
    package: Package = ()
    reasons: tuple[Reason, ...] = ()
    fact: Reason | None = None
    effect: Projected = NOTHING
    evidence: Evidence | None = None
    stops: tuple[Stopped, ...] = ()
    homes: tuple[Home, ...] = ()
    sources: tuple[tuple[int, Reason], ...] = ()
    optional: bool = False
    name: str = ""
    context: Reason | None = None

    @property
    def changes(self) -> list[Change]:
        """Its rows of the change sheet, without numbers and reasons."""
        return [change for change, _ in self.package]

    @property
    def why(self) -> ReasonKey | None:
        """The key of its first reason."""
        return self.reasons[0].key if self.reasons else None

    @property
    def kind(self) -> str:
        """What it is counted as: the kind of its changes, or a package where those are of several kinds."""
        kinds = {counted_as(change) for change in self.changes}
        return kinds.pop() if len(kinds) == 1 else "package"

    @property
    def ends(self) -> bool:
        """Whether it stops what its evidence is of."""
        return self.evidence is not None and self.subject.kind in _JUDGED and self.kind in ("pause", "negative")

    @property
    def whole(self) -> Projected:
        """All of it in 30 days, what else it stops included."""
        return total([self.effect, *(each.projected for each in self.stops)]) if self.stops else self.effect

    def is_beyond(self, most_raise: float, most_spend: float) -> bool:
        """Whether any change of it is to be asked about: see `core.promises.guarded`."""
        return any(guarded(change, promise, most_raise, most_spend) for change, promise in self.package)

    def advised(self) -> Proposal:
        """The same without its changes where it is merely possible: those are made by somebody who wants them."""
        return replace(self, package=()) if self.optional else self


_JUDGED = (Subject.TARGET, Subject.TERM, Subject.PHRASE)


def counted_as(change: Change) -> str:
    """What a change is counted as among others."""
    if change.entity is Entity.NEGATIVE:
        return "negative"
    if change.action is Action.CREATE:
        return {Entity.TARGET: "new target", Entity.PRODUCT_AD: "new product ad"}.get(change.entity, "creation")
    if change.field == "state":
        return "start" if change.new_value == "enabled" else "pause"
    if change.field in ("bid", "default_bid"):
        new, old = number_of(change.new_value), number_of(change.old_value or "0")
        # A row of a sheet that cannot be read is neither.
        return word_of(change) if new is None or old is None else "raise" if new > old else "cut"
    return word_of(change)
