"""Placements: evidence in the campaign's own cohort, and one base bid that meets the target everywhere."""

from dataclasses import replace
from itertools import product

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import placements
from nimbus_reef.core.model import Placement
from nimbus_reef.core.placements import ADJUSTABLE, PlacementSums
from nimbus_reef.core.targeting import Aims

TOP, ELSEWHERE, PAGE = ADJUSTABLE
UNIT = 1_000_000


def test_the_base_is_the_lowest_worth_among_placements_in_use():
    """Worked by hand: RPC_c 2, top (600 + 40)/(200 + 20), page (40 + 40)/(60 + 20) in a tenth of the clicks or more."""
    places = [PlacementSums(TOP, 200, 100, 600), PlacementSums(ELSEWHERE, 140, 60, 160), PlacementSums(PAGE, 60, 30, 0)]
    found = placements.solve(places, 0.25)
    rpc = 760 / 400
    worth = {TOP: 0.25 * (600 + 20 * rpc) / 220, ELSEWHERE: 0.25 * (160 + 20 * rpc) / 160, PAGE: 0.25 * 20 * rpc / 80}
    assert found.worth == pytest.approx(worth)
    assert found.sets_base is PAGE
    assert found.base == pytest.approx(worth[PAGE])
    assert found.ratio == pytest.approx(worth[PAGE] / (rpc * 0.25))
    assert found.adjustments[PAGE] == 0
    assert found.adjustments[TOP] == pytest.approx(int((worth[TOP] / worth[PAGE] - 1) * 100) / 100)


def test_a_placement_with_few_clicks_does_not_set_the_base_and_off_site_has_no_part():
    places = [
        PlacementSums(TOP, 500, 300, 1500),
        PlacementSums(ELSEWHERE, 450, 200, 900),
        PlacementSums(PAGE, 40, 30, 0),
        PlacementSums(Placement.OFF_SITE, 900, 300, 0),
    ]
    found = placements.solve(places, 0.3)
    assert found.sets_base is ELSEWHERE
    assert placements.solve(places[:3], 0.3) == found
    assert placements.solve(places, 0.3, base_share=0.04).sets_base is PAGE


def test_placements_that_are_right_with_their_adjustment_in_force_keep_base_and_adjustment():
    """
    Top with +100 %, both exactly at a target of 25 %: a click sells 2 units at the top and 1 on the page, in as many
    clicks.
    """
    clicks = 100_000  # So many that what is drawn to the campaign's mean does not show.
    places = [
        PlacementSums(TOP, clicks, clicks * 0.50, clicks * 2.0, adjustment=1.0),
        PlacementSums(PAGE, clicks, clicks * 0.25, clicks * 1.0),
    ]
    found = placements.solve(places, 0.25)
    assert found.ratio == pytest.approx(1.0, abs=0.001)
    assert found.adjustments[TOP] == pytest.approx(0.99, abs=0.011)
    assert placements.is_right(places, found)
    assert not placements.is_right([replace(places[0], adjustment=0.5), places[1]], found)


def test_what_was_solved_once_is_right_the_next_time():
    """Whatever is in force: after the solution is in force, the same figures ask for nothing more."""
    places = [
        PlacementSums(TOP, 400, 200, 900, 0.3),
        PlacementSums(ELSEWHERE, 300, 90, 300),
        PlacementSums(PAGE, 200, 50, 150, 0.1),
    ]
    first = placements.solve(places, 0.28)
    assert not placements.is_right(places, first)
    moved = [replace(each, adjustment=first.adjustments[each.placement]) for each in places]
    again = placements.solve(moved, 0.28)
    in_force = sum(e.clicks * (1 + e.adjustment) for e in moved) / sum(e.clicks for e in moved)
    assert again.adjustments == first.adjustments
    assert again.ratio == pytest.approx(in_force * again.base / (1350 / 900 * 0.28))


def test_sales_of_a_placement_without_a_click_are_not_its_clicks():
    with_views = [PlacementSums(TOP, 200, 100, 600), PlacementSums(PAGE, 0, 0, 500)]
    assert placements.solve(with_views, 0.25).base == placements.solve(with_views[:1], 0.25).base
    judged = placements.judge(
        rows(("a", "top_of_search", 400, 40, 100, 1200), ("a", "product_page", 0, 5, 0, 900)),
        "whose",
        30,
        Aims(0.3),
        10,
    )
    assert judged["group_aov"][0] == pytest.approx(30 * UNIT)


def test_a_campaign_without_sales_has_no_solution():
    assert placements.solve([PlacementSums(TOP, 100, 50, 0)], 0.3) is None
    assert placements.solve([PlacementSums(Placement.OFF_SITE, 100, 50, 90)], 0.3) is None


def test_raises_end_at_nine_hundred_per_cent():
    found = placements.solve([PlacementSums(TOP, 100, 50, 5000), PlacementSums(PAGE, 2000, 50, 10)], 0.3)
    assert max(found.adjustments.values()) <= 9
    assert all(round(value * 100) == pytest.approx(value * 100) for value in found.adjustments.values())


