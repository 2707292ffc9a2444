"""
Accepting into a plan: a package whole or not at all, and nothing above target dearer than today,
whatever the order.
"""

from dataclasses import replace
from datetime import date, timedelta
from itertools import product

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.core.test_click_prices import NOW, adjustment, bid, boost

from nimbus_reef.core import acceptance, plan
from nimbus_reef.core.boosts import Boost
from nimbus_reef.core.changes import Action, Change, Entity, key
from nimbus_reef.core.click_prices import ADJUSTABLE, CampaignBids, TargetBid
from nimbus_reef.core.model import Placement

TOP, ELSEWHERE, PAGE = ADJUSTABLE
CAMPAIGNS = {"Bowls": NOW}
SOLUTION = [bid("banneton", "1.34", "0.50"), bid("proofing bowl", "1.00", "0.40"), adjustment(TOP, 139)]


def numbered(changes):
    """As they stand in a plan, each package under the row of its first change."""
    return [replace(change, row=number) for number, change in enumerate(changes, 1)]


def accept(held, *packages, campaigns=CAMPAIGNS):
    return acceptance.accepted(held, packages, campaigns)


def test_a_package_takes_its_bids_with_it_and_replaces_those_in_the_plan():
    """Bids first, then the placements: its adjustments went in alone and raised "banneton" to 2.25."""
    held = numbered([bid("banneton", "1.34", "0.94"), bid("proofing bowl", "1.00", "1.10")])
    done = accept(held, SOLUTION)
    assert done.new == (0,)
    assert [change.row for change in done.replaced] == [1, 2]
    assert list(done.plan) == SOLUTION


def test_what_is_planned_just_so_is_not_taken_again():
    held = numbered(SOLUTION)
    assert accept(held, SOLUTION) == acceptance.Acceptance((), (), tuple(held), already=(0,), refused={})


def test_a_package_is_broken_up_by_nothing_and_replaced_whole_by_another():
    held = [replace(change, package=1) for change in numbered(SOLUTION)]
    alone = accept(held, [bid("proofing bowl", "1.00", "0.90")])
    assert (alone.new, alone.packaged, list(alone.plan)) == ((), (0,), held)
    other = accept(held, [bid("proofing bowl", "1.00", "0.90"), adjustment(PAGE, 0)])
    assert len(other.replaced) == 3
    assert [change.new_value for change in other.plan] == ["0.90", "0"]


def test_a_price_that_would_rise_is_refused_with_its_figure():
    done = accept([], [adjustment(TOP, 139)])
    assert (done.new, done.plan) == ((), ())
    assert (done.refused[0].before, done.refused[0].after) == (1.34, pytest.approx(1.34 * 2.39))


def test_a_cut_beside_a_boost_makes_room_for_it_in_whatever_order_they_come():
    weekend, cut = [boost(20, "6 7")], [bid("banneton", "1.34", "1.00")]
    for packages in ((weekend, cut), (cut, weekend)):
        done = accept([], *packages)
        assert (done.new, done.refused) == ((0, 1), {})


def test_a_cut_is_not_refused_because_something_else_is_dear_already():
    """A plan from before the verdict was known: whatever makes it cheaper may go in."""
    held = numbered([adjustment(TOP, 139)])
    done = accept(held, [bid("banneton", "1.34", "0.90")])
    assert done.new == (0,)
    assert accept(held, [bid("banneton", "1.34", "1.40")]).refused


def test_a_bid_on_what_the_plan_pauses_is_left_and_a_pause_replaces_a_bid_alone():
    pause = replace(bid("banneton", "enabled", "paused"), field="state")
    assert accept(numbered([pause]), [bid("banneton", "1.34", "0.9")]).stopped == (0,)
    done = accept(numbered([bid("banneton", "1.34", "0.9")]), [pause])
    assert (done.new, list(done.plan)) == ((0,), [pause])


def test_two_proposals_of_one_acceptance_for_the_same_thing_are_not_both_taken():
    done = accept([], [bid("banneton", "1.34", "0.9")], [bid("banneton", "1.34", "0.8")])
    assert (done.new, done.contradicted) == ((0,), (1,))


def test_taking_something_out_that_others_need_is_told():
    held = numbered([bid("banneton", "1.34", "1.00"), boost(20, "6 7")])
    assert acceptance.dearer(held, held, CAMPAIGNS) == []
    rise, *_ = acceptance.dearer(held, held[1:], CAMPAIGNS)
    assert rise.after == pytest.approx(1.34 * 1.2)


# --- any plan, in any order ----------------------------------------------------------------------------------------

TARGETS = [("g", "a"), ("g", "b"), ("h", "c")]
DAYS = [date(2026, 11, 2) + timedelta(days=n) for n in range(21)]
MONEY = st.integers(10, 300).map(lambda cents: cents / 100)


@st.composite
def campaigns(draw):
    targets = {
        (group, name, "exact"): TargetBid(draw(MONEY), draw(st.booleans()), draw(st.booleans()), draw(st.booleans()))
        for group, name in TARGETS
    }
    adjustments = {place: draw(st.sampled_from([0.0, 0.2, 1.0])) for place in ADJUSTABLE}
    held = tuple(
        Boost(
            "held",
            "bid",
            draw(st.integers(1, 60)),
            (),
            hour,
            hour + 6,
            "",
            draw(st.none() | st.sampled_from(DAYS[:7])),
            None,
        )
        for hour in draw(st.lists(st.sampled_from([0, 9, 18]), max_size=1))
    )
    bidding = draw(st.sampled_from(["fixed", "up_and_down"]))
    return CampaignBids("c", targets, adjustments, held, {TOP: 1.0}, bidding)


