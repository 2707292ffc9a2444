"""Profit of a whole before and after: a worked figure, and what must always hold."""

import math
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core.control import Control
from nimbus_reef.core.outcome import OutcomeVerdict, by_range
from nimbus_reef.core.profit_outcome import WholeFigures, of_whole, whole_decided_after

CONTROL = Control(growth=1.1, variance=0.005626, drift=0.2, rows=25, clicks=(700.0, 385.0))
BEFORE = WholeFigures(28, 560, 420.0, 28, 840.0)
AFTER = WholeFigures(14, 420, 315.0, 26, 780.0)


def test_the_worked_figure():
    """Before -3.00 a day, x 1.1; after -0.21: what the budget brought is 3.09 a day, and it may be luck."""
    result = of_whole(BEFORE, AFTER, 0.4, CONTROL)
    assert result.before == pytest.approx((840 * 0.4 - 420) / 28 * 1.1)
    assert result.before == pytest.approx(-3.3)
    assert result.after == pytest.approx(-0.214286, abs=1e-6)
    assert result.profit == pytest.approx(3.085714, abs=1e-6)
    before = (30 * 0.4) ** 2 * 28.5 / 28**2 + 0.75**2 * 560.5 / 28**2
    after = (30 * 0.4) ** 2 * 26.5 / 14**2 + 0.75**2 * 420.5 / 14**2
    drift = 3.3**2 * (0.005626 + 0.04) + (0.08 * 0.4 * 30 * 1.1) ** 2
    assert result.spread == pytest.approx(math.sqrt(before * 1.21 + after + drift))
    assert by_range(result.range, 6.0) is OutcomeVerdict.TOO_EARLY


def test_what_is_judged_by_itself_is_left_out_and_widens_the_range():
    result = of_whole(BEFORE, AFTER, 0.4, CONTROL)
    less = result.less(1.0, 2.0)
    assert less.profit == pytest.approx(result.profit - 1.0)
    assert less.spread == pytest.approx(math.hypot(result.spread, 2.0))


def test_a_large_promise_is_told_earlier_than_a_small_one():
    days = [whole_decided_after(BEFORE, AFTER, 0.4, CONTROL, promised) for promised in (20.0, 8.0, 0.1)]
    assert days[0] == 21
    assert days[1] is not None
    assert days[1] > 21
    assert days[2] is None


@given(st.floats(0.5, 50.0), st.integers(7, 84))
def test_scaling_money_scales_the_result_and_nothing_happening_is_nothing(by, days):
    def scaled(each):
        return replace(each, spend=each.spend * by, sales=each.sales * by)

    plain, large = of_whole(BEFORE, AFTER, 0.4, CONTROL), of_whole(scaled(BEFORE), scaled(AFTER), 0.4, CONTROL)
    assert large.profit == pytest.approx(plain.profit * by)
    assert large.spread == pytest.approx(plain.spread * by)
    calm = of_whole(BEFORE, BEFORE.longer(days), 0.4, replace(CONTROL, growth=1.0))
    assert calm.profit == pytest.approx(0.0, abs=1e-9)
