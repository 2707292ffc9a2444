"""Limits of bids below the account's: the nearest wins, on frames and on rows alike."""

import polars as pl
import pytest

from nimbus_reef.core import own_limits
from nimbus_reef.core.bids import BidLimits
from nimbus_reef.core.own_limits import Limit, OwnLimit
from nimbus_reef.core.targeting import Aims, target_key

USUAL = BidLimits(0.05, 4.0)
ROW = {
    "campaign": "C",
    "ad_group": "G",
    "target": "lamp",
    "match_type": "exact",
    "portfolio": "P",
    "main_product": "SKU",
}
ROWS = pl.DataFrame(
    [ROW, ROW | {"target": "light"}, ROW | {"campaign": "D"}, ROW | {"campaign": "D", "portfolio": None}]
)


def ceilings(*own):
    return ROWS.with_columns(own_limits.columns(own, USUAL, ROWS.columns))["limit_ceiling"].to_list()


def test_the_nearest_limit_wins():
    product = OwnLimit("product", "SKU", Limit.CEILING, 1.0)
    portfolio = OwnLimit("portfolio", "P", Limit.CEILING, 2.0)
    campaign = OwnLimit("campaign", "C", Limit.CEILING, 3.0)
    target = OwnLimit("target", target_key(ROW), Limit.CEILING, 0.5)
    assert ceilings(product) == [1.0] * 4
    assert ceilings(product, portfolio) == [2.0, 2.0, 2.0, 1.0]
    assert ceilings(product, portfolio, campaign) == [3.0, 3.0, 2.0, 1.0]
    assert ceilings(product, portfolio, campaign, target) == [0.5, 3.0, 2.0, 1.0]


def test_a_row_keeps_to_its_own_limits_and_to_the_accounts_where_none_is_set():
    own = (OwnLimit("campaign", "C", Limit.FLOOR, 0.2), OwnLimit("campaign", "C", Limit.STEP_DOWN, 0.1))
    first, _, other, _ = ROWS.with_columns(own_limits.columns(own, USUAL, ROWS.columns)).to_dicts()
    assert own_limits.in_force(own, USUAL, first) == BidLimits(0.2, 4.0, step_down=0.1)
    assert own_limits.in_force(own, USUAL, other) == USUAL
    assert own_limits.in_force((), USUAL, ROW) is USUAL


@pytest.mark.parametrize(
    ("level", "name"), [("target", "C · G · lamp · exact"), ("campaign", "C"), ("portfolio", "P"), ("product", "SKU")]
)
def test_a_thing_has_a_name_at_each_level(level, name):
    assert own_limits.name_of(level, ROW | {"sku": "SKU"}) == name


def test_a_single_target_has_its_own_target_acos():
    aims = Aims(0.3, (("C", 0.2),), targets=((target_key(ROW), 0.1),))
    assert ROWS.select(aims.expr(ROWS.columns))["target_acos"].to_list() == [0.1, 0.2, 0.3, 0.3]