@st.composite
def changes(draw):
    """Anything that a proposal may do to a campaign."""
    group, name = draw(st.sampled_from(TARGETS))
    one = {"row": 0, "action": Action.UPDATE, "campaign": "c", "old_value": "x"}
    money = f"{draw(MONEY):.2f}"
    whole = draw(st.integers(0, 150))
    target = {"ad_group": group, "target": name, "match_type": "exact"}
    hour = draw(st.sampled_from([0, 9, 18]))
    dates = draw(st.sampled_from(["", "6 7", "2026-11-09..2026-11-12", "1 2; ..2026-11-10"]))
    boosted = {
        "action": Action.CREATE,
        "field": "percent",
        "new_value": str(max(1, whole)),
        "days": dates,
        "from_hour": str(hour),
        "to_hour": str(hour + 6),
    }
    return draw(
        st.sampled_from(
            [
                Change(**one, entity=Entity.TARGET, field="bid", new_value=money, **target),
                Change(
                    **one,
                    entity=Entity.TARGET,
                    field="state",
                    new_value=draw(st.sampled_from(["paused", "enabled"])),
                    **target,
                ),
                Change(**one, entity=Entity.AD_GROUP, ad_group=group, field="default_bid", new_value=money),
                Change(
                    **one,
                    entity=Entity.PLACEMENT,
                    placement=draw(st.sampled_from(ADJUSTABLE)).value,
                    field="adjustment",
                    new_value=str(whole),
                ),
                Change(**{**one, **boosted}, entity=Entity.BID_BOOST),
                Change(**{**one, **boosted}, entity=Entity.BUDGET_BOOST),
                Change(**one, entity=Entity.CAMPAIGN, field="daily_budget", new_value=money),
                Change(
                    **{**one, "action": Action.CREATE},
                    entity=Entity.NEGATIVE,
                    field="state",
                    new_value="enabled",
                    ad_group=group,
                    target=f"not {name}",
                    match_type="negative_exact",
                ),
            ]
        )
    )


def distinct(package):
    return list({key(change): change for change in package}.values())


def slow_price(now, planned, target, place, day, hour):
    """What a click costs at most, told change by change, without any of the code under test."""
    group, name, _ = target
    bid = now.targets[target].bid
    live = now.targets[target].live
    adjustment = now.adjustments.get(place, 0.0)
    own = now.targets[target].own_bid
    boosts = [
        (each.first or date.min, date.max, range(1, 8), each.from_hour, each.to_hour, each.percent)
        for each in now.boosts
    ]
    for change in planned:
        mine = (change.ad_group, change.target) == (group, name)
        if change.entity is Entity.TARGET and mine and change.field == "bid":
            bid, own = float(change.new_value), True
        if change.entity is Entity.TARGET and mine and change.field == "state":
            live = change.new_value == "enabled"
        if change.entity is Entity.PLACEMENT and change.placement == place.value:
            adjustment = float(change.new_value) / 100
        if change.entity is Entity.BID_BOOST:
            first, last, weekdays = date.min, date.max, range(1, 8)
            for part in filter(None, change.days.split("; ")):
                if ".." in part:
                    begins, ends = part.split("..")
                    first = date.fromisoformat(begins) if begins else date.min
                    last = date.fromisoformat(ends) if ends else date.max
                else:
                    weekdays = [int(each) for each in part.split()]
            boosts.append((first, last, weekdays, int(change.from_hour), int(change.to_hour), float(change.new_value)))
    if not own:
        for change in planned:
            if change.entity is Entity.AD_GROUP and change.ad_group == group:
                bid = float(change.new_value)
    if not live:
        return 0.0
    added = sum(
        percent / 100
        for first, last, weekdays, begins, ends, percent in boosts
        if first <= day <= last and day.isoweekday() in weekdays and begins <= hour < ends
    )
    u = 1.0 if place is TOP and now.bidding == "up_and_down" else 0.0
    return bid * (1 + (0.0 if place is Placement.OFF_SITE else adjustment) + added) * (1 + u)


@settings(max_examples=60)
@given(
    campaigns(), st.lists(st.lists(changes(), min_size=1, max_size=4).map(distinct), min_size=1, max_size=6), st.data()
)
def test_in_whatever_order_nothing_above_target_gets_dearer_and_no_package_is_split(now, packages, data):
    held = []
    row = 0
    order = data.draw(st.permutations(range(len(packages))))
    while order:
        size = data.draw(st.integers(1, len(order)))
        batch, order = [packages[place] for place in order[:size]], order[size:]
        done = acceptance.accepted(held, batch, {"c": now})
        gone = {change.row for change in done.replaced}
        held = [change for change in held if change.row not in gone]
        for place in done.new:
            first = row + 1
            for change in batch[place]:
                row += 1
                held.append(replace(change, row=row, package=first if len(batch[place]) > 1 else 0))
        assert {key(change) for change in held} == {key(change) for change in done.plan}
    for change in held:
        if change.package:
            together = [each for each in held if each.package == change.package]
            whole = [p for p in packages if {key(each) for each in p} == {key(each) for each in together}]
            assert whole, "a package stands in the plan whole"
    assert plan.problems(held) == [] or all("contradicts" not in each.reason for each in plan.problems(held))
    places = (*ADJUSTABLE, Placement.OFF_SITE)
    for target, place, day, hour in product(now.targets, places, DAYS, (0, 9, 18)):
        if now.targets[target].above_target:
            before = slow_price(now, [], target, place, day, hour)
            assert slow_price(now, held, target, place, day, hour) <= before * (1 + 1e-9) + 1e-12
