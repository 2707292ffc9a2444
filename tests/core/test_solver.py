"""The target solver: the worked figures of the calculation, and what is inverse to what."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import solver
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.solver import Figure, ScopeSums

NOW = ScopeSums(clicks=5_000, orders=350, spend=4_200, sales=14_000, margin=0.43)
ANSWER = ClickResponse(e=0.75, spread=0.1, p=0.92, changes=104)


def test_the_worked_figures():
    factor = solver.factor_for(NOW, 0.28)
    found = solver.at_price(NOW, factor, ANSWER)
    assert factor == pytest.approx(0.9333, abs=5e-5)
    assert found.bids == pytest.approx(0.928, abs=5e-4)
    assert [round(each) for each in (found.sales, found.spend, found.profit)] == [13_234, 3_706, 1_985]
    assert solver.at_price(NOW, 1.0, ANSWER).profit == pytest.approx(1_820)
    peak = solver.peak(NOW, ANSWER)
    assert peak == pytest.approx(0.193114, abs=5e-7)
    best = solver.at_price(NOW, solver.factor_for(NOW, peak), ANSWER)
    assert best.factor == pytest.approx(0.6437, abs=5e-5)
    assert best.bids == pytest.approx(0.619, abs=1e-3)
    assert [round(each) for each in (best.sales, best.spend, best.profit)] == [9_776, 1_888, 2_316]


@given(factor=st.floats(0.3, 3.0))
def test_no_price_brings_more_profit_than_the_peak_and_the_range_has_no_width_now(factor):
    top = solver.at_price(NOW, solver.factor_for(NOW, solver.peak(NOW, ANSWER)), ANSWER)
    assert solver.at_price(NOW, factor, ANSWER).profit <= top.profit + 1e-9
    low, high = solver.between(NOW, factor, ANSWER)
    assert min(low.sales, high.sales) <= solver.at_price(NOW, factor, ANSWER).sales <= max(low.sales, high.sales)
    assert [each.sales for each in solver.between(NOW, 1.0, ANSWER)] == [NOW.sales] * 2


def test_without_a_margin_there_is_no_profit_and_no_peak():
    unknown = ScopeSums(5_000, 350, 4_200, 14_000)
    assert solver.at_price(unknown, 0.9, ANSWER).profit is None
    assert solver.peak(unknown, ANSWER) is None
    assert solver.peak(NOW, ClickResponse(e=0.0)) is None
    assert not ScopeSums(10, 0, 5, 0).solvable
    assert NOW.solvable


def test_one_figure_is_fixed_and_the_others_are_read():
    now = NOW.figures
    needed = solver.solved(now, 0.28, Figure.ACOS, 0.28)
    assert [round(needed[each], 4) for each in (Figure.PRICE, Figure.CONVERSION, Figure.ORDER)] == [
        0.784,
        0.075,
        42.8571,
    ]
    cheaper = solver.solved(now, 0.28, Figure.PRICE, 0.7)
    assert cheaper[Figure.ACOS] == pytest.approx(0.25)
    assert cheaper[Figure.CONVERSION] == pytest.approx(0.0625)
    better = solver.solved(now, 0.28, Figure.CONVERSION, 0.08)
    assert (better[Figure.PRICE], better[Figure.CONVERSION]) == (pytest.approx(0.896), 0.08)
    assert solver.solved(now, 0.28, Figure.ORDER, 50)[Figure.ACOS] == pytest.approx(0.24)


@given(target=st.floats(0.02, 2.0))
def test_each_needed_figure_alone_meets_the_target(target):
    now = NOW.figures
    needed = solver.solved(now, target, Figure.ACOS, target)
    for figure in (Figure.PRICE, Figure.CONVERSION, Figure.ORDER):
        at = {**now, figure: needed[figure]}
        assert at[Figure.PRICE] / (at[Figure.CONVERSION] * at[Figure.ORDER]) == pytest.approx(target)
    conversion, price = solver.equal_effort(now, target)
    assert price / (conversion * now[Figure.ORDER]) == pytest.approx(target)
    assert conversion / now[Figure.CONVERSION] == pytest.approx(now[Figure.PRICE] / price)


def test_a_figure_of_another_scope_is_found():
    own = NOW.figures
    assert solver.misfits(own, {Figure.ORDER: 46.0, Figure.PRICE: 0.85}) == [Figure.ORDER]
    assert solver.misfits(own, {}) == []
