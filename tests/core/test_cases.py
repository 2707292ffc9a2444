"""The first of several conditions that holds."""

import polars as pl

from nimbus_reef.core.cases import first_that_holds


def test_the_first_condition_that_holds_names_the_row_and_what_is_unknown_does_not_hold():
    rows = pl.DataFrame({"x": [1, 5, None, 20]})
    cases = (("small", pl.col("x") < 3), ("middle", pl.col("x") < 10))
    assert rows.select(first_that_holds(cases, "large")).to_series().to_list() == ["small", "middle", "large", "large"]
    assert rows.select(first_that_holds(cases)).to_series().to_list() == ["small", "middle", None, None]
