"""Rows on their way out: figures as they were paid."""

import math

import polars as pl
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.formats.tables import Table


@given(st.lists(st.integers(-(10**14), 10**14), min_size=1))
def test_money_leaves_as_it_was_paid(micro):
    """Every amount of whole millionths is the figure nearest to it, which has no 17 digits."""
    rows = pl.DataFrame({"spend": micro}).select(pl.col("spend") / 1_000_000)
    assert Table("t", rows, {}).rows["spend"].to_list() == [each / 1_000_000 for each in micro]


def test_what_is_no_figure_stays():
    rows = pl.DataFrame({"a": [None, 0.0, math.inf], "b": ["x", None, ""], "c": [1, None, 2**60]})
    assert Table("t", rows, {}).rows.equals(rows)
