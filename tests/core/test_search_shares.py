"""Shares of searches: who has room at the top, what a raise would bring, which search terms get little."""

import polars as pl
import pytest

from nimbus_reef.core.search_shares import ShareLimits, TermLeft, TopLeft, share_after, term_left, top_left

GOOD_TARGET = {"p_over": 0.04, "top_of_search_share": 0.12, "sales": 180.0, "age": 60}
GOOD_TERM = {
    "impression_share": 0.1,
    "impression_rank": 2.2,
    "p_over": 0.2,
    "orders": 3,
    "format": "product",
    "covered": False,
    "branded": False,
    "dropped": False,
}


def why(row, of, limits):
    schema = dict.fromkeys(("p_over", "top_of_search_share", "impression_share", "impression_rank"), pl.Float64)
    schema["format"] = pl.String
    rows = pl.DataFrame([row], schema_overrides={name: kind for name, kind in schema.items() if name in row})
    return rows.select(of(limits)).item()


@pytest.mark.parametrize(
    ("change", "found"),
    [
        ({}, None),
        ({"p_over": 0.11}, TopLeft.NOT_SURE),
        ({"p_over": None}, TopLeft.NOT_SURE),
        ({"top_of_search_share": None}, TopLeft.UNTOLD),
        ({"top_of_search_share": 0.31}, TopLeft.ENOUGH),
        ({"top_of_search_share": 0.30}, None),
        ({"sales": 49.9}, TopLeft.SMALL),
        ({"age": 13}, TopLeft.YOUNG),
        ({"age": 13, "p_over": 0.5}, TopLeft.NOT_SURE),
    ],
)
def test_a_target_is_listed_that_is_well_within_target_and_small_at_the_top(change, found):
    assert why(GOOD_TARGET | change, top_left, ShareLimits()) == found


def test_a_campaign_whose_age_nobody_knows_is_not_too_young():
    rows = pl.DataFrame([GOOD_TARGET | {"age": None}], schema_overrides={"age": pl.Int64})
    assert rows.select(top_left()).item() is None


@pytest.mark.parametrize(
    ("change", "found"),
    [
        ({}, None),
        ({"impression_share": None}, TermLeft.UNTOLD),
        ({"impression_share": 0.26}, TermLeft.ENOUGH),
        ({"impression_rank": 4.5}, None),
        ({"impression_rank": 4.6}, TermLeft.BEHIND),
        ({"p_over": 0.5}, TermLeft.ABOVE),
        ({"orders": 0}, TermLeft.NO_ORDER),
        ({"format": "brand"}, TermLeft.OTHER_FORMAT),
        ({"format": None}, None),
        ({"covered": True}, TermLeft.OWN_TARGET),
        ({"branded": True}, TermLeft.BRAND),
        ({"dropped": True}, TermLeft.NEVER),
    ],
)
def test_a_search_term_is_listed_that_earns_and_gets_little(change, found):
    assert why(GOOD_TERM | change, term_left, ShareLimits()) == found


def test_limits_are_one_s_own_for_shares_too():
    assert why(GOOD_TARGET | {"sales": 30.0, "age": 3}, top_left, ShareLimits(sales=20, age=2)) is None
    assert why(GOOD_TERM, term_left, ShareLimits(share=0.05)) == TermLeft.ENOUGH


def test_the_share_follows_the_bid_as_clicks_do():
    """0.17 at a bid of 0.50, raised to 0.80 at e 0.6: 0.17 x 1.6^0.6 = 0.2254; never more than all of it."""
    rows = pl.DataFrame(
        {"top_of_search_share": [0.17, 0.17, 0.9], "bid": [0.5, 0.5, 0.5], "proposed": [0.8, None, 5.0]}
    )
    assert rows.select(share_after(0.6)).to_series().to_list() == pytest.approx([0.22538, 0.17, 1.0], abs=5e-5)
