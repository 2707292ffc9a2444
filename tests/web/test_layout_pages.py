"""Layouts of one's own for the change sheet: made, moved, kept, and a sheet out with it, ids and all."""

import csv
import io
import zipfile

import pytest
from tests.pages import found, row_ids, text_of, texts, values

from nimbus_reef.store.people import accounts, plans
from nimbus_reef.store.people import sheet_layouts as store_layouts
from nimbus_reef.store.reading import marketplace_ids
from nimbus_reef.store.reading.facts import Facts

A = {"account": "fernhollow-de"}
COLUMNS = (
    ("Campaign Name", "campaign", ""),
    ("Operation", "text", "Update"),
    ("Bid", "new bid", ""),
    ("State", "new state", ""),
)


@pytest.fixture
def account(demo):
    made = accounts.by_key(demo.store, "fernhollow-de")
    yield made
    for each in store_layouts.of_account(demo.store, made.id):
        store_layouts.remove(demo.store, made.id, 1, each)


def sent(columns=COLUMNS, **more):
    header, of, fixed = map(list, zip(*columns, strict=True))
    return A | {"name": "Upload", "header": header, "of": of, "fixed": fixed} | more


def accept_one(owner):
    page = owner.get("/targeting/targets?account=fernhollow-de&where=verdict:is:above%20target&where=orders:gt:0")
    owner.post("/targeting/targets/accept", data=A | {"row": row_ids(page)[0]})


def test_a_layout_is_made_and_the_sheet_leaves_in_it(owner, demo, account):
    accept_one(owner)
    done = owner.post("/plan/layouts", data=sent(save="yes", **{"word-enabled": "ON"}), follow_redirects=True)
    assert "Layout “Upload” saved" in text_of(done)
    (kept,) = store_layouts.of_account(demo.store, account.id)
    assert "Sheet as Upload" in text_of(owner.get("/plan/?account=fernhollow-de"))
    lines = owner.get(f"/plan/layouts/{kept.id}/sheet?account=fernhollow-de").get_data(as_text=True).splitlines()
    (made,) = plans.planned(demo.store, account.id)
    assert lines == ["Campaign Name,Operation,Bid,State", f"{made.change.campaign},Update,{made.change.new_value},"]
    owner.post(f"/plan/layouts/{kept.id}/remove", data=A)
    assert "Sheet as Upload" not in text_of(owner.get("/plan/?account=fernhollow-de"))


def test_a_column_is_moved_and_a_preview_shown_before_anything_is_kept(owner, demo, account):
    page = owner.post("/plan/layouts", data=sent(move="2 up"))
    assert values(page, "input[name=header]", "value")[:3] == ["Campaign Name", "Bid", "Operation"]
    assert "Preview of an example" in text_of(page)
    assert "0.64" in texts(page, "section td")
    assert store_layouts.of_account(demo.store, account.id) == []


def test_a_layout_that_cannot_stand_is_refused_with_what_is_wrong(owner, demo, account):
    double = (*COLUMNS, ("Bid", "campaign", ""))
    refused = owner.post("/plan/layouts", data=sent(double, save="yes"))
    assert refused.status_code == 400
    assert "Two columns are called “Bid”" in text_of(refused)
    assert "Two columns are called" in text_of(owner.post("/plan/layouts", data=sent(double)))
    assert store_layouts.of_account(demo.store, account.id) == []


def test_a_sheet_goes_apart_by_kind_and_says_which_ids_it_lacks(owner, demo, account):
    accept_one(owner)
    row = row_ids(owner.get("/targeting/campaigns?account=fernhollow-de"))[0]
    owner.post("/rules/campaigns/act", data=A | {"rows": row, "do": "budget by", "value": "-10", "sure": "yes"})
    ids = (("Campaign Id", "campaign_id", ""), ("Target Id", "target_id", ""), ("Bid", "new bid", ""))
    owner.post("/plan/layouts", data=sent(ids, save="yes", apart="yes"))
    (kept,) = store_layouts.of_account(demo.store, account.id)
    plan = owner.get("/plan/?account=fernhollow-de")
    told = found(plan, f"a[href*='layouts/{kept.id}/sheet']")
    assert told.get("title", "") == "" or "No target id for row" in told["title"]
    done = owner.get(f"/plan/layouts/{kept.id}/sheet?account=fernhollow-de")
    with zipfile.ZipFile(io.BytesIO(done.get_data())) as packed:
        assert sorted(packed.namelist()) == ["campaign.csv", "target.csv"]
        (budget,) = csv.DictReader(io.TextIOWrapper(packed.open("campaign.csv")))
        assert budget["Bid"] == ""
    owner.post("/plan/undo", data=A)


def test_a_viewer_takes_the_sheet_and_changes_no_layout(owner, viewer, demo, account):
    owner.post("/plan/layouts", data=sent(save="yes"))
    (kept,) = store_layouts.of_account(demo.store, account.id)
    assert viewer.post("/plan/layouts", data=sent(save="yes", name="Other")).status_code == 403
    assert viewer.post(f"/plan/layouts/{kept.id}/remove", data=A).status_code == 403
    assert not values(viewer.get("/plan/layouts?account=fernhollow-de"), "input[name=header]", "value")


def test_ids_that_reports_gave_stand_on_the_rows_of_their_things(demo, account):
    ids = marketplace_ids.of_changes(
        Facts(demo.store), account.id, [each.change for each in plans.planned(demo.store, account.id)]
    )
    assert all(set(each) <= {"campaign_id", "ad_group_id", "target_id", "ad_id"} for each in ids.values())
