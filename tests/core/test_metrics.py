"""Ratios: from summed measures, null where there is nothing to divide by."""

import math

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import metrics
from nimbus_reef.core.metrics import MEASURE_OF, TACOS, is_money, summed, sums_in_units
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.formats.contract import CellKind
from nimbus_reef.formats.kinds import KINDS

ROW = st.fixed_dictionaries(
    {
        "impressions": st.integers(0, 10**6),
        "clicks": st.integers(0, 10**4),
        "spend": st.integers(0, 10**10),
        "orders": st.integers(0, 500),
        "units": st.integers(0, 500),
        "sales": st.integers(0, 10**11),
    }
)


def frame(rows):
    return pl.DataFrame(rows, schema=dict.fromkeys(MEASURES, pl.Int64))


def test_worked_ratios():
    """CPC 1.00, CVR 0.10, AOV 40 make an ACOS of 0.25."""
    row = {"impressions": 20_000, "clicks": 100, "spend": 100 * MICRO, "orders": 10, "units": 11, "sales": 400 * MICRO}
    found = metrics.with_ratios(frame([row])).to_dicts()[0]
    assert (found["cpc"], found["cvr"], found["aov"], found["acos"]) == (1.0, 0.1, 40.0, 0.25)
    assert (found["ctr"], found["rpc"], found["roas"]) == (0.005, 4.0, 4.0)


def test_nothing_to_divide_by_is_null_and_no_sales_sorts_worst():
    """ACOS of spend without sales is null, flagged, and ranks above any other."""
    rows = [
        {"impressions": 9, "clicks": 3, "spend": 5, "orders": 0, "units": 0, "sales": 0},
        {"impressions": 0, "clicks": 0, "spend": 0, "orders": 0, "units": 0, "sales": 0},
        {"impressions": 9, "clicks": 3, "spend": 500, "orders": 1, "units": 1, "sales": 5},
    ]
    found = metrics.with_ratios(frame(rows))
    assert found["acos"].to_list() == [None, None, 100.0]
    assert found["no_sales"].to_list() == [True, False, False]
    assert found["cpc"][1] is None
    ranked = found.select(metrics.acos_rank().alias("rank"))["rank"].to_list()
    assert ranked == [math.inf, None, 100.0]


@given(st.lists(ROW, min_size=1, max_size=30))
def test_acos_is_cpc_over_cvr_times_aov(rows):
    """The identity holds for the sums, wherever all four exist."""
    found = metrics.with_ratios(metrics.summed(frame(rows), [])).to_dicts()[0]
    if all(found[name] for name in ("acos", "cpc", "cvr", "aov")):
        assert found["acos"] == pytest.approx(found["cpc"] / (found["cvr"] * found["aov"]), rel=1e-9)


@given(st.lists(ROW, min_size=1, max_size=30), st.integers(0, 29), st.randoms())
def test_sums_do_not_depend_on_order_or_on_where_rows_are_split(rows, cut, random):
    """Summing parts and then their sums is summing the whole, to the micro-unit."""
    whole = metrics.summed(frame(rows), [])
    shuffled = rows[:]
    random.shuffle(shuffled)
    parts = [part for part in (shuffled[:cut], shuffled[cut:]) if part]
    halves = pl.concat([metrics.summed(frame(part), []) for part in parts])
    assert metrics.summed(halves, []).equals(whole)
    slow = {name: sum(row[name] for row in rows) for name in MEASURES}
    assert whole.to_dicts()[0] == slow


def test_a_change_from_nothing_is_new():
    assert metrics.difference(5.0, 0.0) == metrics.Difference(5.0, None)
    assert metrics.difference(None, 1.0) == metrics.Difference(None, None)
    assert metrics.difference(3.0, 2.0).relative == 0.5


def test_spend_at_the_limit_is_within_target():
    """58 on 200 at 0.29 is exactly the target, though 0.29 × 200 is 57.999… in floats."""
    rows = pl.DataFrame({"spend": [58 * MICRO, 58 * MICRO + 1], "sales": [200 * MICRO] * 2, "target_acos": [0.29] * 2})
    assert rows.select(metrics.within_target()).to_series().to_list() == [True, False]
    assert metrics.met_target(58, 200, 0.29)
    assert not metrics.met_target(58.01, 200, 0.29)


def test_whatever_a_report_counts_is_a_measure_and_is_money_where_its_column_is():
    """A column that is added up has its name, unit and way of writing in one place."""
    for kind in KINDS.values():
        for column in kind.columns:
            if column.summed:
                assert column.name in MEASURE_OF, (kind.name, column.name)
                assert is_money(column.name) == (column.holds is CellKind.MONEY), column.name


def test_measures_of_all_trade_are_summed_and_make_ratios_like_those_of_ads():
    days = pl.DataFrame({"sku": ["A", "A"], "spend": [2_000_000, 1_000_000], "total_sales": [20_000_000, 10_000_000]})
    row = summed(days, ["sku"]).to_dicts()[0]
    assert (row["spend"], row["total_sales"]) == (3_000_000, 30_000_000)
    assert TACOS.value(sums_in_units(row, ("spend", "total_sales"))) == 0.1
    assert summed(days, []).select(TACOS.expr()).item() == 0.1
