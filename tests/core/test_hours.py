"""Hours: segments that convert alike, hours without budget, what those missed."""

from datetime import date, timedelta
from itertools import combinations
from math import log

import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nimbus_reef.core import hours
from nimbus_reef.core.hours import DAY, Segment

UNIT = 1_000_000


def cost(segment, clicks, orders):
    n, k = (sum(values[hour] for hour in segment.members) for values in (clicks, orders))
    if not n:
        return 0.0
    rate = k / n
    return -2 * sum(part * log(share) for part, share in ((k, rate), (n - k, 1 - rate)) if part)


def value_of(segments, clicks, orders):
    return sum(cost(each, clicks, orders) for each in segments) + 3 * len(segments) * log(DAY)


def every_cut(most):
    """All ways of cutting the day into 2 … most segments of two hours or more."""
    for count in range(2, most + 1):
        for cuts in combinations(range(DAY), count):
            lengths = [(after - cut) % DAY for cut, after in zip(cuts, [*cuts[1:], cuts[0]], strict=True)]
            if min(lengths) >= 2:
                yield tuple(Segment(cut, length) for cut, length in zip(cuts, lengths, strict=True))


@settings(max_examples=12, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 60), st.floats(0, 0.5)), min_size=DAY, max_size=DAY))
def test_segments_are_the_best_there_are(drawn):
    """Against brute force over every cut into up to three segments."""
    clicks = [n for n, _ in drawn]
    orders = [round(n * share) for n, share in drawn]
    found = hours.segments(clicks, orders)
    whole = value_of([Segment(0, DAY)], clicks, orders)
    best = min([whole, *(value_of(each, clicks, orders) for each in every_cut(3))])
    assert value_of(found, clicks, orders) <= best + 1e-6
    assert sorted(hour for each in found for hour in each.members) == list(range(DAY))
    assert all(each.hours >= 2 for each in found)


def test_hours_that_convert_alike_are_one_segment():
    assert hours.segments([100] * DAY, [10] * DAY) == (Segment(0, DAY),)
    assert hours.segments([0] * DAY, [0] * DAY) == (Segment(0, DAY),)


def test_an_evening_that_runs_past_midnight_is_one_segment():
    """Clicks from 20 to 2 h convert three times as often."""
    late = {20, 21, 22, 23, 0, 1}
    orders = [60 if hour in late else 20 for hour in range(DAY)]
    assert hours.segments([200] * DAY, orders) == (Segment(2, 18), Segment(20, 6))
    assert Segment(20, 6).end == 2


FIRST = date(2026, 10, 1)


def day_rows(day, spend_by_hour, minutes=None, clicks=2, campaign=1):
    return [
        {
            "campaign_id": campaign,
            "day": FIRST + timedelta(days=day),
            "hour": hour,
            "impressions": 100,
            "clicks": clicks,
            "spend": round(spend * UNIT),
            "sales": round(spend * 5 * UNIT),
            "in_budget_minutes": None if minutes is None else minutes.get(hour, 60),
        }
        for hour, spend in spend_by_hour.items()
    ]


def frame(rows):
    schema = {
        "campaign_id": pl.UInt32,
        "day": pl.Date,
        "hour": pl.UInt8,
        "impressions": pl.Int64,
        "clicks": pl.Int64,
        "spend": pl.Int64,
        "sales": pl.Int64,
        "in_budget_minutes": pl.UInt32,
    }
    return pl.DataFrame(rows, schema=schema)


def budgets(days, units, campaign=1):
    rows = [
        {"campaign_id": campaign, "day": FIRST + timedelta(days=day), "budget": round(units * UNIT)}
        for day in range(days)
    ]
    return pl.DataFrame(rows, schema={"campaign_id": pl.UInt32, "day": pl.Date, "budget": pl.Int64})


ALL_DAY = dict.fromkeys(range(DAY), 1.0)


