"""What a catch-all is likely to bring, from clicks that were as cheap; nothing where there is nothing to go by."""

import polars as pl
import pytest

from nimbus_reef.core.catch_all import expected

MICRO = 1_000_000
ACCOUNT = (1_000, 50, 1_250.0)


def days(*rows):
    schema = {"clicks": pl.Int64, "orders": pl.Int64, "spend": pl.Int64}
    return pl.DataFrame(rows, schema=schema, orient="row")


def test_only_days_whose_clicks_were_as_cheap_tell():
    """10 clicks at 0.20 and 20 at 0.50: a bid of 0.20 rests on the first alone, to the last micro-unit."""
    found = expected(days((10, 1, 2 * MICRO), (20, 5, 10 * MICRO)), ACCOUNT, 100, 40, 0.20)
    assert (found.cheap, found.cvr, found.aov) == (10, 0.1, 25.0)
    assert found.clicks == pytest.approx(10 / 100 * 40 * 30)
    assert found.orders == pytest.approx(found.clicks * 0.1)
    assert found.spend == pytest.approx(found.clicks * 0.2)
    assert found.sales == pytest.approx(found.orders * 25)
    assert found.acos == pytest.approx(0.2 / 2.5)
    assert expected(days((10, 1, 2 * MICRO + 1)), ACCOUNT, 100, 40, 0.20) is None


def test_a_day_without_clicks_tells_nothing_and_an_order_needs_a_click():
    found = expected(days((0, 3, 0), (4, 9, MICRO)), ACCOUNT, 10, 5, 1.0)
    assert (found.cheap, found.cvr) == (4, 1.0)


def test_cheap_clicks_without_an_order_are_not_taken_for_worthless():
    """At least a share of what the account converts is expected of them."""
    found = expected(days((10, 0, MICRO)), ACCOUNT, 10, 5, 1.0)
    assert 0 < found.cvr < ACCOUNT[1] / ACCOUNT[0]
    assert found.sales > 0


@pytest.mark.parametrize(
    ("told", "account", "sku_days"),
    [
        (days(), ACCOUNT, 10),
        (days((0, 0, 0)), ACCOUNT, 10),
        (days((5, 1, MICRO)), (0, 50, 1250.0), 10),
        (days((5, 1, MICRO)), (1000, 0, 0.0), 10),
        (days((5, 1, MICRO)), ACCOUNT, 0),
    ],
)
def test_where_nothing_is_told_nothing_is_promised(told, account, sku_days):
    assert expected(told, account, sku_days, 5, 1.0) is None


def test_sales_that_are_not_told_leave_the_cost_of_sale_open():
    found = expected(days((5, 1, MICRO)), (1000, 50, 0.0), 10, 5, 1.0)
    assert found.acos is None
    assert found.sales == 0
