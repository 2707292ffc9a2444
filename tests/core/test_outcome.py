"""The worked figures of “Did it work”, and what must hold of any verdict."""

from __future__ import annotations

import math
from dataclasses import replace

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import outcome
from nimbus_reef.core.control import Control, control, drift_of
from nimbus_reef.core.outcome import ClickWorth, OutcomeVerdict, Sides, SumPart
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.stopped_spend import HALF, StoppedSides, of_stopped, sales_it_may_have_cost, stopped_decided_after

ANSWER = ClickResponse(0.8, 0.0, 0.8)
WORTH = ClickWorth(4, 96, 30, 0.4)
SIDES = Sides(28, 60, 48, 14, 24, 15.6, 1)


def untouched(rows: int, before: float, after: float) -> pl.DataFrame:
    """So many rows with these clicks in all, each click at 0.5."""
    each = {"clicks_before": before / rows, "clicks_after": after / rows}
    spend = {"spend_before": before / rows / 2, "spend_after": after / rows / 2}
    return pl.DataFrame([each | spend] * rows)


SIBLINGS = control([untouched(25, 700, 385)], untouched(1, 1, 1).with_columns(expected=1.0), (28, 14), 0.2)


def test_the_control_is_how_untouched_rows_moved() -> None:
    assert SIBLINGS.growth == pytest.approx(1.10)
    assert SIBLINGS.variance == pytest.approx(0.005626, abs=1e-6)
    assert SIBLINGS.price == pytest.approx(1.0)


def test_a_cut_that_kept_its_promise() -> None:
    assert outcome.promised_profit(SIDES, WORTH, 0.75, ANSWER) == pytest.approx(0.4209, abs=1e-4)
    result = outcome.of_price(SIDES, WORTH, 0.75, ANSWER, SIBLINGS)
    assert (result.worth.a, result.worth.b) == (5, 119)
    assert result.worth.value == pytest.approx(0.483871, abs=1e-6)
    assert result.worth.value_spread == pytest.approx(0.211136, abs=1e-6)
    assert result.clicks.expected == pytest.approx((-0.230146, 0.013242), abs=1e-6)
    assert result.clicks.seen == pytest.approx((-0.306133, 0.102971), abs=1e-6)
    assert result.clicks.mean == pytest.approx(-0.238804, abs=1e-6)
    assert result.clicks.variance == pytest.approx(0.011733, abs=1e-6)
    assert result.level == pytest.approx(2.154131, abs=1e-6)
    assert (result.profit, result.spread) == pytest.approx((0.399141, 0.110288), abs=1e-6)
    assert tuple(30 * end for end in result.range) == pytest.approx((7.73, 16.21), abs=0.01)
    assert outcome.by_range(result.range, 0.4209) is OutcomeVerdict.KEPT


def test_a_pause_whose_spend_stayed_away() -> None:
    sides = StoppedSides(28, 40, 32, 12, 14, 9)
    result = of_stopped(sides, SIBLINGS)
    assert (result.clicks, result.back) == pytest.approx((1.5714, 0.1714), abs=1e-4)
    assert (result.share, outcome.WIDTH * result.spread) == pytest.approx((0.891, 0.229), abs=1e-3)
    assert result.range[0] == pytest.approx(0.66, abs=0.01)
    assert result.verdict is OutcomeVerdict.KEPT
    low, middle, high = sales_it_may_have_cost(result, WORTH)
    assert low < middle < high
    assert middle == pytest.approx(1.5714 * 0.891 * 0.04 * 30, abs=1e-2)


def test_a_new_target_pays_or_it_is_too_early() -> None:
    worth = ClickWorth(1.5, 23.5, 30, 0.4)
    sides = Sides(0, 0, 0, 14, 40, 20, 4)
    assert outcome.chance_over(sides, worth, worth.margin) == pytest.approx(0.082, abs=1e-3)
    none = replace(sides, orders_after=0)
    assert outcome.chance_over(none, worth, worth.margin) == pytest.approx(0.857, abs=1e-3)
    assert outcome.verdict_by_chance(0.082) is OutcomeVerdict.KEPT
    assert outcome.verdict_by_chance(0.857) is OutcomeVerdict.TOO_EARLY
    assert outcome.chance_over(replace(sides, clicks_after=0), worth, 0.4) == 0.5


