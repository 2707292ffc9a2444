"""
What is proposed on one row, in words and as a package of changes: what every area hands to the one
road into the plan.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from nimbus_reef.analysis.deeds import Stopped
from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.analysis.order import Home
from nimbus_reef.analysis.proposals import Proposed
from nimbus_reef.core.changes import Action, Change, Entity, Promise, named, projected, word_of
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.projection import NOTHING, Projected, total
from nimbus_reef.core.proposals import Move
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.judged_rows import deed_words, name_of, where, why_nothing
from nimbus_reef.web.kit.offered import Worded
from nimbus_reef.web.kit.verdicts import mark_of


@dataclass(frozen=True, slots=True)
class RowEvidence:
    """What a row did in the window, where it is judged: its verdict, clicks, orders, spend and sales in units."""

    verdict: str
    clicks: int
    orders: int
    spend: float
    sales: float


@dataclass(frozen=True, slots=True)
class Candidate:
    """
    Something that may be taken into the plan, whole, or left. key: of the row it is on; package: its changes, empty
    where nothing is proposed, and then why_not says why of several such rows; projected: all of it in 30 days; told:
    what the row did; stops: other searches that it stops; homes: the ad groups it is in, for what is better settled
    first there; ends: whether it stops the row.
    """

    key: str
    name: str
    where: str
    deed: str
    package: tuple[tuple[Change, Promise], ...] = ()
    projected: Projected = NOTHING
    why_not: str = ""
    mark: str = "none"
    told: RowEvidence | None = None
    stops: tuple[Stopped, ...] = ()
    homes: tuple[Home, ...] = field(default=())
    ends: bool = False

    @property
    def kind(self) -> str:
        """What it is counted as: the kind of its changes, or a package where those are of several kinds."""
        kinds = {_kind(change) for change, _ in self.package}
        return kinds.pop() if len(kinds) == 1 else "package"

    @property
    def whole(self) -> Projected:
        """All of it in 30 days, what else it stops included."""
        return total([self.projected, *(each.projected for each in self.stops)]) if self.stops else self.projected


def _kind(change: Change) -> str:
    if change.entity is Entity.NEGATIVE:
        return "negative"
    if change.action is Action.CREATE:
        return {Entity.TARGET: "new target", Entity.PRODUCT_AD: "new product ad"}.get(change.entity, "creation")
    if change.field == "state":
        return "start" if change.new_value == "enabled" else "pause"
    if change.field in ("bid", "default_bid"):
        return "raise" if float(change.new_value) > float(change.old_value or 0) else "cut"
    return word_of(change)


def of_judged(
    view: View, opened: Proposed, package: Sequence[tuple[Change, Promise]], stops: Sequence[Stopped], figures: Figures
) -> Candidate:
    """A row of a table of Targeting with what is proposed on it."""
    row, move = opened.row, opened.proposal.move
    homes = tuple((place.campaign, place.ad_group) for place in opened.places) or (opened.here,)
    return Candidate(
        row["row_id"],
        name_of(view, row),
        where(view, row, figures),
        deed_words(opened, figures),
        tuple(package),
        opened.proposal.projected,
        why_nothing(opened.why) if move is Move.NONE else "",
        mark_of(row, "evidence"),
        _told(row),
        tuple(stops),
        tuple((str(campaign), str(group)) for campaign, group in homes),
        move in (Move.PAUSE, Move.NEGATIVE),
    )


def _told(row: Mapping[str, Any]) -> RowEvidence:
    return RowEvidence(
        str(row["verdict"]), int(row["clicks"]), int(row["orders"]), from_micro(row["spend"]), from_micro(row["sales"])
    )


def of_worded(key: str, worded: Worded, why_not: str, row: Mapping[str, Any] | None = None) -> Candidate:
    """What Catalog and Delivery offer on a row; row: what is judged of it, where it is."""
    if worded.offer is None or not worded.proposed:
        return Candidate(key, key, "", worded.headline, why_not=why_not)
    changes = [change for change, _ in worded.offer.changes]
    name, place = named(changes[0])
    campaign = changes[0].campaign
    return Candidate(
        key,
        name if len(changes) == 1 else worded.name or campaign,
        " · ".join(part for part in (campaign, place) if part and part != name),
        worded.headline,
        tuple(worded.changes),
        worded.offer.projected,
        mark=mark_of(row, "evidence") if row else "none",
        told=_told(row) if row else None,
    )


def of_change(key: str, change: Change, promise: Promise, place: str) -> Candidate:
    """One change that stands for itself, such as one that sets something back."""
    name, _ = named(change)
    deed = f"{word_of(change)} {change.old_value} → {change.new_value}"
    return Candidate(key, name, place, deed, ((change, promise),), projected(change, promise))
