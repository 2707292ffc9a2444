"""Boosts: they only raise, those that hold at once add up, and those of other days do not."""

from datetime import date, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import boosts
from nimbus_reef.core.boosts import Boost, BoostHour


def test_boosts_of_other_dates_do_not_add_up():
    """June, October and December: 1.20 for a bid of 1, not 4.20."""
    spring, autumn, winter = (
        Boost(name, "bid", percent, first=first, last=first + timedelta(days=9))
        for name, percent, first in (
            ("june", 200, date(2026, 6, 1)),
            ("october", 100, date(2026, 10, 1)),
            ("december", 20, date(2026, 12, 1)),
        )
    )
    assert boosts.highest([spring, autumn, winter], "bid", 1, 12) == 2.0
    assert boosts.highest([winter], "bid", 1, 12) == 0.2
    always = Boost("always", "bid", 30)
    assert boosts.highest([spring, always, winter], "bid", 1, 12) == pytest.approx(2.3)


def test_a_boost_whose_dates_hold_no_such_weekday_does_not_count():
    weekend = Boost("event", "bid", 50, first=date(2026, 11, 28), last=date(2026, 11, 29))
    assert boosts.highest([weekend], "bid", 6, 0) == 0.5
    assert boosts.highest([weekend], "bid", 1, 0) == 0.0


STARTS = st.dates(date(2026, 1, 1), date(2026, 3, 1))


@st.composite
def made(draw):
    first = draw(st.none() | STARTS)
    last = draw(st.none() | STARTS.map(lambda day: day if first is None or day >= first else first + timedelta(days=3)))
    hour = draw(st.integers(0, 20))
    days = tuple(sorted(draw(st.sets(st.integers(1, 7), max_size=3))))
    return Boost(
        "b",
        draw(st.sampled_from(["bid", "budget"])),
        draw(st.integers(1, 90)),
        days,
        hour,
        hour + draw(st.integers(1, 4)),
        "",
        first,
        last,
    )


@given(st.lists(made(), max_size=4))
def test_the_highest_and_every_stretch_are_those_of_a_walk_through_all_days(drawn):
    days = [date(2025, 12, 1) + timedelta(days=n) for n in range(160)]

    def slow(what, day, hour):
        return sum(
            each.percent / 100
            for each in drawn
            if each.what == what
            and day.isoweekday() in (each.weekdays or range(1, 8))
            and each.from_hour <= hour < each.to_hour
            and (each.first or date.min) <= day <= (each.last or date.max)
        )

    for weekday in (1, 6):
        for hour in (0, 5, 13):
            walked = max(slow("bid", day, hour) for day in days if day.isoweekday() == weekday)
            assert boosts.highest(drawn, "bid", weekday, hour) == pytest.approx(walked)
    stretches = {(moment.weekday, round(boosts.raised(drawn, "bid", moment), 9)) for moment in boosts.moments(drawn)}
    walked = {(day.isoweekday(), round(slow("bid", day, hour), 9)) for day in days for hour in range(24)}
    assert walked <= stretches


@given(made())
def test_what_the_sheet_says_of_a_boost_is_read_as_it_was_written(boost):
    read = boosts.from_sheet(
        boost.what, boost.percent, boosts.when_written(boost), str(boost.from_hour), str(boost.to_hour)
    )
    for moment in (BoostHour(1, 3, None), BoostHour(6, 12, date(2026, 2, 7)), BoostHour(7, 20, date(2026, 1, 4))):
        assert read.holds(moment) == boost.holds(moment)
    assert (read.first, read.last, read.weekdays) == (boost.first, boost.last, boost.weekdays)


@pytest.mark.parametrize(
    ("boost", "told"),
    [
        (Boost("x", "bid", -20), "lower the base bid instead"),
        (Boost("x", "bid", 0), "from 1 to 900"),
        (Boost("x", "bid", 12.5), "whole number"),
        (Boost("x", "budget", 20, (), 22, 22), "end after they begin"),
        (Boost("x", "budget", 20, (8,)), "weekdays from 1"),
        (Boost("x", "price", 20), "a budget or a bid"),
        (Boost("x", "bid", 20, first=date(2026, 2, 2), last=date(2026, 2, 1)), "ends before it begins"),
    ],
)
def test_what_a_marketplace_cannot_do_is_refused_with_the_reason(boost, told):
    assert told in boosts.problem(boost)


def test_a_boost_that_can_be_is_not_refused_and_a_lowering_has_its_way_round():
    assert boosts.problem(Boost("x", "bid", 20, (1, 7), 0, 24)) is None
    base, back = boosts.lower_base(-20, 1.0)
    assert base == pytest.approx(0.8)
    assert base * (1 + back / 100) == pytest.approx(1.0)
