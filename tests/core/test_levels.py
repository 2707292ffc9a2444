"""Levels and their cells: runs of cells beside each other say what cells one by one say."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core.levels import One

RUNS = st.lists(st.tuples(st.integers(0, 3), st.integers(1, 9)), min_size=1, max_size=12)


@given(RUNS)
def test_runs_add_up_and_give_as_cells_do(runs):
    """Levels come back, stand beside themselves, or have no cell; the last number is that of none."""
    code = np.repeat([level for level, _ in runs], [length for _, length in runs])
    quick, plain = One.of(code, 3), One(code, 3)
    cells = np.arange(len(code)) * 1.5 + 1
    np.testing.assert_allclose(quick.add(cells), plain.add(cells))
    np.testing.assert_array_equal(quick.give(np.array([2.0, 3.0, 5.0])), np.array([2.0, 3.0, 5.0, 0.0])[code])


def test_long_runs_are_taken_together_and_short_ones_are_not():
    assert One.of(np.repeat([0, 1, 0], 40), 2).runs is not None
    assert One.of(np.tile([0, 1], 40), 2).runs is None
