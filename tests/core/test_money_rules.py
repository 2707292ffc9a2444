"""What a leak, bought growth, a gap to the peers and the product that drags it come to in money."""

import numpy as np
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import movement, peers
from nimbus_reef.core.checks import CHECKS, Money, run
from nimbus_reef.core.movement import Movement
from nimbus_reef.core.peers import POINTS, Peers

SUMS = {"impressions": 100_000.0, "clicks": 1_000.0, "orders": 50.0, "spend": 800.0, "sales": 2_000.0}
FEED = Peers(tuple(float(point) for point in POINTS), 40)


def moved(kind, **row):
    base = {"movement": kind, "profit": 0.0, "spend_change": 0.0, "sales_change": 0.0, "target_acos": 0.3}
    return pl.DataFrame([base | row]).select(movement.stake()).item()


def test_a_leak_stakes_the_profit_lost():
    assert moved(Movement.LEAKING, profit=-120.0) == pytest.approx(120)
    assert moved(Movement.LEAKING, profit=40.0) == 0


def test_bought_growth_stakes_the_spend_above_what_its_sales_may_cost():
    assert moved(Movement.BUYING, spend_change=100.0, sales_change=200.0, profit=-10.0) == pytest.approx(40)


@pytest.mark.parametrize(
    ("metric", "value", "typical", "money"),
    [
        ("ctr", 0.01, 0.012, 0.3 * 2_000 * 0.2),
        ("cvr", 0.05, 0.08, 800 * (1 - 0.05 / 0.08)),
        ("cpc", 0.8, 0.6, 800 * (1 - 0.6 / 0.8)),
        ("acos", 0.4, 0.3, 2_000 * 0.1),
    ],
)
def test_a_gap_to_the_typical_peer_in_spend(metric, value, typical, money):
    assert peers.gap(metric, value, typical, SUMS, 0.3) == pytest.approx(money)
    assert peers.gap(metric, typical, typical, SUMS, 0.3) == pytest.approx(0)


@pytest.mark.parametrize(
    ("metric", "value", "typical", "brings"),
    [
        ("ctr", 0.01, 0.012, ("sales", 400.0)),
        ("aov", 40.0, 50.0, ("sales", 500.0)),
        ("cpc", 0.8, 0.6, ("spend", 200.0)),
        ("acos", 0.4, 0.3, ("spend", 200.0)),
        ("cpc", 0.5, 0.6, None),
        ("cvr", 0.0, 0.1, None),
    ],
)
def test_what_being_typical_would_bring(metric, value, typical, brings):
    found = peers.closed(metric, value, typical, SUMS)
    assert found is None if brings is None else (found[0], pytest.approx(found[1])) == brings


def test_the_product_that_drags_a_metric_lies_furthest_on_its_bad_side():
    rows = pl.DataFrame({"sku": ["A", "B", "B", "C"], "orders": [10, 1, 0, 0], "clicks": [100, 100, 100, 10]})
    assert peers.drag("cvr", 0.1, rows) == "B"
    assert peers.drag("cvr", 0.0, rows) is None


@given(clicks=st.integers(0, 400), orders=st.integers(0, 40), spend=st.integers(0, 500), sales=st.integers(0, 900))
def test_many_rows_at_once_stand_where_each_would_alone(clicks, orders, spend, sales):
    """The column and the single figure are one rule: too thin, hopeless and between alike."""
    sums = {"impressions": 5_000, "clicks": clicks, "orders": orders, "spend": spend, "sales": sales}
    for metric in ("ctr", "cvr", "cpc", "acos"):
        _, at, _ = peers.columns(metric, {name: np.array([float(value)]) for name, value in sums.items()}, FEED)
        alone = peers.standing(metric, sums, FEED, None).percentile
        assert (None if np.isnan(at[0]) else at[0]) == (pytest.approx(alone) if alone is not None else None)


def test_overall_of_many_rows_is_that_of_each():
    rows = [
        {"ctr_at": 20.0, "cvr_at": 40.0, "acos_at": None, "aov_at": 60.0},
        {"ctr_at": 20.0, "cvr_at": None, "acos_at": 10.0, "aov_at": 60.0},
        {"ctr_at": None, "cvr_at": 40.0, "acos_at": None, "aov_at": 60.0},
    ]
    schema = dict.fromkeys(rows[0], pl.Float64)
    together = pl.DataFrame(rows, schema=schema).select(peers.overall_column()).to_series().to_list()
    assert together == [peers.overall({name.removesuffix("_at"): at for name, at in row.items()}) for row in rows]


def test_every_check_says_what_it_reads_stakes_and_asks():
    assert all(check.question.endswith("?") and check.to_do for check in CHECKS.values())
    assert {check.money for check in CHECKS.values()} == set(Money)


def test_where_nothing_is_at_stake_most_sales_come_first():
    rows = pl.DataFrame({"stake": [0, 0], "spend": [9, 1], "sales": [10, 20]})
    assert run(CHECKS["winners"], rows).rows["sales"].to_list() == [20, 10]
    assert run(CHECKS["page-broke"], rows).rows["sales"].to_list() == [10, 20]
