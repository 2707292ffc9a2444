"""The simulated world: repeatable, consistent with itself, and honest about its truth."""

from datetime import date

import numpy as np
import polars as pl
import pytest

from nimbus_reef.core.model import MEASURES
from nimbus_reef.sim import brand, reports, trade, world
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
    """Clicks, spend, orders and sales agree to the cent; display ads have no search terms."""
    _, _, frames = made
    display = frames["campaigns"].filter(format="display").select("campaign")
    sums = [
        frames[kind]
        .join(display, on="campaign", how="anti")
        .select(pl.col("clicks", "orders", "units").sum(), pl.col("spend", "sales").sum().round(2))
        .row(0)
        for kind in ("target_daily", "search_term_daily", "product_ad_daily")
    ]
    assert sums[0] == sums[1] == sums[2]
    assert frames["search_term_daily"].join(display, on="campaign", how="semi").is_empty()
    assert not frames["target_daily"].join(display, on="campaign", how="semi").is_empty()


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


def test_three_formats_and_all_trade_of_every_product(made):
    """Whatever ads sold of a product is part of what it sold in all."""
    _, _, frames = made
    assert set(frames["campaigns"]["format"]) == {"product", "brand", "display"}
    ads = frames["product_ad_daily"].group_by("date", "sku").agg(pl.col("sales", "orders").sum())
    both = frames["product_sales_daily"].join(ads, on=["date", "sku"])
    assert len(both) > 100
    assert (both["total_sales"] >= both["sales"] - 0.01).all()
    assert (both["total_orders"] >= both["orders"]).all()
    assert both["total_sales"].sum() > 1.3 * both["sales"].sum()


def test_attribution_matures(made):
    """The newest days lack orders that later files of the same days have; older days do not change."""
    _, happened, early = made
    whole = happened.clicked.group_by("day").agg(pl.col("ordered").sum()).sort("day")["ordered"].to_list()
    told = early["target_daily"].group_by("date").agg(pl.col("orders").sum()).sort("date")["orders"].to_list()
    assert told[:-3] == whole[:-3]
    assert sum(told[-3:]) < sum(whole[-3:])


def test_a_product_drags_its_ad_groups_and_a_word_is_misspelt_in_many_terms(made):
    built, happened, frames = made
    truth = reports.truth(built, happened)
    ads = pl.DataFrame(truth["product_ads"])
    (sku,) = truth["drags"]
    dragging = ads.filter(sku=sku)
    assert dragging["bad"].mean() > 0.9
    assert dragging["overspend"].sum() > 0.05 * ads["overspend"].sum()
    (word,) = truth["misspelt"]
    assert word["bad"]
    terms = frames["search_term_daily"].filter(pl.col("search_term").str.contains(word["misspelt"]))
    assert terms["search_term"].n_unique() > 15
    small = terms.group_by("search_term").agg(pl.col("clicks").sum())
    assert small["clicks"].median() < 10


def test_shares_are_parts_and_who_has_more_of_a_search_is_ranked_higher(made):
    _, _, frames = made
    targets, terms = frames["target_daily"], frames["search_term_daily"]
    told = targets["top_of_search_share"].drop_nulls()
    assert len(told) > 1000
    assert 0 <= told.min() <= told.max() <= 1
    rows = terms.select("impression_share", "impression_rank").drop_nulls()
    assert rows["impression_rank"].min() >= 1
    assert rows.select(pl.corr("impression_share", "impression_rank", method="spearman")).item() < -0.5


def test_a_list_of_ideas_has_phrases_and_no_figures():
    ideas = brand.simulate(PELLWICK, 5, 40, LAST).frames["phrase_lists"]
    assert len(ideas) == ideas["keyword"].n_unique() == 60
    assert ideas.columns == ["keyword", "name"]
