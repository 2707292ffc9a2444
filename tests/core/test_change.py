"""Why a figure moved: the parts sum to the change, whatever entered, left or sold nothing."""

import math

import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimbus_reef.core import change

NAMES = ("impressions", "clicks", "spend", "orders", "sales")
COUNT = st.one_of(st.just(0), st.integers(1, 10**7))
ITEM = st.fixed_dictionaries({f"{name}{when}": COUNT for name in NAMES for when in (0, 1)})
RATIOS = {
    "acos": ("spend", "sales"),
    "ctr": ("clicks", "impressions"),
    "cvr": ("orders", "clicks"),
    "cpc": ("spend", "clicks"),
    "aov": ("sales", "orders"),
}


def test_one_row_is_split_as_worked_by_hand():
    """0.25 (CPC 1.00, CVR 0.10, AOV 40) to 0.44 (1.10, 0.0625, 40): L = 0.33610."""
    then = {"clicks": 100, "orders": 10, "spend": 100.0, "sales": 400.0}
    now = {"clicks": 160, "orders": 10, "spend": 176.0, "sales": 400.0}
    found = change.split_row(then, now)
    assert (found.cpc, found.cvr, found.aov) == (
        pytest.approx(0.03203, abs=5e-6),
        pytest.approx(0.15797, abs=5e-6),
        pytest.approx(0, abs=1e-12),
    )
    assert found.total == pytest.approx(0.19)


def test_a_row_without_one_of_its_factors_is_not_split():
    row = {"clicks": 9, "orders": 1, "spend": 4.0, "sales": 20.0}
    assert change.split_row(row | {"orders": 0, "sales": 0.0}, row).reason == "no orders before"
    assert change.split_row(row, row | {"clicks": 0}).reason == "no clicks now"


@given(st.lists(ITEM, min_size=1, max_size=8), st.sampled_from(sorted(RATIOS)))
def test_parts_of_any_ratio_sum_to_its_change(items, name):
    top, bottom = RATIOS[name]
    frame = pl.DataFrame(items).with_columns(
        num0=pl.col(f"{top}0"), den0=pl.col(f"{bottom}0"), num1=pl.col(f"{top}1"), den1=pl.col(f"{bottom}1")
    )
    found = change.split_group(frame)
    sums = {key: frame[key].sum() for key in ("num0", "den0", "num1", "den1")}
    if not sums["den0"] or not sums["den1"]:
        assert found is None
        return
    moved = sums["num1"] / sums["den1"] - sums["num0"] / sums["den0"]
    near = 1e-9 * max(1, abs(moved), sums["num1"] / sums["den1"], sums["num0"] / sums["den0"])
    assert math.fsum(found["part"]) == pytest.approx(moved, abs=near)
    assert math.fsum(found["pull"]) == pytest.approx(moved, abs=near)
    for row in found.to_dicts():
        assert row["mix"] + row["rate"] + row["entered"] == pytest.approx(row["part"], abs=near)


@given(st.lists(ITEM, min_size=1, max_size=8))
def test_the_account_s_acos_is_split_by_factor_and_nothing_is_left_over(items):
    frame = pl.DataFrame(items)
    found = change.split_acos(frame)
    then, now = frame["sales0"].sum(), frame["sales1"].sum()
    if not then or not now:
        assert found is None
        return
    moved = frame["spend1"].sum() / now - frame["spend0"].sum() / then
    near = 1e-9 * max(1, frame["spend1"].sum() / now, frame["spend0"].sum() / then)
    assert math.fsum(math.fsum(found[part]) for part in change.ACOS_PARTS) == pytest.approx(moved, abs=near)
    for row in found.to_dicts():
        assert math.fsum(row[part] for part in change.ACOS_PARTS) == pytest.approx(row["part"], abs=near)


def test_rate_and_mix_are_told_apart():
    """All of one item's ACOS and all of the other's stay; sales move to the dearer: it is all mix."""
    frame = pl.DataFrame(
        {
            "spend0": [10, 40],
            "sales0": [100, 100],
            "clicks0": [10, 40],
            "orders0": [5, 5],
            "spend1": [5, 60],
            "sales1": [50, 150],
            "clicks1": [5, 60],
            "orders1": [3, 7],
        }
    )
    found = change.split_acos(frame)
    assert found["mix"].sum() == pytest.approx(0.325 - 0.25)
    assert found["rate"].abs().max() < 1e-12
    assert found["pull"].to_list() == pytest.approx([0.0375, 0.0375]), "the cheap one shrank, the dear one grew"


@given(st.lists(st.tuples(st.integers(-(10**6), 10**6), st.integers(-(10**6), 10**6)), min_size=1, max_size=9))
def test_additive_parts_sum_and_share_the_gross(pairs):
    frame = pl.DataFrame(pairs, schema=["value0", "value1"], orient="row")
    found = change.additive(frame)
    net = sum(now - then for then, now in pairs)
    gross = sum(abs(now - then) for then, now in pairs)
    assert found["part"].sum() == net
    found = change.in_order(found)
    assert found["running"][-1] == net
    assert found["part"].abs().is_sorted(descending=True)
    if gross:
        assert found["share_of_gross"].sum() == pytest.approx(1)
    told = found["share_of_net"].null_count() == 0
    assert told == (gross > 0 and net != 0 and abs(net) >= 0.2 * gross)
