"""Proposals: what to do about a row, and when to leave it alone."""

from dataclasses import replace

import pytest

from nimbus_reef.core import words
from nimbus_reef.core.bids import BidMove, Held, TargetAdvice
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.recommendations import AdProduct, Move, Place, Row, for_phrase, for_target, for_term
from nimbus_reef.core.response import ClickResponse

ROW = Row(
    days=30,
    clicks=60,
    orders=0,
    spend=48.0,
    sales=0.0,
    a=8,
    b=150,
    aov=30.0,
    target_acos=0.28,
    verdict=Verdict.ABOVE,
    own_test=True,
    own_fault=True,
    more_clicks=0,
)
LAMP = AdProduct(
    "L-1",
    "Nimbra Grow Lamp 30 cm, for seedlings",
    50.0,
    words.title_core("Nimbra Grow Lamp 30 cm, for seedlings", ["Nimbra"]),
)


ADVICE = TargetAdvice(
    bid=1.0,
    proposed=0.65,
    aim=0.42,
    move=BidMove.BID,
    held="",
    worth=1.2,
    ratio=1.25,
    may_cost=0.336,
    goal_acos=0.28,
    margin=0.4,
    p_lose=0.95,
    cohort_mean=0.06,
    moved_days=4,
)


def keys(found):
    return [reason.key for reason in found.reasons]


def test_a_pause_says_what_a_click_may_cost_and_how_sure_the_loss_is():
    found = for_target(ROW, replace(ADVICE, move=BidMove.PAUSE))
    assert (found.move, keys(found)) == (Move.PAUSE, ["no_bid_left", "loses"])
    assert found.projected.spend.middle == -48.0
    assert found.projected.sales.low < found.projected.sales.middle < 0


def test_a_bid_says_its_sum_and_every_limit_that_bit():
    found = for_target(ROW, ADVICE)
    assert (found.move, found.new_bid) == (Move.BID, 0.65)
    assert keys(found) == ["aim", "few_clicks"]
    sure = replace(ROW, a=5.0, b=75.0, clicks=70)
    bit = {"stepped": True, "doubled": True, "at_floor": True, "at_ceiling": True, "share_of_raise": 0.62}
    assert keys(for_target(sure, replace(ADVICE, proposed=2.0, **bit))) == [
        "aim",
        "step_up",
        "doubled",
        "floor",
        "ceiling",
        "spend_limit",
        "own_conversion",
    ]
    assert "above_margin" in keys(for_target(ROW, replace(ADVICE, margin=0.2)))


def test_a_bid_moves_clicks_as_the_account_answers():
    weak, strong = (
        for_target(ROW, ADVICE, response=ClickResponse(e, 0.1, 0.9)).projected.sales.middle for e in (0.3, 1.5)
    )
    assert strong < weak < 0


def test_a_target_without_clicks_counts_as_similar_ones_and_promises_nothing():
    idle = replace(ROW, clicks=0, spend=0.0, verdict=Verdict.NOT_ENOUGH)
    found = for_target(idle, replace(ADVICE, proposed=1.2))
    assert (keys(found)[-1], found.projected.known) == ("no_clicks_yet", False)


@pytest.mark.parametrize("held", list(Held))
def test_a_bid_that_stays_says_why_first(held):
    found = for_target(ROW, replace(ADVICE, move=BidMove.NONE, held=held.value))
    assert (found.move, found.new_bid) == (Move.NONE, None)
    assert len(found.reasons) > 1
    assert found.reasons[0].key != "aim"


def test_nothing_is_blocked_where_no_click_was_paid_for():
    idle = replace(ROW, clicks=0, spend=0.0, verdict=Verdict.NOT_ENOUGH, own_test=False)
    assert for_term(idle, "grow lamp", loses=True).reasons[0].key == "no_clicks"


def test_a_wasted_term_becomes_a_negative_with_a_warning_about_its_sibling():
    proposal = for_term(ROW, "grow lamp aquarium", loses=True, p_lose=0.97, products=[LAMP], orders_elsewhere=2)
    assert proposal.move is Move.NEGATIVE
    assert keys(proposal) == ["own_test", "own_fault", "loses", "orders_elsewhere"]


def test_an_order_does_not_save_a_term_that_surely_loses_money():
    sold = replace(ROW, orders=1, sales=30.0, clicks=668, spend=340.0)
    proposal = for_term(sold, "grow lamp aquarium", loses=True, p_lose=0.99, margin=0.4)
    assert (proposal.move, keys(proposal)[-1]) == (Move.NEGATIVE, "sales_lost")
    assert proposal.projected.sales.middle < 0


def test_a_term_that_names_the_product_is_never_blocked():
    """Every word stands in the title less brand, sizes and words with a digit; plurals count."""
    assert for_term(ROW, "Grow Lamps", loses=True, products=[LAMP]).reasons[0].key == "names_product"
    assert for_term(ROW, "grow lamp for fish", loses=True, products=[LAMP]).move is Move.NEGATIVE


@pytest.mark.parametrize(
    ("change", "key"),
    [
        ({"verdict": Verdict.WITHIN}, "within_target"),
        ({"verdict": Verdict.LIKELY_ABOVE}, "undecided"),
        ({"own_test": False}, "no_own_test"),
        ({"own_fault": False}, "its_product"),
    ],
)
def test_what_keeps_a_term_from_becoming_a_negative(change, key):
    proposal = for_term(replace(ROW, **change), "anything", loses=True)
    assert (proposal.move, proposal.reasons[0].key) == (Move.NONE, key)


def test_a_term_above_target_that_may_still_earn_is_not_blocked():
    assert for_term(ROW, "anything", loses=False).reasons[0].key == "still_earns"


def test_a_phrase_is_kept_away_where_no_product_is_called_that():
    here = Place("c", "one", 30.0, ("grow lamps",), ("1-1", "1-2"), names_product=False)
    spared = Place("c", "two", 10.0, ("grow lamp",), ("2-1",), names_product=True)
    proposal = for_phrase(ROW, [here, spared])
    assert proposal.move is Move.NEGATIVE
    assert proposal.projected.spend.middle == pytest.approx(-36.0)
    assert [reason.key for reason in proposal.reasons][2:] == ["places", "places_spared"]
    assert for_phrase(ROW, [spared]).reasons[0].key == "names_product"
    assert for_phrase(replace(ROW, orders=1), [here]).move is Move.NONE
