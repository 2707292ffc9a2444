"""The shopper's path: shares, the stage that loses most, words that no title holds."""

import polars as pl
import pytest

from nimbus_reef.core import funnel

ROW = {
    "market_impressions": 1000, "market_clicks": 100, "market_cart_adds": 40, "market_purchases": 20,
    "own_impressions": 200, "own_clicks": 20, "own_cart_adds": 2, "own_purchases": 1,
}  # fmt: skip


def test_the_stage_with_the_smallest_fall_is_where_shoppers_are_lost():
    """20 % of looks and of clicks, 5 % of carts and of purchases: lost at the cart."""
    found = funnel.shares(pl.DataFrame([ROW])).to_dicts()[0]
    assert [found[f"share_{stage}"] for stage in funnel.STAGES] == [0.2, 0.2, 0.05, 0.05]
    assert (found["lost_at"], found["fall"]) == ("cart_adds", pytest.approx(0.25))


def test_without_a_market_there_is_no_share():
    found = funnel.shares(pl.DataFrame([ROW | {"market_clicks": 0, "own_clicks": 0}])).to_dicts()[0]
    assert found["share_clicks"] is None
    none = funnel.shares(pl.DataFrame([dict.fromkeys(ROW, 0)])).to_dicts()[0]
    assert none["lost_at"] is None


def test_rates_of_the_path():
    own = funnel.rates(ROW, "own")
    assert own == {"click rate": 0.1, "cart rate": 0.1, "purchase rate": 0.5, "cart abandonment": 0.5}
    assert funnel.rates(dict.fromkeys(ROW, 0), "own")["cart abandonment"] is None


def test_words_of_a_query_that_no_title_holds():
    assert funnel.missing_words("grow lights for orchids", frozenset({"grow", "light", "for"})) == ("orchid",)
