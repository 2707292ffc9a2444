"""Checks: which rows they choose, and what those weigh."""

import polars as pl
import pytest

from nimbus_reef.core import checks
from nimbus_reef.core.checks.registry import register


def judged(**changes):
    base = {
        "verdict": "above target",
        "own_test": True,
        "own_fault": True,
        "loses": True,
        "orders": 0,
        "spend": 40_000_000,
        "sales": 0,
        "stake": 30_000_000,
    }
    fine = base | {"verdict": "within target", "stake": 0, "spend": 60_000_000, "sales": 500_000_000, "orders": 9}
    return pl.DataFrame([base | changes, fine])


def test_spend_without_an_order_after_a_fair_test():
    found = checks.run(checks.CHECKS["no-order-targets"], judged())
    assert (len(found.rows), found.stake, found.spend) == (1, 30_000_000, 40_000_000)
    assert checks.run(checks.CHECKS["costly-targets"], judged()).rows.is_empty()


def test_sales_over_target_after_a_fair_test():
    assert len(checks.run(checks.CHECKS["costly-targets"], judged(orders=2)).rows) == 1
    assert checks.run(checks.CHECKS["costly-targets"], judged(orders=2, own_test=False)).rows.is_empty()


@pytest.mark.parametrize(
    "change", [{"verdict": "likely above target"}, {"own_fault": False}, {"own_test": False}, {"loses": False}]
)
def test_a_term_is_wasted_only_when_all_four_hold(change):
    assert len(checks.run(checks.CHECKS["wasted-terms"], judged()).rows) == 1
    assert len(checks.run(checks.CHECKS["wasted-terms"], judged(orders=1)).rows) == 1, "an order does not save it"
    assert checks.run(checks.CHECKS["wasted-terms"], judged(**change)).rows.is_empty()


def test_a_check_is_registered_once():
    with pytest.raises(ValueError, match="twice"):
        register(checks.CHECKS["wasted-terms"])
