"""The bids of a target's past: fortnights counted back, and the highest that worked."""

from nimbus_reef.core import past_bids
from nimbus_reef.core.past_bids import Day, PastBlock


def test_blocks_are_counted_back_from_the_end_and_weigh_bids_by_clicks():
    old = [Day(0, 0, 0, 0, 1.0)] * 3
    first = [Day(10, 1, 5, 40, 0.5)] * 7 + [Day(30, 1, 15, 40, 0.9)] * 7
    second = [Day(10, 0, 5, 0, 0.7)] * 14
    found = past_bids.blocks(old + first + second)
    assert [round(block.bid, 2) for block in found] == [0.7, 0.8]
    assert (found[1].orders, found[1].spend, found[1].sales) == (14, 140, 560)


def test_the_best_working_bid_met_the_target_with_three_orders():
    history = [
        PastBlock(0.9, 2, 10, 100),
        PastBlock(0.8, 3, 10, 30),
        PastBlock(0.6, 3, 10, 100),
        PastBlock(0.5, 9, 10, 100),
    ]
    assert past_bids.best_working_bid(history, 0.28) == 0.6
    assert past_bids.best_working_bid([], 0.28) is None
