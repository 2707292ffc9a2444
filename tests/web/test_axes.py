"""Round values along an axis."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.web.kit.axes import round_steps


@pytest.mark.parametrize(
    ("top", "steps"),
    [(1.72, (0, 0.5, 1, 1.5)), (7.9, (0, 2, 4, 6)), (10, (0, 2, 4, 6, 8, 10)), (0.3, (0, 0.1, 0.2, 0.3)), (0, (0,))],
)
def test_steps_are_round(top, steps):
    assert round_steps(top) == pytest.approx(steps)


@given(st.floats(1e-4, 1e9))
def test_there_are_some_and_none_is_past_the_end(top):
    found = round_steps(top)
    assert 3 <= len(found) <= 6
    assert found[-1] <= top * 1.000001
