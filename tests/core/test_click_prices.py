"""
The highest price of a click: what bids, adjustments and boosts come to in each place and hour, now
and with a plan.
"""

from dataclasses import replace
from datetime import date
from math import floor

import pytest

from nimbus_reef.core import click_prices
from nimbus_reef.core.boosts import Boost
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.click_prices import ADJUSTABLE, CampaignBids, TargetBid
from nimbus_reef.core.model import Placement

TOP, ELSEWHERE, PAGE = ADJUSTABLE
BANNETON = ("bowls", "banneton", "exact")
NOW = CampaignBids(
    "Bowls", {BANNETON: TargetBid(1.34, above_target=True), ("bowls", "proofing bowl", "exact"): TargetBid(1.00)}, {}
)


def bid(target, old, new, **other):
    return Change(
        row=0,
        action=Action.UPDATE,
        entity=Entity.TARGET,
        campaign="Bowls",
        ad_group="bowls",
        target=target,
        match_type="exact",
        field="bid",
        old_value=old,
        new_value=new,
        **other,
    )


def adjustment(placement, new):
    return Change(
        row=0,
        action=Action.UPDATE,
        entity=Entity.PLACEMENT,
        campaign="Bowls",
        placement=placement.value,
        field="adjustment",
        old_value="0",
        new_value=str(new),
    )


def boost(percent, days="", hours=("0", "24")):
    return Change(
        row=0,
        action=Action.CREATE,
        entity=Entity.BID_BOOST,
        campaign="Bowls",
        field="percent",
        new_value=str(percent),
        days=days,
        from_hour=hours[0],
        to_hour=hours[1],
    )


def rises(*changes, now=NOW, **how):
    return click_prices.rises(now, click_prices.after(now, changes), **how)


def test_adjustments_without_the_bids_that_belong_to_them_raise_the_price():
    """The package says 1.34 → 0.50 with +139 %; without its bids the top of search would cost 3.20."""
    (rise,) = [each for each in rises(adjustment(TOP, 139)) if each.target]
    assert (rise.target, rise.placement, rise.moment) == ("banneton", TOP, None)
    assert (rise.before, rise.after) == (1.34, pytest.approx(1.34 * 2.39))
    assert rises(adjustment(TOP, 139), bid("banneton", "1.34", "0.50"), bid("proofing bowl", "1.00", "0.40")) == []


def test_only_what_is_above_target_is_watched_unless_all_is_asked_for():
    higher = bid("proofing bowl", "1.00", "1.20")
    assert rises(higher) == []
    assert [each.target for each in rises(higher, any_target=True)] == ["proofing bowl"]


def test_a_boost_is_held_against_todays_price_of_its_own_hours():
    saturday = boost(20, "6 7", ("18", "22"))
    rise, *_ = rises(saturday)
    assert (rise.moment.weekday, rise.moment.hour, rise.after) == (6, 18, pytest.approx(1.34 * 1.2))
    assert rises(saturday, bid("banneton", "1.34", "1.11")) == [], "a cut of the bid makes room for it"
    held = replace(NOW, boosts=(Boost("held", "bid", 30, (6, 7), 18, 22),))
    assert rises(boost(20, "1", ("9", "12")), now=held), "it costs more on Monday, though less than on Saturday"


def test_a_boost_of_the_budget_moves_no_price():
    other = replace(boost(50), entity=Entity.BUDGET_BOOST)
    assert not click_prices.touches_price(other)
    assert rises(other) == []


def test_what_is_paused_costs_nothing_and_costs_again_when_it_is_switched_on():
    pause = replace(bid("banneton", "enabled", "paused"), field="state")
    assert [each for each in rises(adjustment(TOP, 139), pause) if each.target] == []
    idle = replace(NOW, targets={BANNETON: replace(NOW.targets[BANNETON], live=False)})
    on = replace(bid("banneton", "paused", "enabled"), field="state")
    (rise,) = rises(on, now=idle)
    assert (rise.before, rise.after) == (0.0, 1.34)


def test_an_ad_groups_default_bid_moves_what_has_no_bid_of_its_own():
    group = Change(
        row=0,
        action=Action.UPDATE,
        entity=Entity.AD_GROUP,
        campaign="Bowls",
        ad_group="bowls",
        field="default_bid",
        old_value="1.34",
        new_value="1.50",
    )
    assert rises(group) == []
    follows = replace(NOW, targets={BANNETON: replace(NOW.targets[BANNETON], own_bid=False)})
    assert [each.after for each in rises(group, now=follows)] == [1.5]


def test_a_placement_above_target_may_not_be_adjusted_up():
    fine = {key: replace(each, above_target=False) for key, each in NOW.targets.items()}
    now = replace(NOW, targets=fine, above_target=frozenset({TOP}))
    (rise,) = rises(adjustment(TOP, 10), now=now)
    assert (rise.target, rise.placement, rise.before, rise.after) == ("", TOP, 1.34, pytest.approx(1.474))
    assert rises(adjustment(PAGE, 10), now=now) == []


def test_raising_by_the_marketplace_comes_last_and_multiplies():
    """Worked: 0.50 × (1 + 40 % + 20 % + 30 %) × 2 = 1.90 where both boosts hold, at the top."""
    boosts = (Boost("evening", "bid", 20, (), 18, 22), Boost("weekend", "bid", 30, (6, 7)), Boost("more", "budget", 50))
    now = CampaignBids("c", {("g", "t", "exact"): TargetBid(0.5)}, {TOP: 0.4}, boosts, {TOP: 1.0}, "up_and_down")
    found = click_prices.highest_bids(now, 6)
    assert found[TOP][20] == pytest.approx(1.90)
    assert found[TOP][8] == pytest.approx(0.5 * 1.7 * 2)
    assert found[PAGE][20] == pytest.approx(0.75)
    assert click_prices.highest_bids(now, 6, raised=False)[TOP][20] == pytest.approx(0.95)
    monday = click_prices.highest_bids(replace(now, bidding="fixed", adjustments={}), 1)
    assert [monday[PAGE][hour] for hour in (17, 18, 22)] == pytest.approx([0.5, 0.6, 0.5])


def test_the_most_that_a_bid_may_be_keeps_every_place_at_todays_price():
    then = click_prices.after(NOW, [adjustment(TOP, 139), adjustment(PAGE, 20)])
    most = click_prices.most(NOW, then, 1.34)
    assert most == pytest.approx(1.34 / 2.39)
    assert (
        rises(
            adjustment(TOP, 139),
            adjustment(PAGE, 20),
            bid("banneton", "1.34", f"{floor(most * 100) / 100:.2f}"),
            bid("proofing bowl", "1", "0.10"),
        )
        == []
    )


def test_dated_boosts_in_force_do_not_excuse_other_days():
    now = replace(NOW, boosts=(Boost("event", "bid", 40, first=date(2026, 11, 20), last=date(2026, 11, 30)),))
    december = boost(10, "2026-12-01..2026-12-24")
    assert [each.moment.day for each in rises(december, now=now) if each.target]
    assert Placement.OFF_SITE in click_prices.PLACES
