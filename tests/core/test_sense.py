"""Implausible totals raise a doubt; differences that chance explains do not."""

import pytest

from nimbus_reef.core import sense
from nimbus_reef.core.model import MEASURES

FOUND = {"impressions": 40_000.0, "clicks": 900.0, "spend": 810.0, "orders": 60.0, "units": 66.0, "sales": 1_500.0}


def test_figures_that_agree_are_not_asked_about():
    assert sense.among_themselves(FOUND) == []
    assert sense.against_usual(FOUND, FOUND) == []
    assert sense.against_others(FOUND, FOUND, MEASURES) == []


@pytest.mark.parametrize(("part", "whole"), [("clicks", "impressions"), ("orders", "clicks")])
def test_what_is_more_than_what_it_is_a_part_of_is_named(part, whole):
    (doubt,) = sense.among_themselves(
        FOUND
        | {part: FOUND[whole] + 1, whole: FOUND[whole]}
        | {
            # what lies below stays below
            "orders": FOUND[whole] + 1 if part == "orders" else FOUND["orders"]
        }
    )
    assert (doubt.of, doubt.per) == (part, whole)


def test_a_funnel_counts_no_more_of_ones_own_than_of_the_market():
    funnel = {"market_impressions": 900.0, "own_impressions": 90.0, "market_clicks": 100.0, "own_clicks": 20.0}
    assert sense.among_themselves(funnel) == []
    swapped = funnel | {"market_clicks": 20.0, "own_clicks": 80.0}
    assert [(each.of, each.per) for each in sense.among_themselves(swapped)] == [("own_clicks", "market_clicks")]


@pytest.mark.parametrize(("factor", "asked"), [(0.3, True), (0.34, False), (1.0, False), (2.9, False), (3.1, True)])
def test_a_click_price_is_asked_about_from_three_times_on(factor, asked):
    found = FOUND | {"spend": FOUND["spend"] * factor}
    doubts = sense.against_usual(found, FOUND)
    assert bool(doubts) is asked
    if asked:
        assert (doubts[0].of, doubts[0].known) == ("spend", 0.9)
        assert doubts[0].found == pytest.approx(0.9 * factor)


def test_few_clicks_prove_nothing_and_what_is_not_there_is_not_off():
    assert sense.against_usual({"clicks": 20.0, "spend": 900.0}, FOUND) == []
    assert sense.against_usual({"clicks": 900.0}, FOUND) == []
    assert sense.against_others(FOUND, {"clicks": 10.0, "spend": 1.0}, MEASURES) == []


def test_bids_and_prices_bound_what_a_click_costs_and_an_order_brings():
    assert sense.against_range(FOUND, "spend", "clicks", 0.4, 2.0) == []
    assert sense.against_range(FOUND, "spend", "clicks", 0.02, 0.2)[0].known == 0.2
    assert sense.against_range(FOUND, "sales", "orders", 90.0, 400.0)[0].known == 90.0
    assert sense.against_range(FOUND, "spend", "clicks", 0, 0) == []


def test_another_report_of_the_same_days_tells_which_measure_is_off():
    held = FOUND | {"sales": FOUND["sales"] * 4}
    (doubt,) = sense.against_others(FOUND, held, MEASURES)
    assert (doubt.of, doubt.found, doubt.known) == ("sales", 1_500.0, 6_000.0)
