"""Bids: what a click may cost, and every limit that held the proposal back."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import bids
from nimbus_reef.core.bids import BidLimits, Day, PastBlock
from nimbus_reef.core.model import Verdict


def keys(advice):
    return [reason.key for reason in advice.reasons]


def test_a_costly_bid_comes_down_one_step_at_a_time():
    """Aim 0.31 from a bid of 1.05: stopped at −30 %."""
    advice = bids.advise(bid=1.05, cpc=0.94, value=1.0, target_acos=0.28, verdict=Verdict.ABOVE)
    assert advice.aim == pytest.approx(0.28 * 1.05 / 0.94)
    assert advice.proposed == 0.73 or advice.proposed == 0.74
    assert keys(advice) == ["aim", "step_down"]


def test_a_fine_bid_rises_by_a_fifth_at_most_and_never_past_what_worked():
    advice = bids.advise(bid=0.50, cpc=0.50, value=5.0, target_acos=0.28, verdict=Verdict.WITHIN)
    assert (advice.proposed, keys(advice)) == (0.60, ["aim", "step_up"])
    held = bids.advise(bid=0.50, cpc=0.50, value=5.0, target_acos=0.28, verdict=Verdict.WITHIN, best_bid=0.52)
    assert held.proposed == pytest.approx(0.57)
    assert keys(held) == ["aim", "step_up", "best_bid"]


@pytest.mark.parametrize("verdict", [Verdict.ABOVE, Verdict.LIKELY_ABOVE, Verdict.TOO_EARLY])
def test_nothing_rises_unless_it_is_shown_to_be_fine(verdict):
    advice = bids.advise(bid=0.50, cpc=0.50, value=5.0, target_acos=0.28, verdict=verdict)
    assert not advice.moves
    assert "no_raise" in keys(advice)


def test_floor_and_ceiling_have_the_last_word():
    low = bids.advise(
        bid=0.06, cpc=0.06, value=0.0, target_acos=0.28, verdict=Verdict.ABOVE, limits=BidLimits(floor=0.05)
    )
    assert (low.proposed, "floor" in keys(low)) == (0.05, True)
    high = bids.advise(bid=9.9, cpc=9.9, value=90, target_acos=0.28, verdict=Verdict.WITHIN)
    assert (high.proposed, "ceiling" in keys(high)) == (10.0, True)


@given(st.floats(0.05, 5), st.floats(0.02, 5), st.floats(0, 20), st.sampled_from(list(Verdict)))
def test_a_proposal_never_leaves_its_limits(bid, cpc, value, verdict):
    advice = bids.advise(bid=round(bid, 2), cpc=cpc, value=value, target_acos=0.28, verdict=verdict)
    assert 0.02 <= advice.proposed <= 10
    assert 0.7 * advice.bid - 0.006 <= advice.proposed or advice.proposed == 0.02
    assert advice.proposed <= 1.2 * advice.bid + 0.006 or advice.bid < 0.05


def test_a_promoted_term_opens_near_what_its_clicks_cost_whatever_they_were_worth():
    """3 clicks, 3 orders, 0.99 paid, 0.33 a click: not at the 5.19 that three lucky clicks are worth."""
    lucky = bids.opening(value=18.5, target_acos=0.28, cpc=0.33, ratio=1.0)
    assert lucky.aim == pytest.approx(5.18)
    assert (lucky.proposed, keys(lucky)) == (pytest.approx(0.495, abs=0.006), ["opening_bid", "opening_near"])
    poor = bids.opening(value=0.5, target_acos=0.28, cpc=1.0, ratio=1.0)
    assert poor.proposed == pytest.approx(0.50)
    worth_it = bids.opening(value=4.0, target_acos=0.25, cpc=0.9, ratio=1.0)
    assert (worth_it.proposed, keys(worth_it)) == (1.0, ["opening_bid"])
    own = BidLimits(opening_most=3.0)
    assert bids.opening(value=18.5, target_acos=0.28, cpc=0.33, ratio=1.0, limits=own).proposed == 0.99


@given(st.floats(0, 100), st.floats(0.02, 5), st.floats(0.5, 2))
def test_an_opening_bid_never_leaves_the_neighbourhood_of_todays_price(value, cpc, ratio):
    bid = bids.opening(value=value, target_acos=0.28, cpc=cpc, ratio=ratio).proposed
    assert 0.5 * cpc * ratio - 0.006 <= bid <= 1.5 * cpc * ratio + 0.006 or bid in (0.02, 10.0)


def test_blocks_are_counted_back_from_the_end_and_weigh_bids_by_clicks():
    old = [Day(0, 0, 0, 0, 1.0)] * 3
    first = [Day(10, 1, 5, 40, 0.5)] * 7 + [Day(30, 1, 15, 40, 0.9)] * 7
    second = [Day(10, 0, 5, 0, 0.7)] * 14
    found = bids.blocks(old + first + second)
    assert [round(block.bid, 2) for block in found] == [0.7, 0.8]
    assert (found[1].orders, found[1].spend, found[1].sales) == (14, 140, 560)


def test_the_best_working_bid_met_the_target_with_three_orders():
    history = [
        PastBlock(0.9, 2, 10, 100),
        PastBlock(0.8, 3, 10, 30),
        PastBlock(0.6, 3, 10, 100),
        PastBlock(0.5, 9, 10, 100),
    ]
    assert bids.best_working_bid(history, 0.28) == 0.6
    assert bids.best_working_bid([], 0.28) is None
