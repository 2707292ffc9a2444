"""Standing among peers: monotone, blind to units, honest about what is missing."""

from itertools import pairwise

import numpy as np
import polars as pl
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from nimbus_reef.analysis.bootstrap import draws
from nimbus_reef.core import peers
from nimbus_reef.core.metrics import Better

VALUES = st.lists(st.floats(0.01, 1e4), min_size=11, max_size=11).map(sorted)
FEED = pl.DataFrame(
    [
        {"category": "Lamps", "format": "all", "metric": "cvr", "month": month, "brands": brands}
        | {name: base + point / 100 for name, point in zip(peers.COLUMNS, peers.POINTS, strict=True)}
        for month, brands, base in (("2026-08", 50, 0.0), ("2026-09", 40, 1.0), ("2026-10", 12, 5.0))
    ]
)
CELL = peers.cells(FEED)["Lamps", "all", "cvr"]
SUMS = {"impressions": 40_000, "clicks": 400, "orders": 40, "spend": 300.0, "sales": 1200.0}


def at(value, quantiles, better=Better.HIGHER):
    return float(peers.percentiles(np.array([value]), quantiles, better)[0])


@given(VALUES, st.floats(0, 1e4), st.floats(0, 1e4))
def test_a_better_figure_never_stands_lower(quantiles, one, other):
    low, high = sorted((one, other))
    assert at(low, quantiles) <= at(high, quantiles) + 1e-9
    assert at(low, quantiles, Better.LOWER) >= at(high, quantiles, Better.LOWER) - 1e-9


@given(VALUES, st.floats(0, 1e4), st.sampled_from([0.01, 100.0, 8.0]))
def test_standing_is_indifferent_to_units(quantiles, value, unit):
    assume(all(abs(value - q) > 1e-6 * q for q in quantiles))
    assume(all(b - a > 1e-6 * a for a, b in pairwise(quantiles)))
    scaled = [q * unit for q in quantiles]
    assert at(value * unit, scaled) == pytest.approx(at(value, quantiles), abs=1e-6)


def test_quantiles_are_hit_ties_take_the_middle_and_the_ends_are_ends():
    plain = [float(point) for point in peers.POINTS]
    assert [at(float(point), plain) for point in peers.POINTS] == [float(point) for point in peers.POINTS]
    assert at(25.0, plain) == 25
    assert (at(0.0, plain), at(1e9, plain)) == (5, 95)
    assert at(25.0, plain, Better.LOWER) == 75
    tied = [1.0, 1.0, 1.0, 1.0, 2.0, 3.0, 4.0, 5.0, 6.0, 7.0, 8.0]
    assert at(1.0, tied) == (5 + 30) / 2
    assert np.isnan(at(float("nan"), plain))


@pytest.mark.parametrize("quarter", [0.3, 0.7])
def test_a_brand_drawn_at_a_true_quantile_is_found_there_within_its_interval(quarter):
    """A population is drawn, its quantiles told, and a brand that truly converts at p70 simulated."""
    rng = np.random.default_rng(7)
    population = rng.lognormal(np.log(0.08), 0.3, 400)
    told = np.quantile(population, np.array(peers.POINTS) / 100)
    true = float(np.quantile(population, quarter))
    inside = 0
    for _ in range(200):
        daily = rng.binomial(120, true, 30).astype(float)
        clicks = np.full(30, 120.0)
        sums = SUMS | {"clicks": 3600, "orders": int(daily.sum())}
        found = peers.standing("cvr", sums, peers.Peers(tuple(told), 400), peers.ends_of("cvr", daily, clicks, draws))
        inside += found.low <= 100 * quarter <= found.high
    assert 0.7 < inside / 200 < 0.9


def test_months_are_weighed_by_what_we_did_in_them():
    found = peers.blended(CELL, {"2026-08": 300.0, "2026-09": 100.0})
    assert found.typical == pytest.approx(0.5 * 0.75 + 1.5 * 0.25)
    assert (found.brands, found.borrowed) == (40, ())


def test_a_month_with_too_few_brands_uses_the_latest_earlier_one_and_says_so():
    found = peers.blended(CELL, {"2026-10": 1.0})
    assert found.typical == pytest.approx(1.5)
    assert found.borrowed == (("2026-10", "2026-09"),)
    assert peers.blended(CELL, {"2026-07": 1.0}) is None


def test_too_little_data_says_what_is_missing_instead_of_a_verdict():
    some = peers.Peers(tuple(float(p) for p in peers.POINTS), 50)
    thin = peers.standing("cvr", SUMS | {"clicks": 60}, some, None)
    assert (thin.percentile, thin.thin) == (None, ("clicks", 60, 100))
    assert peers.standing("cvr", SUMS, None, None).percentile is None


def test_a_hundred_clicks_without_a_sale_stand_behind_95_percent():
    some = peers.Peers(tuple(p / 100 for p in peers.POINTS), 50)
    hopeless = SUMS | {"orders": 0, "sales": 0}
    assert peers.standing("acos", hopeless, some, None).percentile == 5
    assert peers.standing("acos", hopeless | {"clicks": 99}, some, None).percentile is None


def test_lower_is_better_for_cost_and_quarters_are_said_in_words():
    some = peers.Peers(tuple(p / 100 for p in peers.POINTS), 50)
    found = peers.standing("acos", SUMS, some, (0.2, 0.35))
    assert (found.percentile, found.low, found.high) == (pytest.approx(75), pytest.approx(65), pytest.approx(80))
    assert found.quarter == "top quarter"


def test_money_ratios_have_the_same_interval_every_time():
    spend, sales = np.array([1.0, 3.0, 2.0]), np.array([4.0, 9.0, 8.0])
    assert peers.ends_of("acos", spend, sales, draws) == peers.ends_of("acos", spend, sales, draws)
    low, high = peers.ends_of("acos", spend, sales, draws)
    assert low <= 6 / 21 <= high
    assert peers.ends_of("acos", spend, np.zeros(3), draws) is None


def test_overall_needs_three_metrics_and_conversion_among_them():
    assert peers.overall({"ctr": 40, "cvr": 60, "acos": 80, "aov": None}) == 60
    assert peers.overall({"ctr": 40, "cvr": None, "acos": 80, "aov": 20}) is None
    assert peers.overall({"ctr": 40, "cvr": 60}) is None


def test_categories_are_weighed_by_our_spend_over_those_with_a_verdict():
    def stands(percentile):
        return peers.Standing("ctr", 0.1, percentile)

    parts = [(stands(20.0), 300.0), (stands(80.0), 100.0), (stands(None), 900.0)]
    assert peers.together(parts) == pytest.approx(35)
    assert peers.together([(stands(None), 1.0)]) is None


def test_own_products_stand_in_for_peers_and_say_so():
    assert peers.of_own([1.0, 2.0, 3.0, 4.0]) is None
    assert peers.of_own([1.0, 2.0, 3.0, 4.0, 5.0]).own
