"""
Accepting proposals into a plan: each package whole or not at all, and no click above target costs more than today.

A package that would make a click of something judged above target cost more than it does at most today, with everything
in the plan and in force, is refused with that price. What another package of the same acceptance makes possible (a cut
beside a boost) is taken after it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nimbus_reef.core import click_prices
from nimbus_reef.core.changes import Change, Entity, key
from nimbus_reef.core.click_prices import CampaignBids, Rise, TargetKey
from nimbus_reef.core.plan import shuts, taken


@dataclass(frozen=True, slots=True)
class Acceptance:
    """
    What becomes of packages, by their places: new (they go in), already (planned just so), stopped (bids on what the
    plan pauses), packaged (alone, of what a package in the plan changes), contradicted (they change what another of
    them changes), refused (with the price that would rise). replaced: changes that leave.
    plan: the plan afterwards.
    """

    new: tuple[int, ...]
    replaced: tuple[Change, ...]
    plan: tuple[Change, ...]
    already: tuple[int, ...] = ()
    stopped: tuple[int, ...] = ()
    packaged: tuple[int, ...] = ()
    contradicted: tuple[int, ...] = ()
    refused: Mapping[int, Rise] | None = None


def accepted(
    changes: Sequence[Change], packages: Sequence[Sequence[Change]], campaigns: Mapping[str, CampaignBids]
) -> Acceptance:
    """
    Accepts packages into a plan, in their order. campaigns: the bids in force of the campaigns they change; of others
    no price is known, and none refuses anything.
    """
    result = taken(changes, packages)
    own = [packages[place] for place in result.new]
    state = _Prices(changes, campaigns)
    refused: dict[int, Rise] = {}
    waiting = list(zip(result.new, own, strict=True))
    going: list[int] = []
    while waiting:
        left = []
        for place, package in waiting:
            rise = state.with_package(package)
            if rise is None:
                going.append(place)
                refused.pop(place, None)
            else:
                refused[place] = rise
                left.append((place, package))
        if len(left) == len(waiting):
            break
        waiting = left
    final = taken(changes, [packages[place] for place in sorted(going)])
    gone = {change.row for change in final.replaced}
    added = [change for place in sorted(going) for change in packages[place]]
    plan = (*(change for change in changes if change.row not in gone), *added)
    return Acceptance(
        tuple(sorted(going)),
        final.replaced,
        plan,
        result.already,
        result.stopped,
        result.packaged,
        result.contradicted,
        refused,
    )


def dearer(before: Sequence[Change], after: Sequence[Change], campaigns: Mapping[str, CampaignBids]) -> list[Rise]:
    """
    What would cost more than today once a plan has become another, and more than it did in the plan before; the largest
    first.
    """
    found = []
    for now in campaigns.values():
        was = {_of(rise): rise.after for rise in click_prices.rises(now, click_prices.after(now, before))}
        found += [
            rise
            for rise in click_prices.rises(now, click_prices.after(now, after))
            if rise.after > was.get(_of(rise), 0.0)
        ]
    return sorted(found, key=lambda rise: rise.before - rise.after)


def _of(rise: Rise) -> tuple[object, ...]:
    return rise.ad_group, rise.target, rise.match_type, rise.placement if not rise.target else None


class _Prices:
    """The plan so far, by campaign, and what its campaigns' clicks cost at most with it."""

    def __init__(self, changes: Sequence[Change], campaigns: Mapping[str, CampaignBids]) -> None:
        self.campaigns = campaigns
        self.changes = changes
        self.keys = {key(change) for change in changes}
        self.plan: dict[str, list[Change]] = {}
        for change in changes:
            self.plan.setdefault(change.campaign, []).append(change)
        self.then: dict[str, CampaignBids] = {}

    def with_package(self, package: Sequence[Change]) -> Rise | None:
        """Adds a package where nothing above target rises for it; else the price that would."""
        contradicts = any(key(change) in self.keys or shuts(change) for change in package)
        leaving = taken(self.changes, [package]).replaced if contradicts else ()
        gone = {change.row for change in leaving}
        names = dict.fromkeys((*(each.campaign for each in package), *(each.campaign for each in leaving)))
        by_key: dict[str, CampaignBids] = {}
        plans: dict[str, list[Change]] = {}
        for name in names:
            own = [change for change in package if change.campaign == name]
            kept = [change for change in self.plan.get(name, []) if not change.row or change.row not in gone]
            plans[name] = [*kept, *own]
            now = self.campaigns.get(name)
            if now is None or not (gone or any(click_prices.touches_price(change) for change in own)):
                continue
            was = self._then(name, now)
            by_key[name] = click_prices.after(now, plans[name]) if gone else click_prices.after(was, own)
            only = None if gone else _targets(own)
            before = {_of(each): each.after for each in click_prices.rises(now, was, only=only)}
            for each in click_prices.rises(now, by_key[name], only=only):
                if each.after > before.get(_of(each), 0.0):
                    return each
        self.plan.update(plans)
        self.then.update(by_key)
        return None

    def _then(self, name: str, now: CampaignBids) -> CampaignBids:
        if name not in self.then:
            self.then[name] = click_prices.after(now, self.plan.get(name, ()))
        return self.then[name]


def _targets(changes: Sequence[Change]) -> set[TargetKey] | None:
    """The targets whose click price the changes can move; None when they move a whole campaign or ad group."""
    if all(change.entity is Entity.TARGET for change in changes):
        return {(change.ad_group, change.target, change.match_type) for change in changes}
    return None
