"""Projection: ranges that hold their middle and add up."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import projection
from nimbus_reef.core.projection import Basis, Projected, Range

BASIS = Basis(days=30, clicks=100, spend=80.0, sales=120.0, a=6, b=114, aov=30.0)


def test_stopping_a_row_takes_its_spend_and_what_it_would_have_sold():
    """5 % of 100 clicks at 30 each is 150 a month, by the posterior, not by luck."""
    stopped = projection.stopped(BASIS)
    assert stopped.spend == Range(-80, -80, -80)
    assert stopped.sales.middle == pytest.approx(-150)
    assert stopped.sales.low < -150 < stopped.sales.high < 0


def test_half_the_days_make_twice_the_month():
    assert projection.stopped(Basis(15, 100, 80.0, 120.0, 6, 114, 30.0)).spend.middle == -160


@given(st.floats(0.1, 3), st.floats(0.1, 3))
def test_a_moved_bid_moves_both_the_same_way(old, new):
    moved = projection.bid_moved(BASIS, old, new)
    for each in (moved.spend, moved.sales):
        assert each.low <= each.middle <= each.high
        assert (each.middle >= 0) == (new >= old)
    assert abs(moved.spend.middle) >= abs(80 * (new / old - 1)) * 0.99 or new > old


def test_without_an_old_bid_nothing_is_known():
    assert projection.bid_moved(BASIS, 0, 1.0) == projection.UNKNOWN


def test_independent_ranges_add_in_quadrature():
    one = Projected(Range(-13, -10, -6), Range(0, 0, 0))
    both = projection.total([one, one])
    assert both.spend.middle == -20
    assert both.spend.low == pytest.approx(-20 - 18**0.5)
    assert both.spend.high == pytest.approx(-20 + 32**0.5)
    assert projection.total([]) == projection.NOTHING