def test_told_minutes_say_how_much_of_an_hour_was_dry():
    """Half of hour 20 and all of the rest of one day in five; the other days tell what those hours usually sell."""
    dry_day = day_rows(
        0, {**dict.fromkeys(range(20), 1.0), 20: 0.5, 21: 0, 22: 0, 23: 0}, {20: 30, 21: 0, 22: 0, 23: 0}
    )
    rows = [*dry_day, *(row for day in range(1, 5) for row in day_rows(day, ALL_DAY, {}))]
    found = hours.dry(frame(rows), budgets(5, 20.5))
    assert found["hour"].to_list() == [20, 21, 22, 23]
    assert found["share"].to_list() == [0.5, 1, 1, 1]
    assert found["missed_sales"].to_list() == pytest.approx([2.5 * UNIT, 5 * UNIT, 5 * UNIT, 5 * UNIT])
    assert found["missed_spend"].sum() == pytest.approx(3.5 * UNIT)


def test_where_minutes_are_not_told_a_day_near_its_budget_that_ends_early_is_dry():
    """From the hour after its last impressions, where clicks were still due by the account's clock."""
    short = dict.fromkeys(range(18), 1.0)
    rows = [*day_rows(0, short), *(row for day in range(6) for row in day_rows(day, ALL_DAY, campaign=2))]
    known = pl.concat([budgets(1, 18.0), budgets(6, 100.0, campaign=2)])
    found = hours.dry(frame(rows), known)
    assert found["campaign_id"].unique().to_list() == [1]
    assert found["hour"].to_list() == list(range(18, DAY))
    mixed = frame(rows).sample(fraction=1, shuffle=True, seed=5)
    assert hours.dry(mixed, known).equals(found), "in whatever order the rows come"
    for stricter in (hours.DryLimits(near_budget=1.01), hours.DryLimits(due_clicks=13)):
        assert hours.dry(frame(rows), known, stricter).is_empty()
    # Due: 36 clicks in three quarters of the day, so two more an hour, at what its clicks sell.
    assert found["missed_sales"].to_list() == pytest.approx([5 * UNIT] * 6)


@pytest.mark.parametrize(
    ("budget", "clicks", "until"),
    [(30.0, 2, 18), (18.0, 2, 24), (18.0, 0, 18)],
    ids=["far from its budget", "until midnight", "no clicks due"],
)
def test_what_does_not_look_like_an_empty_budget_is_not_dry(budget, clicks, until):
    rows = [
        *day_rows(0, dict.fromkeys(range(until), 1.0), clicks=clicks),
        *(row for day in range(4) for row in day_rows(day, ALL_DAY, campaign=2)),
    ]
    found = hours.dry(frame(rows), pl.concat([budgets(1, budget), budgets(4, 100.0, campaign=2)]))
    assert found.is_empty()


def test_nothing_held_is_nothing_dry():
    assert hours.dry(frame([]), budgets(1, 10)).is_empty()


def test_missed_sales_are_a_range_around_the_usual_elasticity():
    assert hours.missed(100) == hours.Missed(40, 70, 100)


def test_hours_in_which_organic_sales_meet_vanishing_ads():
    spend = [1.0] * 20 + [0.1] * 4
    organic = [1.0] * 20 + [4.0] * 4
    assert hours.starved(spend, organic) == (20, 21, 22, 23)
    assert hours.starved([0] * DAY, organic) == ()
    assert hours.starved([1.0] * DAY, organic) == ()


@pytest.mark.parametrize(("spend", "organic"), [([0.0] * DAY, [1.0] * DAY), ([1.0] * DAY, [0.0] * DAY)])
def test_without_spend_or_sales_no_hour_is_starved(spend, organic):
    assert hours.starved(spend, organic) == ()


def test_a_day_without_clicks_is_one_segment_and_hours_without_any_join_their_neighbours():
    (whole,) = hours.segments([0] * DAY, [0] * DAY)
    assert whole.hours == DAY
    busy = [50 if 8 <= hour < 20 else 0 for hour in range(DAY)]
    found = hours.segments(busy, [each // 10 for each in busy])
    assert [each.hours for each in found] == [DAY]
