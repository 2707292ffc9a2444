"""Catalog: each view answers from the demo's own truth, opens what is behind a row, and puts it into the plan."""

import io
import json

import polars as pl
import pytest
from tests.pages import accept, found, link, row_ids, text_of, texts, values

from nimbus_reef.core.changes import Entity
from nimbus_reef.store.people import accounts, plans
from nimbus_reef.web.catalog.routes import VIEWS

CATALOG = "/catalog"


@pytest.fixture(scope="module")
def truth(demo):
    """What is true of Fernhollow, the first account."""
    return json.loads((demo.config.var / "demo" / "fernhollow-de" / "truth.json").read_text())


@pytest.fixture
def unnamed(demo):
    """Leaves the account without a naming pattern, as it was."""
    yield
    accounts.set_naming(demo.store, 1, None, "")


def planned(demo):
    return [each.change for each in plans.planned(demo.store, 1)]


def csv_of(owner, name, query=""):
    return pl.read_csv(io.StringIO(owner.get(f"{CATALOG}/{name}/export.csv{query}").get_data(as_text=True)))


@pytest.mark.parametrize("name", VIEWS)
def test_every_view_begins_with_its_answer(owner, name):
    page = owner.get(f"{CATALOG}/{name}")
    assert page.status_code == 200
    assert len(texts(page, ".answer b")[0]) > 20


@pytest.mark.parametrize("name", ["families", "ads", "eligibility", "gaps", "listings", "structure", "duplicates"])
@pytest.mark.parametrize("ending", ["csv", "xlsx", "parquet"])
def test_every_table_leaves_as_a_file(owner, name, ending):
    assert owner.get(f"{CATALOG}/{name}/export.{ending}").status_code == 200


def test_the_product_that_drags_its_family_is_the_child_that_takes_too_much(owner, truth):
    page = owner.get(f"{CATALOG}/families")
    (drag,) = truth["drags"]
    rows = csv_of(owner, "families")
    assert drag in rows.filter("costly_child")["sku"]
    assert drag in text_of(page)
    shares = rows.group_by("family").agg(pl.col("share_spend").sum(), pl.col("share_sales").sum())
    assert shares["share_spend"].round(9).unique().to_list() == [1.0]


def test_a_family_s_shift_goes_from_its_drawer_into_the_plan_and_back(owner, demo):
    """Accepted as pauses of product ads; the drawer then says so and takes them back."""
    days = "window=last-14"
    page = owner.get(f"{CATALOG}/families?{days}")
    family = next(
        key
        for key in dict.fromkeys(each.split("/")[0] for each in row_ids(page))
        if "Accept" in text_of(owner.get(f"{CATALOG}/families/evidence?{days}&open={key}"))
    )
    shown = text_of(owner.get(f"{CATALOG}/families/evidence?{days}&open={family}"))
    assert "spend unchanged" in shown
    assert "to keep testing it" in shown
    assert accept(owner, f"{CATALOG}/families/accept", {"row": family, "window": "last-14"}).status_code in (302, 303)
    changes = planned(demo)
    assert {(each.entity, each.field, each.new_value) for each in changes} == {(Entity.PRODUCT_AD, "state", "paused")}
    assert all(each.sku and each.reason for each in changes)
    again = owner.get(f"{CATALOG}/families/evidence?{days}&open={family}")
    assert "In the plan" in text_of(again)
    back = {"row": family, "window": "last-14", "change": values(again, "[name=change]", "value")}
    assert owner.post(f"{CATALOG}/families/take-back", data=back).status_code == 303
    assert planned(demo) == []


def test_product_ads_that_waste_stand_first_and_are_paused_together(owner, demo, truth):
    page = owner.get(f"{CATALOG}/ads")
    assert "waste" in texts(page, ".answer b")[0]
    rows = csv_of(owner, "ads")
    assert rows["stake"][0] == rows["stake"].max() > 0
    everything = rows.filter(pl.col("campaign") == truth["muddle"]["everything"])
    assert set(everything.head(2)["sku"]) == set(truth["muddle"]["drains"])
    assert everything.head(2)["to_pause"].any()
    first = row_ids(page)[:4]
    accept(owner, f"{CATALOG}/ads/accept-many", {"rows": first})
    told = text_of(owner.get(f"{CATALOG}/ads"))
    count = len(planned(demo))
    assert f"{count} change{'s' if count != 1 else ''} added to the plan" in told or count == 0
    assert all(each.entity is Entity.PRODUCT_AD for each in planned(demo))


