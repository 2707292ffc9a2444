"""
The settings of an account on the simulated marketplace, and the answer to each row of a change sheet.

Values are texts, as the sheet writes them.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.sim.schedule import ADJUSTED, PLACES
from nimbus_reef.sim.world import World

Row = Mapping[str, str]
"""A row of a change sheet, by the columns of the open file contract; what it does not say is empty."""
Key = tuple[str, ...]
Held = dict[str, str]
LEAST_BID: Final = 0.10
LEAST_BUDGET: Final = 1.0
MOST_PERCENT: Final = 900
_MOST_WORDS: Final = 10
_STATES: Final = ("enabled", "paused", "archived")
_ALLOWED: Final[Mapping[str, tuple[str, ...]]] = {
    "state": _STATES,
    "bidding": ("fixed", "down_only", "up_and_down"),
    "offsite_limited": ("yes", "no"),
    "targeting": ("auto", "manual"),
}
_AMOUNTS: Final[Mapping[str, float]] = {"bid": LEAST_BID, "default_bid": LEAST_BID, "daily_budget": LEAST_BUDGET}
_PERCENTS: Final = ("adjustment", "percent")
_KEYS: Final[Mapping[str, tuple[str, ...]]] = {
    "campaign": ("campaign",),
    "ad_group": ("campaign", "ad_group"),
    "product_ad": ("campaign", "ad_group", "sku"),
    "target": ("campaign", "ad_group", "target", "match_type"),
    "negative": ("campaign", "ad_group", "target", "match_type"),
    "placement": ("campaign", "placement"),
    "budget_boost": ("campaign", "days", "from_hour", "to_hour"),
    "bid_boost": ("campaign", "days", "from_hour", "to_hour"),
}
"""What names a thing of each entity."""
FIELDS: Final[Mapping[str, tuple[str, ...]]] = {
    "campaign": ("state", "daily_budget", "bidding", "offsite_limited", "portfolio", "name", "targeting"),
    "ad_group": ("state", "default_bid"),
    "product_ad": ("state",),
    "target": ("bid", "state"),
    "negative": ("state",),
    "placement": ("adjustment",),
    "budget_boost": ("percent",),
    "bid_boost": ("percent",),
}
"""What can be changed of each entity."""


@dataclass(frozen=True, slots=True)
class SaidOfRow:
    """What the marketplace says to a row: applied, or refused with a code and a sentence."""

    status: str = "applied"
    code: str = ""
    message: str = ""


APPLIED: Final = SaidOfRow()


def refused(code: str, message: str) -> SaidOfRow:
    """A row that was not carried out."""
    return SaidOfRow("refused", code, message)


@dataclass
class HeldSettings:
    """Every thing by its entity and key, with its fields; skus: the products, and why some cannot be shown."""

    things: dict[str, dict[Key, Held]] = field(default_factory=dict)
    skus: dict[str, str] = field(default_factory=dict)

    def held(self, row: Row) -> str | None:
        """What the field of a row stands at now; None where there is no such thing."""
        thing = self.things[row["entity"]].get(key_of(row)) if row["entity"] in self.things else None
        return None if thing is None else thing.get(row["field"], "")

    def take(self, row: Row) -> SaidOfRow:
        """Carries out a row, or says why not; then nothing has changed."""
        entity, name, value = (row.get(each, "") for each in ("entity", "field", "new_value"))
        if name not in FIELDS.get(entity, ()):
            return refused("unknown_field", f"A {entity.replace('_', ' ')} has no field “{name}”.")
        problem = _value_problem(name, value) or self._problem(row)
        if problem is not None:
            return problem
        if entity == "campaign" and name == "name":
            self._rename(row["campaign"], value)
            return APPLIED
        thing = self.things[entity].setdefault(key_of(row), _fresh(entity))
        thing[name] = value
        return APPLIED

    def _problem(self, row: Row) -> SaidOfRow | None:
        """Why a row cannot be carried out as things stand."""
        entity, creates = row["entity"], row.get("action") == "create"
        key, things = key_of(row), self.things[entity]
        for parent in ("campaign", "ad_group"):
            named = row.get(parent, "")
            if not named or (entity == parent and creates):
                continue
            if tuple(row[each] for each in _KEYS[parent]) not in self.things[parent]:
                return refused("not_found", f"There is no {parent.replace('_', ' ')} “{named}”.")
        if entity == "product_ad" and row["sku"] not in self.skus:
            return refused("not_found", f"There is no product “{row['sku']}”.")
        standing = things.get(key)
        if creates:
            if standing is not None and standing.get(row["field"]) is not None and entity != "campaign":
                return refused("exists", "It exists already.")
            return self._cannot_create(row)
        if standing is None and entity != "placement":
            return refused("not_found", f"There is no such {entity.replace('_', ' ')}.")
        now = (standing or {}).get(row["field"], "0" if entity == "placement" else "")
        old = row.get("old_value", "")
        if old and not _same(old, now):
            return refused("changed_meanwhile", f"It is {now} now, not {old}.")
        return None

    def _cannot_create(self, row: Row) -> SaidOfRow | None:
        entity = row["entity"]
        if entity == "product_ad" and (why := self.skus[row["sku"]]):
            return refused("not_eligible", f"This product cannot be advertised: {why}.")
        if entity in ("target", "negative") and len(row["target"].split()) > _MOST_WORDS:
            return refused("too_long", f"It has more than {_MOST_WORDS} words.")
        return None

    def _rename(self, old: str, new: str) -> None:
        for things in self.things.values():
            for key in [each for each in things if each[0] == old]:
                things[new, *key[1:]] = things.pop(key)


def key_of(row: Row) -> Key:
    """What a row is about, among the things of its entity."""
    return tuple(row.get(name, "") or "" for name in _KEYS[row["entity"]])


def _fresh(entity: str) -> Held:
    return {"state": "enabled"} if entity in ("campaign", "ad_group", "target", "negative", "product_ad") else {}


def _same(one: str, other: str) -> bool:
    try:
        return abs(float(one) - float(other)) < 0.005
    except ValueError:
        return one == other


def _value_problem(name: str, value: str) -> SaidOfRow | None:
    if name in _ALLOWED and value not in _ALLOWED[name]:
        return refused("bad_value", f"“{value}” is none of {', '.join(_ALLOWED[name])}.")
    if name not in _AMOUNTS and name not in _PERCENTS:
        return None if value.strip() else refused("bad_value", "It is empty.")
    try:
        amount = float(value)
    except ValueError:
        return refused("bad_value", f"“{value}” is not a number.")
    if name in _PERCENTS:
        right = 0 <= amount <= MOST_PERCENT
        return None if right else refused("bad_value", f"It is not between 0 and {MOST_PERCENT} per cent.")
    least = _AMOUNTS[name]
    return None if amount >= least else refused("below_minimum", f"The lowest {name.replace('_', ' ')} is {least:.2f}.")


def of_world(world: World) -> HeldSettings:
    """The settings of a world on its last day. `no` is a thing's number in the world."""
    names = world.campaigns["campaign"].to_list()
    things: dict[str, dict[Key, Held]] = {entity: {} for entity in FIELDS}
    for row in world.campaigns.to_dicts():
        things["campaign"][(row["campaign"],)] = _campaign(world, row)
    if world.delivery is not None:
        for number, place in np.ndindex(world.delivery.adjustments.shape):
            percent = str(round(float(world.delivery.adjustments[number, place]) * 100))
            things["placement"][names[number], PLACES[place]] = {"adjustment": percent, "no": str(number)}
        for boost in world.delivery.boosts:
            days = " ".join(map(str, boost.weekdays))
            key = (names[boost.campaign_no], days, str(boost.from_hour), str(boost.to_hour))
            things[f"{boost.what}_boost"][key] = {"percent": str(boost.percent), "name": boost.name}
    groups: dict[int, Key] = {}
    for number, campaign, name in world.ad_groups.select("ad_group_no", "campaign_no", "ad_group").rows():
        groups[number] = (names[campaign], name)
        things["ad_group"][groups[number]] = {"state": "enabled", "default_bid": "0.50", "no": str(number)}
    skus = world.products["sku"].to_list()
    for group, product in world.ad_products.select("ad_group_no", "product_no").rows():
        things["product_ad"][*groups[group], skus[product]] = {"state": "enabled", "no": ""}
    last = world.bids[:, -1]
    for number, group, text, match in world.targets.select("target_no", "ad_group_no", "target", "match_type").rows():
        held = {"state": "enabled", "bid": f"{last[number]:.2f}", "no": str(number)}
        things["target"][*groups[group], text, match] = held
    lost = world.products.select("sku", pl.when(pl.col("lost_on").is_not_null()).then("reason").otherwise(pl.lit("")))
    return HeldSettings(things, dict(lost.rows()))


def _campaign(world: World, row: Mapping[str, Any]) -> Held:
    held = {
        "state": "enabled",
        "daily_budget": f"{row['daily_budget']:.2f}",
        "bidding": "down_only",
        "portfolio": row["portfolio"],
        "targeting": row["targeting"],
        "format": row["format"],
        "no": str(row["campaign_no"]),
    }
    if world.delivery is not None:
        number = row["campaign_no"]
        held["bidding"] = "up_and_down" if number % 9 == 4 else "down_only"
        held["offsite_limited"] = "yes" if world.delivery.limited[number] else "no"
    return held


assert PLACES.index("off_site") == ADJUSTED
