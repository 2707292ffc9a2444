"""Coverage: which days are held, for which ad formats, and whether their sales had matured."""

import itertools
from datetime import date, timedelta

import pytest

from nimbus_reef.core.coverage import DayState, Span, cut, held_days, labels_in_use, standing, state_of, stretches
from nimbus_reef.core.windows import Window

NEWEST = date(2026, 10, 30)


def day(number):
    return date(2026, 10, number)


def span(first, last, label="product", loaded=date(2026, 10, 31), without=()):
    return Span(label, Window(day(first), day(last)), loaded, frozenset(map(day, without)))


def states(spans, first, last, *, labels=None, matures=True):
    labels = labels_in_use(spans) if labels is None else labels
    return {
        (each.days.first.day, each.days.last.day): each.state
        for each in stretches(Window(day(first), day(last)), spans, labels, NEWEST, 3, matures=matures)
    }


def test_neighbours_of_one_state_are_one_stretch():
    found = states([span(5, 20), span(21, 30)], 1, 30)
    assert found == {(1, 4): DayState.MISSING, (5, 27): DayState.HELD, (28, 30): DayState.MATURING}


def test_settings_and_undone_days():
    """What no sale is added to does not mature; a day that was undone is missing again."""
    assert states([span(5, 30, without=[7])], 5, 30, matures=False) == {
        (5, 6): DayState.HELD,
        (7, 7): DayState.MISSING,
        (8, 30): DayState.HELD,
    }


def test_a_day_is_held_in_part_until_every_format_in_use_is_there():
    spans = [span(1, 20), span(1, 10, "brand")]
    assert states(spans, 1, 20) == {(1, 10): DayState.HELD, (11, 20): DayState.PART}
    assert states([*spans, span(11, 15, "all")], 1, 20) == {(1, 15): DayState.HELD, (16, 20): DayState.PART}


@pytest.mark.parametrize(("loaded", "state"), [(day(13), DayState.EARLY), (day(14), DayState.HELD)])
def test_a_day_loaded_before_its_sales_had_matured_asks_to_be_loaded_again(loaded, state):
    """Three days mature: what happened on the 10th is whole from the 13th's end on."""
    assert state_of(day(10), [span(8, 10, loaded=loaded)], frozenset(), NEWEST, 3, matures=True) is state


def test_the_latest_load_of_each_format_counts():
    again = [span(10, 10, loaded=day(11)), span(10, 10, loaded=day(20)), span(10, 10, "brand", loaded=day(11))]
    labels = labels_in_use(again)
    assert state_of(day(10), again, labels, NEWEST, 3, matures=True) is DayState.EARLY
    assert state_of(day(10), again[:2], frozenset({"product"}), NEWEST, 3, matures=True) is DayState.HELD


def test_every_day_of_the_window_is_in_one_stretch():
    found = stretches(Window(day(1), day(31)), [span(3, 9), span(12, 12)], frozenset(), NEWEST, 3, matures=True)
    assert sum(each.days.days for each in found) == 31
    assert all(a.days.last + timedelta(days=1) == b.days.first for a, b in itertools.pairwise(found))


def block(first, last, label="product"):
    return Span(label, Window(day(first), day(last)), date(2026, 10, 31), block=True)


def test_sums_side_by_side_stay_two():
    assert states([block(1, 10), block(11, 20)], 1, 20) == {(1, 10): DayState.SUM, (11, 20): DayState.SUM}


def test_a_sum_counts_only_in_a_window_that_holds_all_of_it():
    spans = [block(1, 10)]
    labels = labels_in_use(spans)
    assert held_days(Window(day(1), day(30)), spans, labels) == 10
    assert held_days(Window(day(2), day(30)), spans, labels) == 0
    assert cut(spans, Window(day(2), day(30))) == [Window(day(1), day(10))]
    assert cut(spans, Window(day(11), day(30))) == []
    assert state_of(day(3), spans, labels, NEWEST, 3, matures=True) is DayState.SUM


def test_days_take_a_sum_s_place_whole_and_a_sum_the_days_it_covers():
    assert [(each.days.first.day, each.block) for each in standing([block(1, 10), span(4, 5)])] == [(4, False)]
    days, summed = standing([span(1, 12), block(1, 10)])
    assert (len(days.without), summed.block) == (10, True)
    apart = standing([block(1, 10), span(4, 5, label="brand")])
    assert len(apart) == 2, "another label stands beside it"
    assert len(standing([block(1, 10), span(4, 5, label="all")])) == 1
