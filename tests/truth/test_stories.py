"""What the simulator planted comes out on top of the right screens, with the right cause."""

from dataclasses import dataclass
from datetime import date, timedelta

import polars as pl
import pytest

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.catalog import pages as product_pages
from nimbus_reef.analysis.readings import reading
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import change, checks
from nimbus_reef.core.windows import Window, preceding
from nimbus_reef.formats.figures import Figures
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.demo_brands import account_of
from nimbus_reef.sim import brand, reports
from nimbus_reef.sim.stories import Stories
from nimbus_reef.sim.vocabulary import BRANDS
from nimbus_reef.store.people import target_acos
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.kit import movers
from nimbus_reef.web.movement import pages

LAST = date(2026, 11, 20)
DAYS = 96
TOLD_BY = ("catalog", "campaigns", "product_ad_daily", "listings", "peer_benchmarks", "peer_format_mix", "query_funnel")


@dataclass(frozen=True)
class Told:
    """One brand as the demo has it, seen over its newest mature month."""

    facts: Facts
    selection: Selection
    stories: Stories
    sides: pl.DataFrame
    found: dict[str, pl.DataFrame]


@pytest.fixture(params=BRANDS, ids=lambda spec: spec.key)
def told(request, store, tmp_path):
    spec = request.param
    made = brand.simulate(spec, 4, DAYS, LAST)
    account = account_of(store, spec)
    for kind, path in reports.write({kind: made.frames[kind] for kind in TOLD_BY}, tmp_path).items():
        mapping = intake.usual_maps(intake.inspect(store, account, path, path.name), kind)
        intake.load(
            store,
            intake.LoadRequest(
                account, path, path.name, mapping, scope="all", today=LAST + timedelta(days=1), confirmed=True
            ),
        )
    facts, end = Facts(store), LAST - timedelta(days=account.maturing_days)
    window = Window(end - timedelta(days=29), end)
    selection = Selection(account, window, target_acos.aims(store, account), preceding(window))
    found = {
        key: checks.run(checks.CHECKS[key], reading(facts, selection, checks.CHECKS[key].reads)).rows
        for key in ("page-broke", "growth-not-worth", "leaking-products")
    }
    return Told(facts, selection, made.stories, movement.sides(facts, selection, "product"), found)


def pull(told):
    """Products by how much they moved ACOS upward, with its parts."""
    return change.split_acos(told.sides).sort("pull", descending=True)


def test_each_story_is_told_by_the_screen_it_belongs_to(told):
    """One brand is simulated once; what follows are its four stories."""
    the_listing_that_broke_is_the_first_fall_beside_a_page_change(told)
    the_page_that_lost_its_pictures_on_the_last_day_stands_above_all(told)
    bought_growth_is_said_to_be_bought_and_not_worth_it(told)
    the_one_that_leaks_leads_the_leaks(told)
    the_one_that_gained_leads_the_drift_list(told)
    the_leak_and_the_bought_growth_moved_acos_through_their_own_factors(told)


def the_listing_that_broke_is_the_first_fall_beside_a_page_change(told):
    fell = told.found["page-broke"]
    assert fell["row_id"].to_list() == list(told.stories.collapsed)
    assert "images" in [each["field"] for each in fell["page"][0]]
    broke = LAST - timedelta(days=DAYS - 1 - told.stories.broke)
    assert fell["day"][0] == broke
    pages = product_pages.listed(told.facts, told.selection)
    assert pages.filter(pl.col("lost").is_null())["sku"][0] == told.stories.collapsed[0], "it is mended first"


def the_page_that_lost_its_pictures_on_the_last_day_stands_above_all(told):
    pages = product_pages.listed(told.facts, told.selection)
    assert pages.filter(pl.col("lost").is_not_null())["sku"].to_list() == list(told.stories.lost)
    assert pages["sku"][0] in told.stories.lost


def bought_growth_is_said_to_be_bought_and_not_worth_it(told):
    assert told.found["growth-not-worth"]["row_id"][0] in told.stories.bought
    bought = told.sides.filter(pl.col("key").is_in(told.stories.bought))
    assert (bought["spend_change"] > 0).all()
    assert bought["worth"].to_list().count(True) == 0


def the_one_that_leaks_leads_the_leaks(told):
    assert told.found["leaking-products"]["row_id"][0] in told.stories.leaked


def the_one_that_gained_leads_the_drift_list(told):
    rows = movers.ranked(told.sides, 30, 30)
    best = rows.sort("profit", descending=True).head(3)
    assert set(best["key"]) & set(told.stories.gained)
    lines = {line.key: line for line in pages.drift_lines(rows, (), {}, Figures("en_IE", "EUR"))}
    first = next(key for key in best["key"] if key in told.stories.gained)
    assert lines[first].words.startswith("gaining")
    assert lines[first].tone == "gain"


def the_leak_and_the_bought_growth_moved_acos_through_their_own_factors(told):
    worst = pull(told).head(5)
    assert set(worst["key"]) & {*told.stories.leaked, *told.stories.bought}
    parts = {row["key"]: row for row in pull(told).to_dicts()}
    for sku in told.stories.bought:
        row = parts[sku]
        assert row["cpc"] > max(abs(row["cvr"]), abs(row["aov"])), "it paid more a click"
    for sku in told.stories.leaked:
        row = parts[sku]
        if row["unsplit"] == row["entered"] == 0:
            assert row["cvr"] > 0, "and it converts less"


def test_products_that_convert_badly_stand_at_the_bottom_of_their_category(told):
    """The product that drags its ad groups: conversion cut to a tenth, seen against the feed."""
    stands = standing.product_standing(standing.standing_data(told.facts, told.selection))
    assert stands["ctr_at"].drop_nulls().is_between(5, 95).all()
    worst = stands.filter(pl.col("cvr_at").is_not_null()).sort("cvr_at").head(6)
    low = {*told.stories.leaked, *told.stories.collapsed}
    assert worst["cvr_at"][0] <= 10
    assert set(worst["sku"]) & low or len(worst) < 6
