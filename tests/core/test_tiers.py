"""One's own rules: the first that is met counts, what cannot be done says why, nothing is raised that never sold."""

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import tiers
from nimbus_reef.core.bids import BidLimits
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.reasons import ReasonKey
from nimbus_reef.core.recommendations import Move, Row
from nimbus_reef.core.tiers import RowAction

LIMITS = BidLimits(0.05, 4.0)


def row(orders=2, clicks=40, spend=30.0):
    return Row(
        days=30,
        clicks=clicks,
        orders=orders,
        spend=spend,
        sales=orders * 25.0,
        a=1.0 + orders,
        b=20.0 + clicks - orders,
        aov=25.0,
        target_acos=0.3,
        verdict=Verdict.ABOVE,
        own_test=True,
        own_fault=True,
        more_clicks=None,
    )


def on_target(deed, value=None, *, of=None, bid=1.0, state="enabled", raises=False):
    return tiers.on_target(of or row(), deed, value, bid=bid, state=state, limits=LIMITS, raises=raises)


def test_the_first_condition_that_is_met_counts_and_an_unknown_figure_meets_none():
    rows = pl.DataFrame({"orders": [0, 0, 1, 1, 1, None], "acos": [None, 0.7, 0.6, 0.9, 0.901, None]})
    conditions = [pl.col("orders") == 0, pl.col("acos").is_between(0.6, 0.9)]
    assert rows.select(tiers.first_met(conditions))["tier"].to_list() == [0, 0, 1, 1, None, None]
    every = [*conditions, pl.lit(True)]
    assert rows.select(tiers.first_met(every))["tier"].to_list() == [0, 0, 1, 1, 2, 2]


@given(st.lists(st.lists(st.booleans(), min_size=3, max_size=3), min_size=1, max_size=12))
def test_each_row_follows_one_rule_and_it_is_the_first(rows):
    frame = pl.DataFrame(rows, schema=["a", "b", "c"], orient="row")
    found = frame.select(tiers.first_met([pl.col("a"), pl.col("b"), pl.col("c")]))["tier"].to_list()
    assert found == [row.index(True) if any(row) else None for row in rows]


def test_a_bid_moves_by_a_share_to_a_figure_or_to_its_aim_within_the_limits():
    assert on_target(RowAction.BID_BY, -0.2).new_bid == 0.8
    assert on_target(RowAction.BID_TO, 0.55).new_bid == 0.55
    assert on_target(RowAction.BID_FROM_CPC, -0.2).new_bid == 0.6, "80 % of what a click cost: 30 / 40"
    worth = row().cvr * 25.0
    assert on_target(RowAction.BID_TO_AIM).new_bid == pytest.approx(0.3 * worth, abs=0.005)
    assert on_target(RowAction.BID_BY, -0.99).new_bid == LIMITS.floor
    kept = on_target(RowAction.BID_TO, 9.0)
    assert (kept.new_bid, kept.reasons[-1].key) == (LIMITS.ceiling, "ceiling")


@pytest.mark.parametrize(
    ("asked", "why"),
    [
        ({"deed": RowAction.PAUSE, "state": "paused"}, "is_paused"),
        ({"deed": RowAction.ENABLE}, "is_enabled"),
        ({"deed": RowAction.BID_BY, "value": -0.2, "bid": None}, "no_bid_known"),
        ({"deed": RowAction.BID_TO, "value": 1.0}, "bid_is_there"),
        ({"deed": RowAction.BID_TO, "value": 1.2, "of": row(orders=0)}, "raise_without_order"),
        ({"deed": RowAction.BID_TO_AIM, "of": row(orders=0, clicks=0, spend=0.0)}, "no_clicks"),
        ({"deed": RowAction.BID_FROM_CPC, "value": 0.1, "of": row(orders=0, clicks=0, spend=0.0)}, "no_clicks"),
    ],
)
def test_what_cannot_be_done_says_why(asked, why):
    found = on_target(**asked)
    assert (found.move, found.reasons[0].key) == (Move.NONE, why)


def test_a_raise_without_an_order_is_made_when_asked_for_by_name():
    assert on_target(RowAction.BID_TO, 1.2, of=row(orders=0), raises=True).new_bid == 1.2


def test_a_pause_takes_spend_and_what_it_would_have_sold():
    effect = on_target(RowAction.PAUSE).projected
    assert effect.spend.middle == -30.0
    assert effect.sales.low < effect.sales.middle < effect.sales.high < 0


def test_a_term_s_own_exact_keyword_is_paused_rather_than_negated():
    plain = tiers.on_term(row(orders=0), RowAction.NEGATIVE_PHRASE, LIMITS)
    assert (plain.move, plain.match) == (Move.NEGATIVE, "negative_phrase")
    own = tiers.on_term(row(orders=0), RowAction.NEGATIVE_EXACT, LIMITS, own_exact=True)
    assert own.move is Move.PAUSE
    assert tiers.on_term(row(), RowAction.OWN_TARGET, LIMITS, own_exact=True).reasons[0].key == "has_own_target"
    made = tiers.on_term(row(), RowAction.OWN_TARGET, LIMITS)
    assert (made.move, made.new_bid > 0) == (Move.PROMOTE, True)


@pytest.mark.parametrize(
    ("asked", "proposed", "reasons"),
    [
        (9.0, 4.0, [ReasonKey.OWN_ACTION, ReasonKey.CEILING]),
        (4.0, 4.0, [ReasonKey.OWN_ACTION]),
        (0.01, 0.05, [ReasonKey.OWN_ACTION, ReasonKey.FLOOR]),
        (0.05, 0.05, [ReasonKey.OWN_ACTION]),
        (2.5, 2.5, [ReasonKey.OWN_ACTION]),
    ],
)
def test_a_bid_that_is_held_by_a_limit_says_so_and_no_other_does(asked, proposed, reasons):
    made = on_target(RowAction.BID_TO, asked)
    assert made.advice.proposed == proposed
    assert [each.key for each in made.reasons] == reasons
