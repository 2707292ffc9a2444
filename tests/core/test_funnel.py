"""The shopper's path: shares, the stage that loses most, words that no title holds."""

import polars as pl
import pytest

from nimbus_reef.core import funnel

ROW = {
    "market_impressions": 1000,
    "market_clicks": 100,
    "market_cart_adds": 40,
    "market_purchases": 20,
    "own_impressions": 200,
    "own_clicks": 20,
    "own_cart_adds": 2,
    "own_purchases": 1,
}


def test_the_stage_with_the_smallest_fall_is_where_shoppers_are_lost():
    """20 % of looks and of clicks, 5 % of carts and of purchases: lost at the cart."""
    found = funnel.shares(pl.DataFrame([ROW])).to_dicts()[0]
    assert [found[f"share_{stage}"] for stage in funnel.STAGES] == [0.2, 0.2, 0.05, 0.05]
    assert (found["lost_at"], found["fall"]) == ("cart_adds", pytest.approx(0.25))


def weeks(*rows):
    """day, query, product, market impressions, own impressions."""
    frame = pl.DataFrame(
        rows, schema=("day", "query", "product_id", "market_impressions", "own_impressions"), orient="row"
    )
    return frame.with_columns(
        *(pl.lit(0).alias(name) for name in funnel.COUNTS if name not in frame.columns),
        search_volume="market_impressions",
    )


def test_spellings_of_one_query_are_one_query():
    found = funnel.by_query(
        weeks((1, "Chalk Bag", 0, 100, 10), (1, "chalk  bag", 0, 300, 20), (2, "chalk  bag", 0, 400, 5))
    )
    assert found.select("query", "market_impressions", "own_impressions", "search_volume").rows() == [
        ("chalk  bag", 800, 35, 400.0)
    ]


def test_products_of_a_week_share_one_market():
    found = funnel.by_query(weeks((1, "bag", 7, 100, 10), (1, "bag", 8, 100, 20), (2, "bag", 7, 50, 5)))
    assert found.select("market_impressions", "own_impressions").rows() == [(150, 35)]


def test_without_a_market_there_is_no_share():
    found = funnel.shares(pl.DataFrame([ROW | {"market_clicks": 0, "own_clicks": 0}])).to_dicts()[0]
    assert found["share_clicks"] is None
    none = funnel.shares(pl.DataFrame([dict.fromkeys(ROW, 0)])).to_dicts()[0]
    assert none["lost_at"] is None


def test_rates_of_the_path():
    own = funnel.rates(ROW, "own")
    assert own == {"ctr": 0.1, "cart_rate": 0.1, "purchase_rate": 0.5, "cart abandonment": 0.5}
    assert funnel.rates(dict.fromkeys(ROW, 0), "own")["cart abandonment"] is None


def test_words_of_a_query_that_no_title_holds():
    assert funnel.missing_words("grow lights for orchids", frozenset({"grow", "light", "for"})) == ("orchid",)
