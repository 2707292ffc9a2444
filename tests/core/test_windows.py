"""Windows: closed ranges of days, and what they are compared with."""

from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import windows
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput

DAYS = st.dates(date(2020, 1, 1), date(2030, 12, 31))


def test_last_30_days_end_at_the_last_mature_day():
    """Three days still gain sales, so the window ends before them."""
    window = windows.parse("last-30", date(2026, 10, 19), 3)
    assert window == Window(date(2026, 9, 17), date(2026, 10, 16))
    assert windows.maturing(window, date(2026, 10, 19), 3) == 0


def test_a_range_up_to_today_says_how_many_days_mature():
    window = Window(date(2026, 10, 1), date(2026, 10, 18))
    assert windows.maturing(window, date(2026, 10, 19), 3) == 2


@pytest.mark.parametrize(
    ("loaded", "days"),
    [(date(2026, 10, 20), 3), (date(2026, 10, 21), 2), (date(2026, 10, 23), 0), (date(2026, 11, 26), 0)],
)
def test_a_sum_of_days_long_past_has_matured(loaded, days):
    window = Window(date(2026, 9, 20), date(2026, 10, 19))
    assert windows.maturing(window, window.last, 3, loaded) == days


def test_a_calendar_month_is_compared_with_the_month_before():
    assert windows.preceding(windows.month(2026, 3)) == windows.month(2026, 2)


def test_last_year_keeps_the_weekdays():
    window = Window(date(2026, 9, 17), date(2026, 10, 16))
    before = windows.last_year(window)
    assert before.first.weekday() == window.first.weekday()
    assert (window.first - before.first).days == 364


@given(DAYS, st.integers(1, 400))
def test_preceding_windows_of_the_same_length_meet(first, days):
    window = Window(first, first).shifted(0)
    window = Window(first, window.shifted(days - 1).last)
    before = windows.preceding(window)
    assert (window.first - before.last).days == 1
    assert before.days == window.days or windows.is_calendar_month(window)


@pytest.mark.parametrize("text", ["last-x", "2026-13", "2026-02-30..2026-03-01", "", "2026-03-02..2026-03-01"])
def test_what_is_no_window_says_how_to_write_one(text):
    with pytest.raises(BadInput) as problem:
        windows.parse(text, date(2026, 1, 1), 3)
    assert problem.value.remedy
