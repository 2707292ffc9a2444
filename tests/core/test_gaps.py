"""Gaps, the catch-all and what a page lacks."""

from datetime import date

import polars as pl
import pytest

from nimbus_reef.core import catch_all, gaps, listings

UNIT = 1_000_000


def products(*rows):
    columns = ("sku", "item", "total_sales", "advertised", "eligible")
    return pl.DataFrame(rows, schema=columns, orient="row")


def test_what_sells_without_an_ad_is_a_gap_and_a_newer_sku_names_the_older():
    found = gaps.unadvertised(
        products(
            ("old", "I1", 90, True, True),
            ("new", "I1", 50, False, True),
            ("gift", "I2", 80, False, True),
            ("shut", "I3", 70, False, False),
            ("idle", "I4", 0, False, True),
        )
    )
    assert found.select("sku", "replaces").rows() == [("gift", None), ("new", "old")]


def test_since_when_is_the_earlier_of_catalog_and_last_impression():
    day = date(2026, 11, 20)
    assert gaps.stopped_since([date(2026, 11, 1), date(2026, 11, 4)], [date(2026, 11, 9)], day) == date(2026, 11, 5)
    assert gaps.stopped_since([day], [date(2026, 11, 9)], day) == date(2026, 11, 9)
    assert gaps.stopped_since([], [], day) is None


def test_what_it_likely_costs_rests_on_its_own_ads_else_on_its_siblings():
    assert gaps.likely_cost(300, 15, 900, 2, 30) == (600, "own")
    assert gaps.likely_cost(0, 0, 900, 2, 30) == (450, "family")
    assert gaps.likely_cost(0, 0, 0, 0, 30) == (0, "")


def test_concentration_runs_from_the_best_seller_to_all_of_it():
    found = gaps.concentration(pl.DataFrame({"sku": ["a", "b", "c"], "sold": [10, 60, 30], "spend": [50, 10, 40]}))
    assert found["sku"].to_list() == ["b", "c", "a"]
    assert found["share_of_sales"].to_list() == pytest.approx([0.6, 0.9, 1])
    assert found["share_of_spend"].to_list() == pytest.approx([0.1, 0.5, 1])


def days(*rows):
    """clicks, orders, spend in units."""
    return pl.DataFrame(rows, schema=("clicks", "orders", "spend"), orient="row").with_columns(
        pl.col("spend").cast(pl.Float64).mul(UNIT).cast(pl.Int64)
    )


def test_a_catch_all_is_expected_to_do_what_clicks_as_cheap_did():
    """Worked: 20 cheap clicks with 2 orders over 40 pairs of SKU and day, 10 SKUs, 30 days: 150 clicks at 10 %."""
    found = catch_all.expected(days((10, 1, 1), (10, 1, 2), (30, 9, 30), (0, 0, 0)), (50, 11, 220.0), 40, 10, 0.2)
    assert found.cheap == 20
    assert found.clicks == pytest.approx(150)
    assert found.cvr == pytest.approx(max(0.1, 0.11))
    assert found.acos == pytest.approx(0.2 / (0.11 * 20))
    assert found.spend == pytest.approx(30)


def test_a_click_at_the_bid_itself_counts():
    """2.01 as a float, times a million, is a little under what a click of 2.01 cost."""
    found = catch_all.expected(days((1, 1, 2.01), (3, 0, 6.03)), (4, 1, 20.0), 10, 10, 2.01)
    assert found is not None
    assert found.cheap == 4


def test_without_clicks_as_cheap_nothing_is_expected():
    assert catch_all.expected(days((10, 1, 9)), (10, 1, 20.0), 40, 10, 0.2) is None
    assert catch_all.expected(days((10, 1, 1)), (10, 0, 0.0), 40, 10, 0.2) is None


def page(**other):
    usual = {
        "title": "x" * 60,
        "bullets": 5,
        "images": 6,
        "rich_content": "yes",
        "brand_section": "yes",
        "rating": 4.4,
        "reviews": 90,
        "in_stock": "yes",
    }
    return {**usual, **other}


def test_what_a_page_lacks_is_told_gravest_first_and_what_is_unknown_is_not_lacking():
    frame = pl.DataFrame(
        [
            page(),
            page(in_stock="no", images=1, bullets=0, title="short"),
            page(rating=None, reviews=None, rich_content="no"),
            page(title="y" * 300, rating=3.1),
        ]
    )
    assert frame.select(lacks=listings.lacks())["lacks"].to_list() == [
        [],
        ["in_stock", "images", "bullets", "title"],
        ["rich_content"],
        ["rating", "long_title"],
    ]