def test_a_price_that_promised_nothing_has_an_effect_and_no_verdict() -> None:
    result = outcome.of_price(SIDES, WORTH, 0.75, ANSWER, SIBLINGS)
    assert outcome.by_range(result.range, 0.0) is OutcomeVerdict.NONE
    assert outcome.by_range(result.range, -1.0) is OutcomeVerdict.NONE


def test_without_a_click_after_the_price_is_the_usual_one() -> None:
    silent = replace(SIDES, clicks_after=0, spend_after=0, orders_after=3)
    result = outcome.of_price(silent, WORTH, 0.75, ANSWER, SIBLINGS)
    assert result.paid[1] == pytest.approx(0.8 * 0.75**0.8)
    assert (result.worth.a, result.worth.b) == (4, 96)
    assert not replace(SIDES, clicks_before=0).compared


def test_a_price_that_takes_profit_away_did_not() -> None:
    dear = Sides(28, 400, 200, 28, 560, 504, 14)
    result = outcome.of_price(dear, ClickWorth(30, 570, 30, 0.4), 1.4, ANSWER, SIBLINGS)
    assert result.range[1] < 0
    assert outcome.by_range(result.range, 1.0) is OutcomeVerdict.DID_NOT


def test_it_is_said_when_a_promise_can_be_told() -> None:
    early = Sides(28, 60, 48, 7, 12, 7.8, 0)
    small = 0.15
    days = outcome.price_decided_after(early, WORTH, 0.75, ANSWER, SIBLINGS, small)
    assert days is None or days > early.days_after
    assert outcome.price_decided_after(early, WORTH, 0.75, ANSWER, SIBLINGS, 5.0) == 21
    assert outcome.price_decided_after(early, WORTH, 0.75, ANSWER, SIBLINGS, 0.001) is None
    fresh = Sides(0, 0, 0, 14, 40, 20, 0)
    assert outcome.chance_decided_after(fresh, ClickWorth(1.5, 23.5, 30, 0.4), 0.4) in outcome.LOOKS


def test_a_pause_says_when_it_can_be_told() -> None:
    thin = StoppedSides(28, 6, 5, 3, 14, 3)
    assert of_stopped(thin, SIBLINGS).verdict is OutcomeVerdict.TOO_EARLY
    assert stopped_decided_after(thin, SIBLINGS) in (None, *outcome.LOOKS)
    back = StoppedSides(28, 200, 150, 40, 28, 300)
    assert of_stopped(back, SIBLINGS).verdict is OutcomeVerdict.DID_NOT
    assert of_stopped(back, SIBLINGS).spend[0] == 0.0


def test_more_than_all_that_stayed_away_is_no_better_proof() -> None:
    few = StoppedSides(28, 9, 4, 12, 14, 1)
    result = of_stopped(few, SIBLINGS)
    assert result.back < 0
    assert result.share == 1.0
    assert 1 - result.back / result.clicks - outcome.WIDTH * result.spread > HALF
    assert result.verdict is OutcomeVerdict.TOO_EARLY


def test_a_wrong_answer_of_clicks_is_wrong_for_a_whole_sum() -> None:
    parts = [SumPart(1.0, 0.8, 0.3, 0.5)] * 20
    known, guessed = (outcome.summed(parts, replace(ANSWER, spread=spread)) for spread in (0.0, 0.5))
    assert known.result == pytest.approx(16.0)
    assert known.half_width == pytest.approx(outcome.WIDTH * math.sqrt(1.44 * 20 * 0.09))
    assert guessed.half_width == pytest.approx(outcome.WIDTH * math.sqrt(1.44 * 20 * 0.09 + 5.0**2))
    assert known.verdict is OutcomeVerdict.KEPT
    assert outcome.summed([], ANSWER).verdict is OutcomeVerdict.NONE
    assert outcome.summed([SumPart(1.0, -0.5, 0.1)] * 4, ANSWER).verdict is OutcomeVerdict.DID_NOT
    assert outcome.summed([SumPart(1.0, 0.1, 0.9)], ANSWER).verdict is OutcomeVerdict.TOO_EARLY