@given(
    st.lists(st.tuples(st.integers(20, 800), st.integers(0, 3000)), min_size=3, max_size=3),
    st.sampled_from([0.15, 0.28, 0.4]),
)
def test_no_other_base_and_raises_come_closer_to_what_a_click_may_cost(drawn, target):
    """
    Against brute force: of whole-percent raises and bases, none lies nearer to the worth of every
    placement from below.
    """
    places = [
        PlacementSums(name, clicks, 1.0, float(sales)) for name, (clicks, sales) in zip(ADJUSTABLE, drawn, strict=True)
    ]
    found = placements.solve(places, target)
    if found is None:
        assert sum(sales for _, sales in drawn) == 0
        return
    clicks = sum(each.clicks for each in places)
    used = [name for name in ADJUSTABLE if drawn[ADJUSTABLE.index(name)][0] >= 0.1 * clicks]

    def short(base, raises):
        """How much of their worth placements in use are bid below; endless where any is bid above."""
        bids = {name: base * (1 + raised) for name, raised in zip(ADJUSTABLE, raises, strict=True) if name in used}
        over = any(bid > found.worth[name] * (1 + 1e-9) for name, bid in bids.items())
        return float("inf") if over else sum(1 - bid / found.worth[name] for name, bid in bids.items())

    mine = short(found.base, [found.adjustments[name] for name in ADJUSTABLE])
    steps = [0.0, 0.1, 0.25, 0.5, 1.0, 2.0, 5.0, 9.0]
    other = min(
        short(found.base * share, raises) for share in (0.5, 0.8, 0.95, 1.0) for raises in product(steps, repeat=3)
    )
    assert mine <= other + 0.01 * len(used)


def rows(*given_):
    """whose, placement, clicks, orders, spend, sales in units."""
    columns = ("whose", "placement", "clicks", "orders", "spend", "sales")
    frame = pl.DataFrame(given_, schema=columns, orient="row")
    return frame.with_columns(
        pl.col("spend", "sales").cast(pl.Float64).mul(UNIT).cast(pl.Int64),
        impressions=pl.lit(1000),
        units=pl.col("orders"),
    )


def test_a_placement_is_judged_in_its_campaign_where_that_is_large_enough():
    """m = Σk/Σn of the campaign with the weight of 50 clicks, else the account's."""
    judged = placements.judge(
        rows(
            ("big", "top_of_search", 300, 30, 100, 900),
            ("big", "off_site", 100, 0, 40, 0),
            ("small", "top_of_search", 20, 0, 10, 0),
        ),
        "whose",
        30,
        Aims(0.3),
        10,
    )
    by = {(row["whose"], row["placement"]): row for row in judged.to_dicts()}
    big = 30 / 400
    assert by["big", "off_site"]["prior_a"] == pytest.approx(50 * big)
    assert by["big", "off_site"]["cohort_cvr"] == pytest.approx(big)
    assert by["small", "top_of_search"]["prior_a"] == pytest.approx(50 * 30 / 420)
    assert by["big", "off_site"]["verdict"] == "above target"
    assert by["big", "top_of_search"]["verdict"] == "within target"


def test_off_site_traffic_is_judged_in_the_cohort_of_the_other_campaigns_off_site_traffic():
    """Its own clicks left out: (Σk + 50·m)/(Σn + 50) of the others, where they are 300 or more."""
    own = [("a", "top_of_search", 400, 40, 200, 1200), ("a", "off_site", 12, 0, 6, 0)]
    others = [("b", "top_of_search", 400, 40, 200, 1200), ("b", "off_site", 500, 1, 100, 30)]
    judged = placements.judge(rows(*own, *others), "whose", 30, Aims(0.3), 10)
    by = {(row["whose"], row["placement"]): row for row in judged.to_dicts()}
    whole = 81 / 1312
    assert by["a", "off_site"]["cohort_cvr"] == pytest.approx((1 + 50 * whole) / 550)
    assert by["a", "off_site"]["verdict"] == "above target", "few clicks, and everybody's off-site clicks rarely buy"
    assert by["b", "off_site"]["cohort_cvr"] == pytest.approx(41 / 900), "12 clicks of others say nothing"


def test_an_account_too_small_to_judge_says_so():
    judged = placements.judge(rows(("a", "off_site", 40, 1, 10, 20)), "whose", 30, Aims(0.3), 10)
    assert judged["verdict"][0] == "not enough data"


def test_lower_bids_cost_and_sell_less_and_the_same_bids_change_nothing():
    places = [PlacementSums(TOP, 200, 100, 600, 0.2, 30, 170, 30.0), PlacementSums(PAGE, 100, 60, 60, 0.0, 5, 95, 30.0)]
    same, _, _ = placements.outcome(places, 1.0, {TOP: 0.2}, 30)
    assert same.spend.middle == pytest.approx(0)
    assert same.sales.middle == pytest.approx(0)
    less, acos, around = placements.outcome(places, 0.5, {TOP: 0.2}, 30)
    assert less.spend.low <= less.spend.middle <= less.spend.high < 0
    assert less.sales.high < 0
    assert around[0] <= acos <= around[1] < 160 / sum(each.expected_sales for each in places)
