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
    assert past_bids.best_working(history, 0.28) == history[2]
    assert past_bids.best_working([], 0.28) is None


def test_a_target_has_dried_up_where_little_came_since_its_bid_was_changed():
    sold, quiet, fair = (Day(10, 1, 2, 20, 0.6),), (Day(2, 0, 1, 0, 0.4),), (Day(9, 1, 3, 20, 0.4),)
    found = past_bids.dried_up([*sold * 14, *quiet * 14], 0.4, 0.28)
    assert found is not None
    assert (round(found.bid, 2), found.orders) == (0.6, 14)
    assert past_bids.dried_up([*sold * 14, *fair * 14], 0.4, 0.28) is None, "it sells as well now"
    assert past_bids.dried_up([*sold * 14, *quiet * 14], 0.6, 0.28) is None, "it is the same bid"
    assert past_bids.dried_up([*sold * 14, *[Day(0, 0, 0, 0, 0.4)] * 14], 0.4, 0.28) == found
    assert past_bids.dried_up([*sold * 14, *quiet * 14], None, 0.28) is None