def test_the_nearest_control_that_is_enough_is_taken() -> None:
    few, more = untouched(4, 700, 385), untouched(30, 3_000, 1_200)
    moved = untouched(12, 500, 300).with_columns(expected=1.2)
    assert control([few, more], moved, (28, 14), 0.2).growth == pytest.approx(0.8)
    eased = control([few, few], moved, (28, 14), 0.2)
    assert eased.growth == pytest.approx(300 / 1.2 / 14 / (500 / 28))
    assert eased.price == 1.0
    assert control([few], untouched(2, 9, 9).with_columns(expected=1.0), (28, 14), 0.3) == Control(drift=0.3)


def test_a_control_of_many_clicks_says_how_prices_moved() -> None:
    dearer = untouched(10, 800, 400).with_columns(spend_after=pl.col("spend_after") * 1.2)
    assert control([dearer], dearer.with_columns(expected=1.0), (28, 14), 0.2).price == pytest.approx(1.2)


def test_drift_is_what_is_beyond_chance() -> None:
    calm = untouched(40, 4_000, 2_000)
    assert drift_of(calm, (28, 14)) == pytest.approx(0.1)
    halves = pl.concat([untouched(20, 2_000, 1_500), untouched(20, 2_000, 500)])
    assert drift_of(halves, (28, 14)) == pytest.approx(0.35)
    assert drift_of(untouched(10, 1_000, 500), (28, 14)) == pytest.approx(0.2)


SIDE = st.builds(
    Sides,
    st.integers(14, 28),
    st.integers(1, 400),
    st.floats(0.1, 500),
    st.integers(7, 84),
    st.integers(0, 400),
    st.floats(0.1, 500),
    st.integers(0, 40),
)


@given(SIDE, st.floats(0.4, 2.0), st.floats(0.5, 20))
def test_money_in_another_unit_changes_no_verdict(sides: Sides, x: float, unit: float) -> None:
    if abs(x - 1) < 1e-6:
        return
    scaled = replace(sides, spend_before=sides.spend_before * unit, spend_after=sides.spend_after * unit)
    worth = replace(WORTH, order_value=WORTH.order_value * unit)
    first, second = (outcome.of_price(one, of, x, ANSWER, SIBLINGS) for one, of in ((sides, WORTH), (scaled, worth)))
    assert second.profit == pytest.approx(first.profit * unit, rel=1e-6, abs=1e-9)
    assert second.spread == pytest.approx(first.spread * unit, rel=1e-6, abs=1e-9)
    assert outcome.promised_profit(scaled, worth, x, ANSWER) == pytest.approx(
        outcome.promised_profit(sides, WORTH, x, ANSWER) * unit, rel=1e-6, abs=1e-9
    )


def test_the_control_s_price_is_that_of_its_rows_and_not_of_their_mix():
    """Clicks move from a cheap row to a dear one, and each costs 10 % more than before."""
    rows = pl.DataFrame(
        {
            "clicks_before": [400.0, 50.0, 40.0, 30.0, 20.0],
            "spend_before": [200.0, 100.0, 40.0, 30.0, 20.0],
            "clicks_after": [50.0, 400.0, 40.0, 30.0, 20.0],
        }
    ).with_columns(spend_after=1.1 * pl.col("clicks_after") * pl.col("spend_before") / pl.col("clicks_before"))
    found = control([rows], rows.head(0).with_columns(expected=pl.lit(1.0)), (28, 28), 0.2)
    assert found.price == pytest.approx(1.1)
    few = rows.with_columns(pl.col("clicks_before", "clicks_after") / 4)
    assert control([few], few.head(0).with_columns(expected=pl.lit(1.0)), (28, 28), 0.2).price == 1.0
