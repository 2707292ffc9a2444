"""
The highest price of a click: what a campaign's bids can come to in each place and hour, now and with a plan.

Highest price = bid × (1 + placement adjustment + boosts) × (1 + u), u: how far the marketplace raises a bid there by
itself under bidding up and down. Adjustments and boosts add, they do not multiply. Nothing that is judged above target
may cost more afterwards than it does today ("Placements" and "Hours" in docs/calculations.md). Money is in units of
currency, adjustments are fractions.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, Final

from nimbus_reef.core import boosts as boosts_of
from nimbus_reef.core.boosts import BID, HOURS, Boost, BoostHour
from nimbus_reef.core.changes import Action, Change, Entity, sound
from nimbus_reef.core.model import Bidding, Placement, State

ADJUSTABLE: Final = (Placement.TOP_OF_SEARCH, Placement.ELSEWHERE_IN_SEARCH, Placement.PRODUCT_PAGE)
"""Where a bid can be raised; off-site cannot be adjusted, only limited."""
PLACES: Final = (*ADJUSTABLE, Placement.OFF_SITE)
_SAME: Final = 1 + 1e-9
"""Prices that differ by less are the same."""


TargetKey = tuple[str, str, str]
"""Ad group, target, match type: which target of its campaign it is."""


@dataclass(frozen=True, slots=True)
class TargetBid:
    """
    A target as it is bid on: its bid (own, or its ad group's default), whether it runs, whether it is judged above
    target.
    """

    bid: float
    live: bool = True
    own_bid: bool = True
    above_target: bool = False


@dataclass(frozen=True, slots=True)
class CampaignBids:
    """
    A campaign's bids, by target, and all that multiplies them. adjustments: by placement; boosts: those in force;
    raising: u by placement, which counts under bidding up and down; above_target: placements that are judged so.
    """

    campaign: str
    targets: Mapping[TargetKey, TargetBid]
    adjustments: Mapping[Placement, float]
    boosts: tuple[Boost, ...] = ()
    raising: Mapping[Placement, float] | None = None
    bidding: str = ""
    live: bool = True
    offsite_limited: bool = False
    above_target: frozenset[Placement] = frozenset()

    def factor(self, placement: Placement, moment: BoostHour) -> float:
        """By what bids are multiplied in a place at a moment; 0 where no ad is shown."""
        if not self.live or (placement is Placement.OFF_SITE and self.offsite_limited):
            return 0.0
        u = (self.raising or {}).get(placement, 0.0) if self.bidding == Bidding.UP_AND_DOWN else 0.0
        return (1 + self.adjustments.get(placement, 0.0) + boosts_of.raised(self.boosts, BID, moment)) * (1 + u)


@dataclass(frozen=True, slots=True)
class Rise:
    """
    A price that would rise: of a target (empty: of any in the placement), in a place and hour, from what it costs at
    most today (units) to what it would. moment: None where the hour makes no difference.
    """

    campaign: str
    ad_group: str
    target: str
    match_type: str
    placement: Placement
    moment: BoostHour | None
    before: float
    after: float


def after(now: CampaignBids, changes: Sequence[Change]) -> CampaignBids:
    """
    A campaign once changes of it are made; changes of other campaigns, and what has no part in a price, are passed
    over.
    """
    campaign_bids = now
    for change in filter(sound, changes):
        if change.campaign == now.campaign and (apply := _APPLIED.get((change.entity, change.field))):
            campaign_bids = apply(campaign_bids, change)
    return campaign_bids


def touches_price(change: Change) -> bool:
    """Whether a change has any part in what a click costs."""
    return (change.entity, change.field) in _APPLIED


def _target(change: Change) -> TargetKey:
    return change.ad_group, change.target, change.match_type


def _changed(now: CampaignBids, change: Change, **values: Any) -> CampaignBids:
    was = now.targets.get(_target(change))
    if was is None or change.action is Action.CREATE:
        return now
    return replace(now, targets={**now.targets, _target(change): replace(was, **values)})


def _in_group(now: CampaignBids, change: Change, make: Callable[[TargetBid], TargetBid]) -> CampaignBids:
    own = {key: make(each) for key, each in now.targets.items() if key[0] == change.ad_group}
    return replace(now, targets={**now.targets, **own})


def _default_bid(now: CampaignBids, change: Change) -> CampaignBids:
    value = float(change.new_value)
    return _in_group(now, change, lambda each: each if each.own_bid else replace(each, bid=value))


def _group_state(now: CampaignBids, change: Change) -> CampaignBids:
    live = change.new_value == State.ENABLED
    return _in_group(now, change, lambda each: replace(each, live=live))


def _adjustment(now: CampaignBids, change: Change) -> CampaignBids:
    return replace(now, adjustments={**now.adjustments, Placement(change.placement): float(change.new_value) / 100})


def _boost(now: CampaignBids, change: Change) -> CampaignBids:
    return replace(now, boosts=(*now.boosts, boost_of(change)))


_APPLIED: Final[Mapping[tuple[Entity, str], Callable[[CampaignBids, Change], CampaignBids]]] = {
    (Entity.TARGET, "bid"): lambda now, change: _changed(now, change, bid=float(change.new_value), own_bid=True),
    (Entity.TARGET, "state"): lambda now, change: _changed(now, change, live=change.new_value == State.ENABLED),
    (Entity.AD_GROUP, "default_bid"): _default_bid,
    (Entity.AD_GROUP, "state"): _group_state,
    (Entity.PLACEMENT, "adjustment"): _adjustment,
    (Entity.BID_BOOST, "percent"): _boost,
    (Entity.CAMPAIGN, "state"): lambda now, change: replace(now, live=change.new_value == State.ENABLED),
    (Entity.CAMPAIGN, "bidding"): lambda now, change: replace(now, bidding=change.new_value),
    (Entity.CAMPAIGN, "offsite_limited"): lambda now, change: replace(now, offsite_limited=change.new_value == "yes"),
}


def boost_of(change: Change) -> Boost:
    """The boost that a row of the change sheet makes."""
    what = BID if change.entity is Entity.BID_BOOST else boosts_of.BUDGET
    return boosts_of.from_sheet(what, float(change.new_value), change.days, change.from_hour, change.to_hour)


def rises(
    now: CampaignBids, then: CampaignBids, *, only: Collection[TargetKey] | None = None, any_target: bool = False
) -> list[Rise]:
    """
    What is judged above target and would cost more a click in some place and hour than today, each at its dearest; the
    largest first.

    Of a placement it is the dearest click there, where what multiplies bids changes. only: no other targets;
    any_target: all targets, whatever their verdict.
    """
    steps = _steps(now, then)
    found = []
    for key, each in then.targets.items() if only is None else _some(then, only):
        was = now.targets.get(key)
        if was is None or not each.live or not (each.above_target or any_target):
            continue
        dearest = _dearest(steps, was.bid if was.live else 0.0, each.bid)
        if dearest is not None:
            found.append(Rise(now.campaign, key[0], key[1], key[2], *dearest))
    if _multipliers(now) != _multipliers(then):
        found += _in_placements(now, then, steps)
    return sorted(found, key=lambda rise: rise.before - rise.after)


def _some(then: CampaignBids, only: Collection[TargetKey]) -> list[tuple[TargetKey, TargetBid]]:
    return [(key, then.targets[key]) for key in only if key in then.targets]


def _multipliers(bids: CampaignBids) -> tuple[Any, ...]:
    return bids.adjustments, bids.boosts, bids.bidding, bids.offsite_limited, bids.live


_Step = tuple[Placement, BoostHour | None, float, float]


def _steps(now: CampaignBids, then: CampaignBids) -> list[_Step]:
    """
    What bids are multiplied by, today and then, in every place and at a moment of each stretch in which the same boosts
    hold.
    """
    boosts = [each for each in {*now.boosts, *then.boosts} if each.what == BID]
    return (
        [
            (place, moment if boosts else None, now.factor(place, moment), then.factor(place, moment))
            for place in PLACES
            for moment in boosts_of.moments(boosts)
        ]
        if boosts
        else [(place, None, now.factor(place, _ANY), then.factor(place, _ANY)) for place in PLACES]
    )


_ANY: Final = BoostHour(1, 0, None)


def _dearest(steps: Sequence[_Step], bid: float, new: float) -> tuple[Placement, BoostHour | None, float, float] | None:
    """The place and hour in which a bid's highest price rises most, with both prices; None where it rises nowhere."""
    risen = [
        (place, moment, bid * was, new * then) for place, moment, was, then in steps if new * then > bid * was * _SAME
    ]
    return max(risen, key=lambda step: step[3] - step[2], default=None)


def _in_placements(now: CampaignBids, then: CampaignBids, steps: Sequence[_Step]) -> list[Rise]:
    """Placements above target in which the dearest click of all would cost more."""
    highest, next_highest = dearest_bid(now), dearest_bid(then)
    found = []
    for place in then.above_target:
        dearest = _dearest([step for step in steps if step[0] is place], highest, next_highest)
        if dearest is not None:
            found.append(Rise(now.campaign, "", "", "", *dearest))
    return found


def dearest_bid(bids: CampaignBids) -> float:
    """The highest bid of its live targets, 0 without any."""
    return max((each.bid for each in bids.targets.values() if each.live), default=0.0)


def most(now: CampaignBids, then: CampaignBids, bid: float, places: Collection[Placement] = PLACES) -> float:
    """
    The bid at which a target that bids `bid` today costs at most what it does, in every place (of `places`) and hour,
    once `then` is in force.
    """
    ratios = [then / was for place, _, was, then in _steps(now, then) if was > 0 and place in places]
    return bid / max([*ratios, 1e-9])


def highest_bids(now: CampaignBids, weekday: int, *, raised: bool = True) -> dict[Placement, list[float]]:
    """
    The highest price of a click by placement and hour of a weekday, on whichever day most boosts hold at once, in
    units: that of the campaign's dearest live target. raised: with what the marketplace may add by itself.
    """
    bid = dearest_bid(now)
    u = (now.raising or {}) if raised and now.bidding == Bidding.UP_AND_DOWN else {}
    hours = [boosts_of.highest(now.boosts, BID, weekday, hour) for hour in range(HOURS)]
    return {
        place: [bid * (1 + now.adjustments.get(place, 0.0) + more) * (1 + u.get(place, 0.0)) for more in hours]
        for place in ADJUSTABLE
    }
