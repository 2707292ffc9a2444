"""Budgets: who never spends, what moves where."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import budgets
from nimbus_reef.core.budgets import Spending

IDLE = Spending("idle", 50.0, spare=39.5)
DRY = Spending("dry", 10.0, missed=6.0, fine=True, acos=0.2)


def test_who_stays_below_sixty_per_cent_on_nine_days_in_ten_can_give():
    """Down to the 95th percentile day: 10.5 of nineteen tens and a twenty; at least a unit stays."""
    spent = np.array([[10.0] * 19 + [20.0], [10.0] * 17 + [31.0] * 3, [0.0] * 20, [10.0] * 20])
    used = budgets.usage(np.array([50.0, 50.0, 5.0, 10.0]), spent)
    assert used.idle.tolist() == [True, False, True, False]
    assert used.spare.tolist() == pytest.approx([39.5, 0, 4, 0])
    assert used.usual_share.tolist() == pytest.approx([0.2, 0.2, 0, 1])
    assert not budgets.usage(np.array([50.0]), np.zeros((1, 0))).idle.any()
    assert budgets.usage(np.array([50.0]), spent[1:2], budgets.IdleLimits(0.6, 0.85)).idle.all()


def test_a_move_keeps_the_total_and_gives_what_a_dry_day_misses():
    moved = budgets.moves([IDLE, DRY])
    assert {each.campaign: each.new for each in moved} == {"idle": 44.0, "dry": 16.0}


def test_who_is_not_shown_to_be_fine_gets_nothing_and_the_best_cost_of_sale_comes_first():
    costly = Spending("costly", 10.0, missed=6.0)
    better = Spending("better", 10.0, missed=38.0, fine=True, acos=0.1)
    moved = {each.campaign: each.change for each in budgets.moves([IDLE, DRY, costly, better])}
    assert moved == {"better": 38.0, "dry": 1.5, "idle": -39.5}


def test_a_larger_total_is_given_out_and_a_smaller_one_taken_from_the_idle():
    moved = {each.campaign: each.change for each in budgets.moves([IDLE, DRY], 63.0)}
    assert moved == {"dry": 6.0, "idle": -3.0}
    moved = {each.campaign: each.change for each in budgets.moves([IDLE, DRY], 50.0)}
    assert moved == {"dry": 6.0, "idle": -16.0}
    assert budgets.moves([IDLE]) == ()


@given(st.lists(st.tuples(st.integers(1, 9_000), st.floats(0, 1), st.integers(0, 4_000), st.booleans()), max_size=8))
def test_moves_sum_to_nothing_to_the_cent_and_nobody_gives_what_its_busiest_days_spend(drawn):
    held = [
        Spending(str(number), budget / 100, max(0.0, budget * part / 100 - 1), missed / 100, fine)
        for number, (budget, part, missed, fine) in enumerate(drawn)
    ]
    moved = budgets.moves(held)
    by_name = {each.campaign: each for each in held}
    assert sum(round(each.change * 100) for each in moved) == 0
    for each in moved:
        assert each.new > 0
        if each.change < 0:
            assert -each.change <= by_name[each.campaign].spare + 1e-9
        else:
            assert by_name[each.campaign].fine
            assert each.change <= by_name[each.campaign].missed + 0.011
