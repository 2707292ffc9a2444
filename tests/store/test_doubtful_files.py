"""A file whose figures make no sense beside what is held is asked about before anything of it is loaded."""

from datetime import date

import pytest
from tests.jobs.test_labels import TODAY, put

from nimbus_reef.errors import NeedsYes
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.jobs import intake
from nimbus_reef.store.record import loads

TARGETS = "date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales\n"
SETTINGS = "date,campaign,ad_group,target,match_type,state,bid\n"
CATALOG = "sku,item_id,title,brand,category,price,margin,ad_eligible\n"


def targets(clicks=40, spend=30, orders=12, sales=240, impressions=4_000, campaign="C"):
    return TARGETS + "".join(
        f"2026-10-{day:02},{campaign},G,t,exact,{impressions},{clicks},{spend}.00,{orders},{sales}.00\n"
        for day in (1, 2, 3)
    )


def questions(store, account, tmp_path, content, kind="target_daily", name="more.csv"):
    before = len(loads.batches(store, account.id))
    with pytest.raises(NeedsYes) as asked:
        put(store, account, tmp_path, name, content, kind)
    assert len(loads.batches(store, account.id)) == before
    return " ".join(asked.value.questions)


def test_a_click_price_far_from_the_usual_is_asked_with_both_figures_and_a_yes_loads_it(store, account, tmp_path):
    put(store, account, tmp_path, "first.csv", targets(), "target_daily")
    dear = targets(spend=300).replace("2026-10", "2026-09")
    asked = questions(store, account, tmp_path, dear)
    assert "An average click costs 7.50 in this file. In earlier loads it was 0.75." in asked
    (done,) = put(store, account, tmp_path, "more.csv", dear, "target_daily", confirmed=True)
    assert done.rows == 3


def test_the_first_report_is_held_against_bids_and_prices(store, account, tmp_path):
    put(store, account, tmp_path, "bids.csv", SETTINGS + "2026-10-03,C,G,t,exact,enabled,0.20\n", "targets")
    put(store, account, tmp_path, "products.csv", CATALOG + "A,I1,Lamp,Fernhollow,Lamps,200.00,30,yes\n", "catalog")
    asked = questions(store, account, tmp_path, targets())
    assert "An average click costs 0.75 in this file. The highest bid is 0.20." in asked
    assert "An average order is worth 20.00 in this file. The lowest product price is 200.00." in asked


def test_more_clicks_than_impressions_is_two_columns_changed_over(store, account, tmp_path):
    """The suggestion already avoids this. The question is for columns chosen by hand."""
    path = tmp_path / "more.csv"
    path.write_text(targets(clicks=300, impressions=400, spend=300))
    names = TARGETS.strip().split(",")
    changed = dict(zip(names, names, strict=True)) | {"clicks": "impressions", "impressions": "clicks"}
    with pytest.raises(NeedsYes) as told:
        intake.load(
            store,
            intake.LoadRequest(account, path, "more.csv", ColumnMap("target_daily", changed), scope="all", today=TODAY),
        )
    asked = " ".join(told.value.questions)
    assert "The file has more clicks than impressions (1,200 and 900)." in asked


def test_another_report_of_the_same_days_and_campaigns_tells_what_is_off(store, account, tmp_path):
    put(store, account, tmp_path, "first.csv", targets(), "target_daily")
    terms = "date,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,sales\n" + "".join(
        f"2026-10-{day:02},{campaign},G,t,exact,w,400,40,{spend}.00,12,240.00\n"
        for day in (2, 3, 4)
        for campaign, spend in (("C", 9), ("D", 90))
    )
    asked = questions(store, account, tmp_path, terms, "search_term_daily")
    assert (
        "For the same campaigns and days (2026-10-02 to 2026-10-03) the file and “Targets by day” disagree: "
        "spend 18.00 against 60.00. Are the right columns chosen?" in asked
    )


def test_a_file_of_other_days_is_held_against_none(store, account, tmp_path):
    put(store, account, tmp_path, "first.csv", targets(), "target_daily")
    other_days = targets(impressions=900_000).replace("2026-10", "2026-09")
    (done,) = put(store, account, tmp_path, "more.csv", other_days, "target_daily")
    assert done.last_day == date(2026, 9, 3)
