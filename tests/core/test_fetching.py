"""Which days of which report are asked for."""

from datetime import date, timedelta

from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core.change_periods import after, before
from nimbus_reef.core.fetching import MOST_DAYS, wanted
from nimbus_reef.core.windows import Window

FIRST = date(2026, 9, 1)
OFFERED = Window(FIRST, date(2026, 10, 30))


def days(*numbers):
    return {FIRST + timedelta(days=number) for number in numbers}


def test_gaps_and_days_that_mature_are_asked_for():
    loaded = days(*range(10), *range(12, 60))
    assert wanted("target_daily", loaded, OFFERED, 3) == [
        Window(date(2026, 9, 11), date(2026, 9, 12)),
        Window(date(2026, 10, 28), date(2026, 10, 30)),
    ]
    assert wanted("target_daily", loaded, OFFERED, 0) == [Window(date(2026, 9, 11), date(2026, 9, 12))]


def test_of_settings_only_what_is_newer_is_asked_for():
    assert wanted("campaigns", days(0, 7, 14), OFFERED, 3) == [Window(date(2026, 9, 16), date(2026, 10, 30))]
    assert wanted("campaigns", days(59), OFFERED, 3) == []
    assert wanted("catalog", days(59), OFFERED, 3) == [Window(OFFERED.last, OFFERED.last)]


def test_a_long_history_comes_in_parts():
    long = Window(FIRST, FIRST + timedelta(days=2 * MOST_DAYS + 4))
    parts = wanted("target_daily", set(), long, 3)
    assert [each.days for each in parts] == [MOST_DAYS, MOST_DAYS, 5]
    assert parts[0].first == long.first
    assert parts[-1].last == long.last


@given(st.sets(st.integers(0, 59)), st.integers(0, 10))
def test_what_is_asked_for_is_what_is_missing_and_nothing_twice(loaded, maturing):
    asked = [
        each.first + timedelta(days=number)
        for each in wanted("hourly", days(*loaded), OFFERED, maturing)
        for number in range(each.days)
    ]
    assert asked == sorted(set(asked))
    missing = set(range(60)) - loaded | set(range(60 - maturing, 60))
    assert asked == sorted(days(*missing))


def test_before_and_after_are_whole_weeks_without_another_change():
    day = date(2026, 10, 20)
    assert before(day, None, date(2026, 1, 1)) == Window(day - timedelta(days=28), day - timedelta(days=1))
    assert before(day, day - timedelta(days=20), FIRST).days == 14
    assert before(day, day - timedelta(days=13), FIRST) is None
    assert before(day, None, day - timedelta(days=23)).days == 21
    assert after(day, None, day + timedelta(days=5)) is None
    assert after(day, None, day + timedelta(days=16)) == Window(day, day + timedelta(days=13))
    assert after(day, day + timedelta(days=8), day + timedelta(days=60)).days == 7
    assert after(day, None, day + timedelta(days=300)).days == 84
