"""Conflicts of a plan: what does not go together, and what to take out so that the rest does."""

from dataclasses import replace

import pytest
from tests.core.test_acceptance import numbered
from tests.core.test_click_prices import NOW, adjustment, bid, boost

from nimbus_reef.core import conflicts
from nimbus_reef.core.boosts import Boost
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.click_prices import ADJUSTABLE
from nimbus_reef.core.conflicts import ConflictKind

TOP, ELSEWHERE, PAGE = ADJUSTABLE


def found(changes, now=NOW):
    return conflicts.conflicts(numbered(changes), {"Bowls": now})


def without(changes, rows):
    return [change for number, change in enumerate(changes, 1) if number not in rows]


@pytest.mark.parametrize(
    ("changes", "kind"),
    [
        ([bid("banneton", "1.34", "0.9"), bid("banneton", "1.34", "0.8")], ConflictKind.SAME_THING),
        (
            [bid("banneton", "1.34", "0.9"), replace(bid("banneton", "enabled", "paused"), field="state")],
            ConflictKind.SAME_THING,
        ),
        ([adjustment(TOP, 30), bid("banneton", "1.34", "1.20")], ConflictKind.PRICE),
        (
            [adjustment(TOP, 30), bid("banneton", "1.34", "0.50"), bid("proofing bowl", "1.00", "1.10")],
            ConflictKind.ADJUSTMENT_AND_BID,
        ),
        ([boost(20, "6 7"), boost(30, "7", ("12", "14")), bid("banneton", "1.34", "0.50")], ConflictKind.BOOSTS),
        (
            [
                replace(boost(20), entity=Entity.BUDGET_BOOST),
                Change(0, Action.UPDATE, Entity.CAMPAIGN, "Bowls", "state", "paused", "enabled"),
            ],
            ConflictKind.BOOST_WHILE_PAUSED,
        ),
        (
            [
                Change(
                    0,
                    Action.CREATE,
                    Entity.TARGET,
                    "Bowls",
                    "bid",
                    "0.40",
                    ad_group="bowls",
                    target="large proofing bowl",
                    match_type="exact",
                ),
                Change(
                    0,
                    Action.CREATE,
                    Entity.NEGATIVE,
                    "Bowls",
                    "state",
                    "enabled",
                    target="proofing bowls",
                    match_type="negative_phrase",
                ),
            ],
            ConflictKind.STOPS_PROMOTED,
        ),
    ],
    ids=lambda each: each.name.lower() if isinstance(each, ConflictKind) else "",
)
def test_each_kind_is_found_and_each_way_out_resolves_it(changes, kind):
    conflict, *_ = found(changes)
    assert conflict.kind is kind
    for way in conflict.ways:
        assert kind not in {each.kind for each in found(without(changes, way))}


def test_what_goes_together_is_no_conflict():
    package = [
        replace(each, package=1)
        for each in (adjustment(TOP, 139), bid("banneton", "1.34", "0.50"), bid("proofing bowl", "1", "0.4"))
    ]
    assert found(package) == []
    assert found([boost(20, "6"), boost(20, "7"), bid("banneton", "1.34", "0.50")]) == []
    elsewhere = Change(
        0, Action.CREATE, Entity.TARGET, "Bowls", "bid", "0.40", ad_group="other", target="loaf tin", match_type="exact"
    )
    negative = Change(
        0,
        Action.CREATE,
        Entity.NEGATIVE,
        "Bowls",
        "state",
        "enabled",
        ad_group="bowls",
        target="loaf tin",
        match_type="negative_exact",
    )
    assert found([elsewhere, negative]) == [], "a promoted term is kept from where it was bought"


def test_a_boost_in_force_counts_with_one_that_is_planned():
    held = replace(NOW, boosts=(Boost("held", "bid", 30, (6,)),), targets={})
    (conflict,) = found([boost(20, "6 7")], held)
    assert (conflict.kind, conflict.percent, conflict.ways) == (ConflictKind.BOOSTS, 50.0, ((1,),))


def test_a_price_above_target_blocks_the_sheet():
    assert frozenset({ConflictKind.PRICE}) == conflicts.BLOCKS
