"""Stories, peers, the market and page changes of the simulated world: they are as they claim to be."""

from datetime import date

import numpy as np
import polars as pl
import pytest

from nimbus_reef.formats import files, mapping
from nimbus_reef.sim import brand, peers
from nimbus_reef.sim.vocabulary import PELLWICK

LAST = date(2026, 10, 20)


@pytest.fixture(scope="module")
def made():
    return brand.simulate(PELLWICK, 5, 66, LAST)


def sides(made, skus):
    """spend and sales of some products before the turn and from it on, a day."""
    turn = LAST.toordinal() - 66 + 1 + made.stories.turn
    rows = made.frames["product_ad_daily"].filter(pl.col("sku").is_in(skus))
    late = pl.col("date") >= date.fromordinal(turn)
    found = []
    for part in (rows.filter(~late), rows.filter(late)):
        days = part["date"].n_unique()
        found.append(tuple(part[name].sum() / days for name in ("spend", "sales", "clicks", "orders")))
    return found


def test_what_is_told_is_what_happens(made):
    told = made.stories
    (spend0, sales0, *_), (spend1, sales1, *_) = sides(made, told.bought)
    assert spend1 / spend0 > 1.5
    assert 1 < sales1 / sales0 < spend1 / spend0
    (spend0, _, clicks0, orders0), (spend1, _, clicks1, orders1) = sides(made, told.gained)
    assert orders1 / clicks1 > 1.2 * orders0 / clicks0
    assert 0.7 < spend1 / spend0 < 1.3
    (spend0, sales0, *_), (spend1, sales1, *_) = sides(made, told.leaked)
    assert spend1 > spend0
    assert sales1 < sales0
    assert made.truth["stories"]["leaked"] == list(told.leaked)


@pytest.mark.slow
def test_every_file_is_taken_for_what_it_is_and_read_whole(made, tmp_path):
    for name, frame in made.frames.items():
        path = tmp_path / f"{name}.csv"
        frame.write_csv(path)
        best = mapping.suggest_kind(files.read_table(path, path.name, rows=500))[0]
        assert (best.mapping.kind, best.missing, best.unused) == (name, (), ())


def test_a_page_breaks_on_the_day_conversion_collapses(made):
    (sku,) = made.stories.collapsed
    pages = made.frames["listings"].filter(pl.col("sku") == sku).sort("date")
    changed = pages.filter(pl.col("images") != pl.col("images").shift(1))
    day = date.fromordinal(LAST.toordinal() - 66 + 1 + made.stories.broke)
    assert changed["date"].to_list() == [day]
    assert changed["images"][0] == 1


def test_every_move_of_a_bid_is_on_record(made):
    changes, bids = made.frames["changes"], made.world.bids
    assert len(changes) == int((np.diff(bids, axis=1) != 0).sum())
    assert set(changes["field"]) == {"bid"}
    assert (changes["old"] != changes["new"]).all()


def test_the_feed_tells_the_true_quantiles_of_its_population():
    category, months = PELLWICK.categories[0], peers.months_of(date(2026, 9, 1), LAST)
    people = peers.population(PELLWICK, category, 5, len(months))
    feed = peers.benchmarks(PELLWICK, 5, date(2026, 9, 1), LAST)
    cell = feed.filter(
        pl.col("month") == "2026-10",
        pl.col("category") == category.name,
        pl.col("format") == "product",
        pl.col("metric") == "cvr",
    ).to_dicts()[0]
    brands = people["cvr"][1, :, 0]
    assert cell["brands"] == len(brands)
    assert cell["p70"] == pytest.approx(np.quantile(brands, 0.7), abs=1e-6)
    assert people["acos"] == pytest.approx(people["cpc"] / (people["cvr"] * people["aov"]))
    mix = peers.format_mix(PELLWICK, 5, date(2026, 9, 1), LAST)
    sums = mix.group_by("month", "category").agg(pl.col("spend_share", "campaign_share").sum())
    assert sums["spend_share"].to_list() == pytest.approx([1.0] * len(sums), abs=1e-3)


def test_own_figures_of_the_funnel_are_part_of_the_market_s(made):
    funnel = made.frames["query_funnel"]
    assert len(funnel) > 300
    assert set(funnel["week"].dt.weekday()) == {1}
    for stage in ("impressions", "clicks", "cart_adds", "purchases"):
        assert (funnel[f"own_{stage}"] <= funnel[f"market_{stage}"]).all(), stage
    assert (funnel["own_purchases"] <= funnel["own_cart_adds"]).all()
    assert (funnel["own_cart_adds"] <= funnel["own_clicks"]).all()