def test_what_an_ad_group_is_without_a_product_is_told_beside_its_siblings(owner):
    row = csv_of(owner, "ads", "?sort=-stake").filter("to_pause").row(0, named=True)
    page = owner.get(f"{CATALOG}/ads?q={row['sku']}")
    opened = next(
        key
        for key in row_ids(page)
        if f"pause {row['sku']}" in text_of(owner.get(f"{CATALOG}/ads/evidence?open={key}"))
    )
    shown = text_of(owner.get(f"{CATALOG}/ads/evidence?open={opened}"))
    assert "The ad group with and without it" in shown
    assert "Other products there" in shown
    assert "its product elsewhere" in shown or "its ad group" in shown


def test_filters_narrow_product_ads_and_their_file_alike(owner):
    query = "?where=clicks:ge:50&where=verdict:is:costly"
    assert len(row_ids(owner.get(f"{CATALOG}/ads{query}"))) == min(100, len(csv_of(owner, "ads", query)))


def test_lost_products_are_told_with_reason_and_day(owner, truth):
    shown = text_of(owner.get(f"{CATALOG}/eligibility"))
    for each in truth["muddle"]["lost"]:
        assert each["sku"] in shown
        assert each["reason"] in shown
    rows = csv_of(owner, "eligibility")
    lost = {row["sku"]: row for row in rows.to_dicts()}
    marked = truth["muddle"]["lost"][0]
    assert abs((pl.Series([lost[marked["sku"]]["since"], marked["since"]]).str.to_date().diff()[1]).days) <= 3
    assert lost[marked["sku"]]["missed ad sales per 30 days"] > 0
    assert truth["muddle"]["shadowing"] in shown


def test_what_sells_without_ads_and_the_newer_sku_are_offered_to_ad_groups(owner, demo, truth):
    rows = csv_of(owner, "gaps")
    ((old, new),) = truth["muddle"]["replaced"]
    assert set(rows["sku"]) == {new, *truth["muddle"]["gap"]}
    assert rows.filter(pl.col("sku") == new)["replaces"][0] == old
    accept(owner, f"{CATALOG}/gaps/accept", {"row": new})
    changes = planned(demo)
    assert {each.sku for each in changes} == {new}
    assert {each.action.value for each in changes} == {"create"}
    assert len({(each.campaign, each.ad_group) for each in changes}) == len(changes) > 1


def test_a_page_tells_what_it_lacks_and_its_change_beside_the_conversion_line(owner, truth):
    broken = truth["stories"]["collapsed"][0]
    page = owner.get(f"{CATALOG}/listings")
    assert broken in row_ids(page)
    assert "under 5 pictures" in text_of(page)
    shown = owner.get(f"{CATALOG}/listings/evidence?open={broken}")
    assert "images" in text_of(shown)
    assert found(shown, "[data-chart]")


def test_keywords_bought_twice_name_the_place_to_keep(owner, demo, truth):
    rows = csv_of(owner, "duplicates")
    assert rows.group_by("target", "match_type", "main_product").agg(pl.col("keep").sum())[
        "keep"
    ].unique().to_list() == [1]
    doubled = rows.filter(pl.col("campaign") == truth["muddle"]["doubled"])
    assert len(doubled) >= 8
    page = owner.get(f"{CATALOG}/structure")
    assert truth["muddle"]["crowded"] in text_of(page)
    assert "too many targets to steer" in text_of(page)
    moved = owner.get(f"{CATALOG}/structure?open=37")
    assert moved.location.startswith(f"{CATALOG}/duplicates?"), "where duplicates are told now"
    group = values(owner.get(f"{CATALOG}/duplicates"), "a.name", "href")[0].rpartition("open=")[2]
    assert (
        owner.post(
            f"{CATALOG}/duplicates/accept", data={"row": group.replace("+", " ").replace("%20", " ")}
        ).status_code
        == 303
    )
    assert {each.new_value for each in planned(demo)} == {"paused"}


