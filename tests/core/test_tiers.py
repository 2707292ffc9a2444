"""One's own rules: the first that matchs counts, what cannot be done says why, nothing is raised that never sold."""

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import tiers
from nimbus_reef.core.bids import BidLimits
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.reasons import ReasonKey
from nimbus_reef.core.recommendations import Move, Row
from nimbus_reef.core.tiers import ALWAYS, NO_ORDER, NoSale, RowAction, Tier

FIELDS = {"acos": pl.col("acos") * 100}
LIMITS = BidLimits(0.05, 4.0)
USUAL = [Tier(NO_ORDER, None, None, RowAction.PAUSE), Tier("acos", 60, 90, RowAction.BID_BY, -0.2)]


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


def test_the_first_rule_that_fits_counts():
    rows = pl.DataFrame({"orders": [0, 0, 1, 1, 1, 1], "acos": [None, 0.7, 0.6, 0.9, 0.901, None]})
    assert rows.with_columns(tiers.tier_of(USUAL, FIELDS))["tier"].to_list() == [0, 0, 1, 1, None, None]
    last = [*USUAL, Tier(ALWAYS, None, None, RowAction.ENABLE)]
    assert rows.with_columns(tiers.tier_of(last, FIELDS))["tier"].to_list() == [0, 0, 1, 1, 2, 2]


def test_rows_without_a_sale_count_as_above_only_where_that_is_said():
    """Spend without a sale has no end of ACOS: left out while nobody said whether it is meant."""
    rows = pl.DataFrame({"orders": [0, 1, 1], "sales": [0, 20, 20], "acos": [float("inf"), 0.9, 0.5]})

    def fits(**how):
        rule = Tier("acos", 70, how.pop("most", None), RowAction.PAUSE, **how)
        return [place == 0 for place in rows.with_columns(tiers.tier_of([rule], FIELDS))["tier"].to_list()]

    assert fits() == fits(no_sale=NoSale.OUT) == [False, True, False]
    assert fits(no_sale=NoSale.ABOVE) == [True, True, False]
    assert fits(most=95, no_sale=NoSale.ABOVE) == [False, True, False], "up to 95 % is not above everything"


@given(st.lists(st.floats(0, 3), min_size=1, max_size=20), st.floats(0, 100), st.floats(0, 100))
def test_a_range_holds_both_its_ends_and_nothing_beyond(values, least, width):
    rows = pl.DataFrame({"orders": [1] * len(values), "acos": values})
    rule = Tier("acos", least, least + width, RowAction.PAUSE)
    found = rows.with_columns(tiers.tier_of([rule], FIELDS))["tier"].to_list()
    for value, place in zip(values, found, strict=True):
        assert (place == 0) == (least - 1e-9 <= value * 100 <= least + width + 1e-9)


def test_a_bid_moves_by_a_share_to_a_figure_or_to_its_aim_within_the_limits():
    assert on_target(RowAction.BID_BY, -0.2).new_bid == 0.8
    assert on_target(RowAction.BID_TO, 0.55).new_bid == 0.55
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
