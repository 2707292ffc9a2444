"""Proposals: what to do about a row, and when to leave it alone."""

from dataclasses import replace

import pytest

from nimbus_reef.core import words
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.recommendations import AdProduct, Move, Place, Row, for_phrase, for_target, for_term

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


def test_a_failed_target_is_paused_after_its_own_test():
    proposal = for_target(ROW, bid=1.0)
    assert proposal.move is Move.PAUSE
    assert proposal.projected.spend.middle == -48.0
    assert proposal.projected.sales.low < proposal.projected.sales.middle < 0


@pytest.mark.parametrize("change", [{"own_test": False}, {"own_fault": False}, {"orders": 1, "sales": 30.0}])
def test_without_own_test_own_fault_or_with_an_order_only_the_bid_moves(change):
    proposal = for_target(replace(ROW, **change), bid=1.0)
    assert (proposal.move, proposal.new_bid) == (Move.BID, 0.70)


def test_an_undecided_target_is_left_with_the_clicks_it_still_needs():
    proposal = for_target(replace(ROW, verdict=Verdict.TOO_EARLY, more_clicks=14), bid=1.0)
    assert proposal.move is Move.NONE
    assert proposal.reasons[0].figures == (14.0,)


def test_no_bid_known_and_too_small_an_account_move_nothing():
    assert for_target(replace(ROW, own_fault=False), bid=None).reasons[0].key == "no_bid_known"
    assert for_target(replace(ROW, verdict=Verdict.NOT_ENOUGH), bid=1.0).reasons[0].key == "too_small"


def test_nothing_moves_where_no_click_was_paid_for():
    """Nothing is worked out from a price that nobody paid."""
    idle = replace(ROW, clicks=0, spend=0.0, verdict=Verdict.NOT_ENOUGH, own_test=False)
    assert for_target(idle, bid=1.0).reasons[0].key == "no_clicks"
    assert for_term(idle, "grow lamp").reasons[0].key == "no_clicks"
    free = replace(ROW, spend=0.0, verdict=Verdict.WITHIN)
    assert for_target(free, bid=1.0).reasons[0].key == "no_clicks"


def test_a_wasted_term_becomes_a_negative_with_a_warning_about_its_sibling():
    proposal = for_term(ROW, "grow lamp aquarium", products=[LAMP], orders_elsewhere=2)
    assert proposal.move is Move.NEGATIVE
    assert [reason.key for reason in proposal.reasons] == ["own_test", "own_fault", "orders_elsewhere"]


def test_a_term_that_names_the_product_is_never_blocked():
    """Every word stands in the title less brand, sizes and words with a digit; plurals count."""
    assert for_term(ROW, "Grow Lamps", products=[LAMP]).reasons[0].key == "names_product"
    assert for_term(ROW, "grow lamp for fish", products=[LAMP]).move is Move.NEGATIVE


@pytest.mark.parametrize(
    ("change", "key"),
    [
        ({"orders": 1}, "has_orders"),
        ({"verdict": Verdict.WITHIN}, "within_target"),
        ({"verdict": Verdict.LIKELY_ABOVE}, "undecided"),
        ({"own_test": False}, "no_own_test"),
        ({"own_fault": False}, "its_product"),
    ],
)
def test_what_keeps_a_term_from_becoming_a_negative(change, key):
    proposal = for_term(replace(ROW, **change), "anything")
    assert (proposal.move, proposal.reasons[0].key) == (Move.NONE, key)


def test_a_phrase_is_kept_away_where_no_product_is_called_that():
    here = Place("c", "one", 30.0, ("grow lamps",), ("1-1", "1-2"), names_product=False)
    spared = Place("c", "two", 10.0, ("grow lamp",), ("2-1",), names_product=True)
    proposal = for_phrase(ROW, [here, spared])
    assert proposal.move is Move.NEGATIVE
    assert proposal.projected.spend.middle == pytest.approx(-36.0)
    assert [reason.key for reason in proposal.reasons][2:] == ["places", "places_spared"]
    assert for_phrase(ROW, [spared]).reasons[0].key == "names_product"
    assert for_phrase(replace(ROW, orders=1), [here]).move is Move.NONE
