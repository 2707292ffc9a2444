"""Boosts of a campaign: those in force and planned, what a click and the budget can come to with one more."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

from nimbus_reef.analysis.delivery import plan_prices
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core import boosts as rules
from nimbus_reef.core import click_prices
from nimbus_reef.core.boosts import BID, BUDGET, HOURS, Boost
from nimbus_reef.core.changes import Action, Change, Entity, sound
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.click_prices import CampaignBids
from nimbus_reef.core.model import Placement, from_micro
from nimbus_reef.core.projection import UNKNOWN
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import setting_frames
from nimbus_reef.store.reading.facts import Facts

CHECK: Final = "boosts"


@dataclass(frozen=True, slots=True)
class Boosted:
    """
    What a campaign's bids and budget can come to. then: its bids with everything in force and in the plan; in_force,
    planned: its boosts;
    budget: a day, in units, with the plan; None where it is not known.
    """

    campaign: str
    then: CampaignBids
    in_force: tuple[Boost, ...]
    planned: tuple[Boost, ...]
    budget: float | None

    @property
    def bid(self) -> float | None:
        """The highest bid of its live targets, None without a known one."""
        return click_prices.dearest_bid(self.then) or None

    def with_boost(self, more: Boost | None) -> Boosted:
        """The same with one more boost."""
        if more is None:
            return self
        return replace(self, then=replace(self.then, boosts=(*self.then.boosts, more)))

    def highest_bids(self, weekday: int, *, raised: bool) -> dict[Placement, list[float]]:
        """
        The highest price of a click by placement and hour of a weekday; raised: include the
        marketplace's own raise.
        """
        return click_prices.highest_bids(self.then, weekday, raised=raised)

    def highest_budgets(self, weekday: int) -> list[float]:
        """What the day's budget is raised to at most, by hour of a weekday."""
        hours = range(HOURS)
        return [(self.budget or 0.0) * (1 + rules.highest(self.then.boosts, BUDGET, weekday, hour)) for hour in hours]


def boosted(facts: Facts, selection: Selection, campaign: str, planned: Sequence[Change] = ()) -> Boosted:
    """What a campaign's bids can come to with a plan; NotFound where there is no such campaign."""
    now = plan_prices.campaigns_of(facts, selection, [campaign]).get(campaign)
    if now is None:
        raise NotFound(f"There is no campaign “{campaign}”.", remedy="Choose one from the list.")
    own = [each for each in planned if each.campaign == campaign and sound(each)]
    waiting = tuple(
        click_prices.boost_of(each) for each in own if each.entity in (Entity.BID_BOOST, Entity.BUDGET_BOOST)
    )
    then = replace(click_prices.after(now, own), boosts=(*now.boosts, *waiting))
    return Boosted(campaign, then, now.boosts, waiting, _budget(facts, selection, campaign, own))


def _budget(facts: Facts, selection: Selection, campaign: str, planned: Sequence[Change]) -> float | None:
    for each in planned:
        if (each.entity, each.field) == (Entity.CAMPAIGN, "daily_budget"):
            return float(each.new_value)
    known = setting_frames.campaign_settings(facts, selection.account.id, selection.window).filter(
        pl.col("campaign").cast(pl.String) == campaign
    )["daily_budget"]
    return from_micro(known[0]) if known[0] is not None else None


def proposal(selection: Selection, campaign: str, boost: Boost, highest: float | None = None) -> Proposal:
    """
    A boost as one row of the change sheet; its money is not projected: what it moves is not known from reports.
    highest: what a click, or the day's budget, can then come to.
    """
    entity = Entity.BID_BOOST if boost.what == BID else Entity.BUDGET_BOOST
    hours = {"from_hour": str(boost.from_hour), "to_hour": str(boost.to_hour)}
    result = change(
        entity,
        "percent",
        campaign,
        f"{boost.percent:.0f}",
        "",
        CHECK,
        Action.CREATE,
        days=rules.when_written(boost),
        **hours,
    )
    first, last = (each.isoformat() if each else "" for each in (boost.first, boost.last))
    weekdays = " ".join(str(day) for day in boost.weekdays)
    at = (boost.what, highest, weekdays, first, last, boost.condition, boost.from_hour, boost.to_hour)
    return Proposal(
        EntityKey(Subject.CAMPAIGN, campaign),
        campaign,
        Headline(HeadlineKey.BOOST),
        ((result, promise(selection, NO_BASIS, "boosts", campaign)),),
        (Reason(ReasonKey.BOOST_AT, at),),
        effect=UNKNOWN,
    )
