"""The simulated world: repeatable, consistent with itself, and honest about its truth."""

from datetime import date

import numpy as np
import polars as pl
import pytest

from nimbus_reef.core.model import MEASURES
from nimbus_reef.sim import reports, trade, world
from nimbus_reef.sim.vocabulary import BRANDS, PELLWICK

LAST = date(2026, 10, 20)


@pytest.fixture(scope="module")
def made():
    built = world.build(PELLWICK, 5, 40)
    happened = trade.run(built, 5, LAST)
    return built, happened, reports.reports(built, happened, LAST)


def test_the_same_seed_gives_the_same_files(made):
    _, _, frames = made
    again = world.build(PELLWICK, 5, 40)
    other = reports.reports(again, trade.run(again, 5, LAST), LAST)
    assert all(frames[kind].equals(other[kind]) for kind in frames)
    different = world.build(PELLWICK, 6, 40)
    assert not different.pairs.equals(again.pairs)


def test_reports_tell_one_story(made):
    """Clicks, spend, orders and sales agree to the cent between targets, terms and product ads."""
    _, _, frames = made
    sums = [
        frames[kind]
        .select(pl.col("clicks", "orders", "units").sum(), pl.col("spend", "sales").sum().round(2))
        .row(0)
        for kind in ("target_daily", "search_term_daily", "product_ad_daily")
    ]
    assert sums[0] == sums[1] == sums[2]


def test_no_row_is_impossible(made):
    _, _, frames = made
    for kind in ("target_daily", "search_term_daily", "product_ad_daily"):
        rows = frames[kind]
        assert (rows["clicks"] <= rows["impressions"]).all()
        assert (rows["orders"] <= rows["clicks"]).all()
        assert rows.select(pl.min_horizontal(MEASURES).min()).item() >= 0


def test_every_match_type_and_several_products_an_ad_group(made):
    built, _, _ = made
    assert set(built.targets["match_type"]) == {"exact", "phrase", "broad", "auto", "item", "category"}
    assert built.ad_products.group_by("ad_group_no").len()["len"].max() > 1


def test_the_truth_holds_bad_apples_and_unlucky_good_ones(made):
    """Bad targets are over target by their true rates; unlucky ones are good and sold nothing."""
    built, happened, _ = made
    truth = reports.truth(built, happened)
    targets = pl.DataFrame(truth["targets"])
    assert targets["bad"].any()
    assert pl.DataFrame(truth["search_terms"])["unlucky"].any()
    unlucky = targets.filter("unlucky")
    assert (unlucky["orders"] == 0).all()
    assert (unlucky["true_acos"] <= PELLWICK.target_acos).all()
    bad = targets.filter("bad")
    assert (bad["overspend"] >= 0).all()
    assert bad["overspend"].sum() > 0
    assert (targets.filter(~pl.col("bad"))["overspend"] == 0).all()


def test_orders_come_at_the_true_rates(made):
    """Over all clicks the draw lies within four standard deviations of what is true."""
    built, happened, _ = made
    clicks = happened.clicked
    rate = np.minimum(
        0.6,
        built.products["cvr"].to_numpy()[clicks["product_no"].to_numpy()]
        * trade.true_rates(built)[clicks["pair_no"].to_numpy()],
    )
    spread = np.sqrt((rate * (1 - rate)).sum())
    assert abs(clicks["ordered"].sum() - rate.sum()) < 4 * spread


def test_two_brands_two_countries_two_currencies():
    assert len({(brand.country, brand.currency) for brand in BRANDS}) == len(BRANDS) == 2
