"""How clicks answer bids: what an account's own changes say, and how surely."""

import math

import numpy as np
import polars as pl
import pytest

from nimbus_reef.core import response
from nimbus_reef.core.response import USUAL, ClickResponse

SIBLINGS = math.log(1.05)
THREE = pl.DataFrame(
    {
        "x": [0.8, 1.2, 0.7],
        "clicks_before": [120, 60, 200],
        "clicks_after": [105, 70, 150],
        "spend_before": [120 * 0.80, 60 * 0.50, 200 * 0.65],
        "spend_after": [105 * 0.66, 70 * 0.58, 150 * 0.47],
        "siblings": [SIBLINGS] * 3,
    }
)


def test_three_changes_draw_the_usual_answer_towards_their_own():
    found = response.learned(THREE)
    assert (round(found.e, 4), round(found.spread, 4), round(found.p, 4)) == (0.8964, 0.2683, 0.8953)
    assert (found.changes, found.is_own) == (3, True)


def test_without_a_change_the_usual_answer_stands_and_says_so():
    assert response.learned(THREE.clear()) == USUAL
    assert not USUAL.is_own
    few = THREE.with_columns(clicks_before=pl.lit(1), clicks_after=pl.lit(2))
    assert response.learned(few) == USUAL


@pytest.mark.parametrize("true", [0.4, 0.9, 1.6])
def test_many_changes_say_what_is_true(true):
    rng = np.random.default_rng(7)
    x = np.exp(rng.uniform(-0.4, 0.3, 400))
    before = rng.poisson(40, 400)
    after = rng.poisson(40 * 1.1 * x**true)
    told = pl.DataFrame(
        {
            "x": x,
            "clicks_before": before,
            "clicks_after": after,
            "spend_before": 0.5 * before,
            "spend_after": 0.5 * x**0.8 * after,
            "siblings": np.full(400, math.log(1.1)),
        }
    )
    found = response.learned(told)
    assert abs(found.e - true) < 2.5 * found.spread
    assert found.spread < 0.12
    assert found.p == pytest.approx(0.8, abs=0.02)


def test_what_a_bid_moves_spend_by_is_clicks_and_price_together():
    own = ClickResponse(0.75, 0.2, 0.92)
    assert own.of_spend == pytest.approx(1.67)
    assert own.peak == pytest.approx(0.75 / 1.67)
    low, middle, high = own.powers
    assert (middle, high - middle) == (0.75, pytest.approx(0.256))
    assert ClickResponse(0.1, 0.5, 0.9).powers[0] == 0.0
    assert low < middle