def test_a_naming_pattern_is_tried_set_and_its_parts_filter_and_group(owner, unnamed, truth):
    pattern = "{product} · {purpose} · {match}"
    page = owner.get(f"{CATALOG}/names")
    assert found(page, "[name=pattern]")["value"] == pattern, "suggested from your names"
    tried = text_of(owner.get(f"{CATALOG}/names/preview", query_string={"pattern": "{product} · {rest}"}))
    assert "names match" in tried
    wrong = text_of(owner.get(f"{CATALOG}/names/preview", query_string={"pattern": "{a} {a}"}))
    assert "twice" in wrong
    owner.post(f"{CATALOG}/names/pattern", data={"pattern": pattern})
    shown = text_of(owner.get(f"{CATALOG}/names"))
    for name in truth["muddle"]["unnamed"]:
        assert name in shown
    some = owner.get("/targeting/targets/export.csv?said=purpose:grow&said=match:phrase")
    campaigns = pl.read_csv(io.StringIO(some.get_data(as_text=True)))["campaign"].unique().to_list()
    assert campaigns
    assert all(" · grow · phrase" in name for name in campaigns)
    grouped = text_of(owner.get("/movement/drift?by=name:+purpose&show=all"))
    assert "no pattern" in grouped
    placed = texts(owner.get("/delivery/placements?by=name:+match"), "tr.group")
    assert set(placed) >= {"exact", "broad", "phrase"}
    assert "same purpose" in text_of(owner.get(f"{CATALOG}/structure")).lower()


def test_a_pattern_that_cannot_be_read_is_refused(owner):
    refused = owner.post(f"{CATALOG}/names/pattern", data={"pattern": "{a}{b}"})
    assert refused.status_code == 400
    assert "side by side" in text_of(refused)


def test_a_breaking_name_is_renamed_through_the_plan(owner, demo, unnamed):
    owner.post(f"{CATALOG}/names/pattern", data={"pattern": "{product} · {purpose} · {match}"})
    owner.post(f"{CATALOG}/names/rename", data={"row": "old test 2", "name": "GL-BULB · test · phrase"})
    (change,) = planned(demo)
    assert (change.field, change.old_value, change.new_value) == ("name", "old test 2", "GL-BULB · test · phrase")
    taken = owner.post(f"{CATALOG}/names/rename", data={"row": "catch everything", "name": "GL-BULB · discover · auto"})
    assert "Another campaign is already named" in text_of(taken)


def test_the_catch_all_is_built_for_every_eligible_product_but_those_left_out(owner, demo, truth):
    page = owner.get(f"{CATALOG}/catch-all?bid=0.25&without=MM-STICK-SINGLE")
    shown = text_of(page)
    assert "orders a month" in shown
    lost = {each["sku"] for each in truth["muddle"]["lost"]}
    accept(
        owner,
        f"{CATALOG}/catch-all/build",
        {"bid": "0.25", "budget": "9", "name": "low and wide", "without": "MM-STICK-SINGLE"},
    )
    changes = planned(demo)
    assert {each.campaign for each in changes} == {"low and wide"}
    ads = {each.sku for each in changes if each.entity is Entity.PRODUCT_AD}
    assert ads
    assert not ads & {*lost, "MM-STICK-SINGLE"}
    assert {each.new_value for each in changes if each.entity is Entity.AD_GROUP} == {"0.25"}
    assert [each.new_value for each in changes if each.field in ("daily_budget", "targeting")] == ["9.00", "auto"]


def test_a_bid_below_what_the_account_ever_paid_has_no_expectation(owner):
    assert "the account has no clicks this cheap" in text_of(owner.get(f"{CATALOG}/catch-all?bid=0.01"))


@pytest.mark.parametrize("query", ["bid=x", "bid=-1", "budget=0"])
def test_figures_that_cannot_be_are_refused(owner, query):
    assert owner.get(f"{CATALOG}/catch-all?{query}").status_code == 400


def test_planned_changes_lead_back_to_where_they_were_made(owner, demo):
    row = row_ids(owner.get(f"{CATALOG}/gaps"))[0]
    accept(owner, f"{CATALOG}/gaps/accept-many", {"rows": [row]})
    page = owner.get("/plan/")
    assert "product ad" in text_of(page)
    assert "/catalog/gaps" in link(page, row)
    assert owner.get(link(page, row)).status_code == 200


def test_what_is_not_there_is_said_with_a_way_out(owner):
    for path in (
        "/catalog/nothing",
        "/catalog/ads/evidence?open=999999",
        "/catalog/families/evidence?open=none",
        "/catalog/names/export.csv",
        "/catalog/gaps/evidence?open=GL-STRIP-30CM",
    ):
        page = owner.get(path)
        assert page.status_code == 404
        assert found(page, "#error")


def test_a_viewer_reads_and_does_not_change(viewer):
    assert viewer.get(f"{CATALOG}/families").status_code == 200
    assert viewer.post(f"{CATALOG}/names/pattern", data={"pattern": ""}).status_code == 403
    assert viewer.post(f"{CATALOG}/ads/accept-many", data={"rows": ["1"]}).status_code == 403
