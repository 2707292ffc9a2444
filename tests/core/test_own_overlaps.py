"""A test without ads: how long it takes to tell whether their clicks come back by themselves."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core.own_overlaps import ad_free_test


def test_the_worked_figure():
    """
    90 clicks by ads and 60 without in 30 days, 6 orders by ads: 3 and 2 a day. In 7 days all back would be 35 and half
    24.5: 10.5 apart, ranges 1.2816 (5.92 + 4.95) = 13.9; in 14 days 21 apart against 19.7.
    """
    found = ad_free_test(90, 60, 6, 30)
    assert found.days == 14
    assert (found.clicks, found.orders) == pytest.approx((42.0, 2.8))


def test_too_few_clicks_would_tell_nothing_within_twelve_weeks():
    found = ad_free_test(3, 200, 1, 90)
    assert found.days is None
    assert found.clicks == pytest.approx(84 * 3 / 90)


@given(st.floats(0.1, 1e5), st.floats(0, 1e5), st.integers(7, 90))
def test_more_clicks_never_take_longer_and_it_lasts_whole_weeks(paid, free, days):
    shorter, longer = ad_free_test(2 * paid, free, 0, days).days, ad_free_test(paid, free, 0, days).days
    assert longer is None or (shorter is not None and shorter <= longer and longer % 7 == 0)


@given(st.floats(1, 1e4), st.floats(0, 1e4))
def test_clicks_that_come_anyway_hide_what_ads_bring(paid, free):
    quiet, loud = ad_free_test(paid, free, 0, 30).days, ad_free_test(paid, 2 * free + 1, 0, 30).days
    assert loud is None or (quiet is not None and quiet <= loud)
