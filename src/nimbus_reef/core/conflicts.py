"""
Conflicts of a plan: changes that do not go together, and what to take out so that the others do.

Some block the sheet: two changes of one field, and a click that would cost more than today on what is judged above
target.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import combinations
from typing import Final

from nimbus_reef.core import boosts, click_prices, words
from nimbus_reef.core.boosts import Boost
from nimbus_reef.core.changes import Action, Change, Entity, key, sound
from nimbus_reef.core.click_prices import CampaignBids, Rise
from nimbus_reef.core.model import MatchType, State


class ConflictKind(StrEnum):
    """What does not go together."""

    PRICE = "price above target"
    SAME_THING = "two changes on one thing"
    ADJUSTMENT_AND_BID = "adjustment and bid"
    BOOSTS = "boost and boost"
    BOOST_WHILE_PAUSED = "boost on a paused campaign"
    STOPS_PROMOTED = "negative stops a promoted search term"


BLOCKS: Final = frozenset({ConflictKind.PRICE})
"""Those with which a sheet does not leave; two changes of one field are a problem of their row besides."""


@dataclass(frozen=True, slots=True)
class PlanConflict:
    """
    Rows of a plan that do not go together. rise: the price that they bring about; percent: what boosts come to
    together. ways: what may be taken out to resolve it, as rows; any one of them does.
    """

    kind: ConflictKind
    rows: tuple[int, ...]
    ways: tuple[tuple[int, ...], ...]
    rise: Rise | None = None
    percent: float = 0.0


def conflicts(planned: Sequence[Change], campaigns: Mapping[str, CampaignBids]) -> list[PlanConflict]:
    """
    What does not go together in a plan, the gravest first. campaigns: the bids in force of those that it changes, by
    name; of one that is not known nothing is said of prices.
    """
    by_campaign: dict[str, list[Change]] = {}
    for change in filter(sound, planned):
        by_campaign.setdefault(change.campaign, []).append(change)
    found = []
    for name, changes in by_campaign.items():
        now = campaigns.get(name)
        found += _same_thing(changes)
        found += _promoted(changes)
        if now is not None:
            found += _prices(changes, now)
            found += _boosts(changes, now)
    order = list(ConflictKind)
    return sorted(found, key=lambda each: (order.index(each.kind), each.rows))


def _same_thing(changes: Sequence[Change]) -> list[PlanConflict]:
    """Changes of the same field of the same thing, and a bid of what is paused in the same plan."""
    by_key: dict[tuple[str, ...], list[Change]] = {}
    for change in changes:
        by_key.setdefault(key(change), []).append(change)
    twice = [
        PlanConflict(ConflictKind.SAME_THING, tuple(each.row for each in same), tuple((each.row,) for each in same))
        for same in by_key.values()
        if len(same) > 1
    ]
    paused = {_target(each): each for each in changes if each.entity is Entity.TARGET and _off(each)}
    idle = [
        (each, paused[_target(each)])
        for each in changes
        if each.entity is Entity.TARGET and each.field == "bid" and not each.package and _target(each) in paused
    ]
    return twice + [
        PlanConflict(ConflictKind.SAME_THING, (bid.row, pause.row), ((bid.row,), _rows_with(changes, pause)))
        for bid, pause in idle
    ]


def _target(change: Change) -> tuple[str, str, str]:
    return change.ad_group, change.target, change.match_type


def _off(change: Change) -> bool:
    return change.field == "state" and change.action is Action.UPDATE and change.new_value != State.ENABLED


def _rows_with(changes: Sequence[Change], one: Change) -> tuple[int, ...]:
    """The row of a change and of all that it was proposed with."""
    return tuple(each.row for each in changes if each.row == one.row or (one.package and each.package == one.package))


def _promoted(changes: Sequence[Change]) -> list[PlanConflict]:
    """Negatives that keep a target away which the same plan makes, in its ad group or its whole campaign."""
    entries = [each for each in changes if each.entity is Entity.TARGET and each.action is Action.CREATE]
    negatives = [each for each in changes if each.entity is Entity.NEGATIVE]
    return [
        PlanConflict(
            ConflictKind.STOPS_PROMOTED, (each.row, own.row), (_rows_with(changes, each), _rows_with(changes, own))
        )
        for each in negatives
        for own in entries
        if each.ad_group in ("", own.ad_group)
        and words.stops(each.target, own.target, phrase=each.match_type == MatchType.NEGATIVE_PHRASE)
    ]


def _prices(changes: Sequence[Change], now: CampaignBids) -> list[PlanConflict]:
    """
    Clicks that would cost more than today: of what is above target whatever does it, of others where changes from apart
    do it together.
    """
    own = [each for each in changes if click_prices.touches_price(each)]
    found = []
    above = click_prices.rises(now, click_prices.after(now, own))
    if above:
        found.append(PlanConflict(ConflictKind.PRICE, tuple(each.row for each in own), _cures(own, now), above[0]))
    bids = [each for each in own if each.entity in (Entity.TARGET, Entity.AD_GROUP)]
    raising = [each for each in own if each.entity in (Entity.PLACEMENT, Entity.BID_BOOST)]
    together = {each.package for each in raising} - {0}
    apart = [each for each in bids if each.package not in together]
    if not above and apart and raising:
        targets = {_target(each) for each in apart}
        for rise in click_prices.rises(now, click_prices.after(now, own), any_target=True):
            if (rise.ad_group, rise.target, rise.match_type) not in targets:
                continue
            rows = tuple(each.row for each in (*apart, *raising))
            ways = (tuple(each.row for each in apart), tuple(each.row for each in raising))
            found.append(PlanConflict(ConflictKind.ADJUSTMENT_AND_BID, rows, ways, rise))
            break
    return found


def _cures(own: Sequence[Change], now: CampaignBids) -> tuple[tuple[int, ...], ...]:
    """Packages to take out so that no click above target costs more; all of them when no single one is enough."""
    packages = list(dict.fromkeys(_rows_with(own, each) for each in own))
    cures = [
        rows
        for rows in packages
        if not click_prices.rises(now, click_prices.after(now, [each for each in own if each.row not in rows]))
    ]
    return tuple(cures) or (tuple(each.row for each in own),)


def _boosts(changes: Sequence[Change], now: CampaignBids) -> list[PlanConflict]:
    """Boosts that hold at once with another, planned or in force, and boosts of a campaign that does not run."""
    planned = [each for each in changes if each.entity in (Entity.BID_BOOST, Entity.BUDGET_BOOST)]
    pairs = [(each, click_prices.boost_of(each)) for each in planned]
    found = []
    for (one, first), (other, second) in combinations(pairs, 2):
        if both := _at_once(first, second):
            found.append(
                PlanConflict(ConflictKind.BOOSTS, (one.row, other.row), ((one.row,), (other.row,)), percent=both)
            )
    for each, boost in pairs:
        both_held = [_at_once(boost, stored) for stored in now.boosts]
        found += [
            PlanConflict(ConflictKind.BOOSTS, (each.row,), ((each.row,),), percent=both) for both in both_held if both
        ]
    pauses = [each for each in changes if each.entity is Entity.CAMPAIGN and _off(each)]
    if planned and (pauses or not now.live):
        rows = tuple(each.row for each in planned)
        ways = (rows, *(tuple(_rows_with(changes, each)) for each in pauses))
        found.append(PlanConflict(ConflictKind.BOOST_WHILE_PAUSED, (*rows, *(each.row for each in pauses)), ways))
    return found


def _at_once(one: Boost, other: Boost) -> float:
    """The per cent that two boosts of the same thing come to where both hold; 0 where they never do."""
    if one.what != other.what:
        return 0.0
    if any(one.holds(moment) and other.holds(moment) for moment in boosts.moments([one, other])):
        return one.percent + other.percent
    return 0.0
