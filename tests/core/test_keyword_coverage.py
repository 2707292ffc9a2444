"""Coverage: how many phrases a product should rank for, and whether its page or its ads come first."""

import polars as pl
import pytest

from nimbus_reef.core.keyword_coverage import CoverageAdvice, CoverageGoals, advice, goal


@pytest.mark.parametrize(("age", "asked"), [(0, 10), (90, 10), (91, 40), (365, 40), (366, 120), (None, 120)])
def test_the_goal_grows_with_the_product_s_age(age, asked):
    rows = pl.DataFrame({"age": [age]}, schema={"age": pl.Int64})
    assert rows.select(goal()).item() == asked


def test_goals_are_one_s_own():
    rows = pl.DataFrame({"age": [20, 200, 900]})
    assert rows.select(goal(CoverageGoals(3, 30, 300))).to_series().to_list() == [3, 30, 300]


@pytest.mark.parametrize(
    ("ranked", "p_worse", "clicks", "found"),
    [
        (40, 0.99, 900, CoverageAdvice.REACHED),
        (39, 0.80, 900, CoverageAdvice.PAGE),
        (39, 0.79, 900, CoverageAdvice.PUSH),
        (39, 0.50, 29, CoverageAdvice.UNSURE),
        (39, 0.95, 29, CoverageAdvice.PAGE),
        (39, None, 0, CoverageAdvice.UNSURE),
    ],
)
def test_a_page_that_loses_clicks_comes_before_ads(ranked, p_worse, clicks, found):
    """Few clicks suffice where they are sure enough; unsure is not the same as as usual."""
    rows = pl.DataFrame(
        {"ranked": [ranked], "goal": [40], "p_worse": [p_worse], "clicks": [clicks]},
        schema_overrides={"p_worse": pl.Float64},
    )
    assert rows.select(advice()).item() == found
