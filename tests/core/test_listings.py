"""Falls of conversion beside changes of a product page."""

from datetime import date, timedelta

import polars as pl
import pytest

from nimbus_reef.core import listings

DAY = date(2026, 10, 1)
PAGE = {
    "title": "a",
    "bullets": 5,
    "images": 7,
    "rich_content": "yes",
    "brand_section": "no",
    "price": 10,
    "in_stock": "yes",
}


def pages(*rows):
    return pl.DataFrame(
        [PAGE | {"product_id": product, "day": DAY + timedelta(days=day)} | other for product, day, other in rows],
        schema_overrides={"product_id": pl.UInt32},
    )


def daily(product, rate_before, rate_after):
    return pl.DataFrame(
        [
            {
                "product_id": product,
                "day": DAY + timedelta(days=n),
                "clicks": 50,
                "orders": int(50 * (rate_before if n < 15 else rate_after)),
                "spend": 25_000_000,
            }
            for n in range(40)
        ],
        schema_overrides={"product_id": pl.UInt32},
    )


def test_changes_of_a_page_are_told_field_by_field():
    found = listings.page_changes(pages((1, 0, {}), (1, 1, {}), (1, 2, {"images": 1, "bullets": 0}), (2, 2, {})))
    assert [(row["product_id"], row["field"], row["old"], row["new"]) for row in found.to_dicts()] == [
        (1, "bullets", "5", "0"),
        (1, "images", "7", "1"),
    ]


def test_a_fall_is_one_whose_interval_lies_below_the_one_before():
    changes = listings.page_changes(pages((1, 14, {}), (1, 15, {"images": 1}), (2, 14, {}), (2, 15, {"images": 1})))
    both = pl.concat([daily(1, 0.12, 0.02), daily(2, 0.12, 0.12)])
    found = listings.falls(both, changes, DAY + timedelta(days=39))
    assert found["product_id"].to_list() == [1]
    assert (found["clicks_before"][0], found["clicks_after"][0]) == (700, 700)
    assert listings.falls(both.clear(), changes, DAY).is_empty()
    week = listings.falls(both, changes, DAY + timedelta(days=39), side_days=7)
    assert (week["clicks_before"][0], week["clicks_after"][0]) == (350, 350)


def test_days_that_mature_are_left_out():
    changes = listings.page_changes(pages((1, 14, {}), (1, 15, {"images": 1})))
    found = listings.falls(daily(1, 0.12, 0.02), changes, DAY + timedelta(days=20))
    assert found["clicks_after"][0] == 300


def test_a_fall_stakes_the_spend_since_that_bought_less_by_it():
    """€ 25 a day; of six orders one came: five sixths of it, per 30 days, however few days there are since."""
    changes = listings.page_changes(pages((1, 14, {}), (1, 15, {"images": 1})))
    for last in (20, 39):
        found = listings.falls(daily(1, 0.12, 0.02), changes, DAY + timedelta(days=last))
        assert found["stake"][0] == round(30 * 25_000_000 * 5 / 6)


def test_what_was_done_is_told_by_intervals_that_lie_apart():
    """Twice the conversion over few clicks is too early; over many it is better, and half of it worse."""
    assert listings.repaired((40, 2), (20, 2)) is listings.Repaired.OPEN
    assert listings.repaired((400, 20), (400, 40)) is listings.Repaired.BETTER
    assert listings.repaired((400, 40), (400, 20)) is listings.Repaired.WORSE
    assert listings.repaired((400, 40), (0, 0)) is listings.Repaired.OPEN


def page(product, day, **shown):
    """A page as it is on a day of May, whole unless told otherwise."""
    whole = {
        "title": "Oak disk cache with hooks",
        "bullets": 6,
        "images": 9,
        "rich_content": "yes",
        "brand_section": "yes",
        "rating": 4.4,
        "in_stock": "yes",
        "main_offer": "own",
        "eligible": "yes",
    }
    return {"product_id": product, "day": date(2026, 5, day), **whole, **shown}


def lost_of(*pages, **how):
    rows = listings.lost(pl.DataFrame(pages), **how)
    return [(row["field"], row["old"], row["new"], row["since"].day) for row in rows.to_dicts()]


@pytest.mark.parametrize(
    ("now", "told"),
    [
        ({"bullets": 0}, ("bullets", "6", "0", 20)),
        ({"images": 1}, ("images", "9", "1", 20)),
        ({"rich_content": "no"}, ("rich_content", "yes", "no", 20)),
        ({"in_stock": "no"}, ("in_stock", "yes", "no", 20)),
        ({"main_offer": "other"}, ("main_offer", "own", "other", 20)),
        ({"eligible": "no"}, ("eligible", "yes", "no", 20)),
        ({"title": "Oak disk_cache"}, ("title", "with hooks", "", 20)),
        ({"rating": 3.9}, ("rating", "4.4", "3.9", 20)),
    ],
)
def test_what_the_newest_load_lost_is_told_with_both_values(now, told):
    assert lost_of(page(1, 19), page(1, 20, **now)) == [told]


@pytest.mark.parametrize(
    "now", [{"images": 10}, {"title": "Oak disk_cache with hooks and rail"}, {"rating": 4.1}, {"main_offer": None}, {}]
)
def test_what_was_gained_or_is_not_told_is_not_lost(now):
    assert lost_of(page(1, 19), page(1, 20, **now)) == []


def test_a_page_that_always_lacked_something_lost_nothing():
    assert lost_of(page(1, 19, images=1), page(1, 20, images=1)) == []


def test_what_was_lost_is_told_until_it_is_back():
    broken = [page(1, day, images=1) for day in range(11, 20)]
    assert lost_of(page(1, 10), *broken) == [("images", "9", "1", 11)]
    assert lost_of(page(1, 10), *broken, page(1, 20)) == []


def test_what_was_lost_long_ago_is_lacking_but_what_the_newest_load_lost_is_told_however_old_the_one_before():
    assert lost_of(page(1, 1), page(1, 2, images=1), page(1, 28, images=1)) == []
    assert lost_of(page(1, 1), page(1, 28, images=1)) == [("images", "9", "1", 28)]
