"""Campaigns and ad groups as tables: drilled into, filtered, acted on."""

import pytest
from tests.pages import act, found, row_ids, text_of, texts, values

from nimbus_reef.core.promises import projected

A = "account=fernhollow-de"
CAMPAIGNS, AD_GROUPS = f"/targeting/campaigns?{A}", f"/targeting/ad-groups?{A}"


def test_a_campaign_leads_on_to_what_is_in_it(owner):
    row = row_ids(owner.get(CAMPAIGNS))[0]
    opened = owner.get(f"{CAMPAIGNS}&open={row}")
    name = found(opened, "#drawer h2").get_text(strip=True)
    for label, count in (("Ad groups", 1), ("Targets", 1), ("Search terms", 1), ("Product ads", 1), ("Placements", 1)):
        href = next(each["href"] for each in [found(opened, "#drawer a.go[href*='campaign=']")] if each)
        assert "campaign=" in href, label
        assert count
    inside = found(opened, "#drawer ul.pairs a")["href"]
    there = owner.get(inside)
    assert there.status_code == 200
    assert name in text_of(there)
    assert found(there, "#drawer h2").get_text(strip=True) in texts(there, "tbody th .text")


def test_budgets_of_campaigns_above_target_are_lowered_together_and_undone(owner, planned):
    where = ["verdict:is:above target", "age:ge:30", "budget:gt:0"]
    rows = row_ids(owner.get("/targeting/campaigns", query_string={"account": "fernhollow-de", "where": where}))
    told = act(owner, "campaigns", all="yes", where=where, do="budget by", value="-20")
    assert f"{len(rows)} changes added to the plan" in text_of(told)
    made = [each.change for each in planned()]
    assert {each.field for each in made} == {"daily_budget"}
    for each in made:
        assert float(each.new_value) == pytest.approx(float(each.old_value) * 0.8, abs=0.006)
    assert len(row_ids(owner.get(f"{CAMPAIGNS}&where=planned:is:yes"))) == len(rows)


def test_bids_of_all_targets_of_an_ad_group_are_changed_within_floor_and_ceiling(owner, planned):
    row = row_ids(owner.get(AD_GROUPS))[0]
    act(owner, "ad-groups", rows=row, do="bids by", value="-50")
    made = [each.change for each in planned()]
    assert len(made) > 1
    assert {each.field for each in made} == {"bid"}
    assert all(float(each.new_value) < float(each.old_value) for each in made)


def spend_saved(plan):
    return sum(projected(each.change, each.promise).spend.middle for each in plan)


def test_the_bids_of_an_ad_group_promise_what_the_same_bids_promise_one_by_one(owner, planned):
    """Each bid rests on its own target: not on the ad group, whose spend would count once for each of them."""
    row = row_ids(owner.get(AD_GROUPS))[0]
    act(owner, "ad-groups", rows=row, do="bids by", value="-20")
    together, targets = spend_saved(planned()), {each.promise.row_id for each in planned()}
    spend = sum(each.promise.spend for each in planned())
    owner.post("/plan/undo", data={"account": "fernhollow-de"})
    act(owner, "targets", rows=sorted(targets), do="bid by", value="-20")
    assert spend_saved(planned()) == pytest.approx(together)
    assert -spend < together < 0


def test_a_paused_campaign_takes_the_place_of_what_the_plan_changes_in_it(owner, planned):
    row, name = row_ids(owner.get(CAMPAIGNS))[0], texts(owner.get(CAMPAIGNS), "tbody th .text")[0]
    act(owner, "campaigns", rows=row, do="budget by", value="-20")
    act(owner, "targets", campaign=name, all="yes", do="bid by", value="-20")
    inside = planned()
    told = owner.post("/rules/campaigns/act", data={"account": "fernhollow-de", "rows": row, "do": "pause"})
    assert f"This replaces {len(inside)} changes in the plan" in text_of(told)
    sent = {"replacing": values(told, "[name=replacing]", "value")}
    act(owner, "campaigns", rows=row, do="pause", **sent)
    (pause,) = planned()
    assert (pause.change.entity, pause.change.new_value) == ("campaign", "paused")
    said = text_of(act(owner, "targets", campaign=name, all="yes", do="bid by", value="-20"))
    assert "the plan pauses them" in said
    assert len(planned()) == 1


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ({"do": "budget by"}, "needs a value"),
        ({"do": "budget by", "value": "many"}, "is not a number"),
        ({"do": "explode", "value": "1"}, "No action chosen"),
    ],
)
def test_what_cannot_be_meant_is_refused_in_words(owner, planned, data, words):
    row = row_ids(owner.get(CAMPAIGNS))[0]
    assert words in text_of(act(owner, "campaigns", rows=row, **data))
    assert planned() == []


def test_pausing_what_is_paused_changes_nothing(owner, planned):
    rows = row_ids(owner.get(f"{CAMPAIGNS}&where=state:is:enabled"))[:1]
    assert "1 change added" in text_of(act(owner, "campaigns", rows=rows, do="pause"))
    assert len(planned()) == 1
    act(owner, "campaigns", rows=rows, do="enable")
    assert [each.change.new_value for each in planned()] == ["paused"], "it runs already"


def test_columns_are_chosen_and_a_file_has_every_field(owner):
    page = owner.get(f"{CAMPAIGNS}&cols=settings")
    assert "top of search %" in text_of(page)
    csv = owner.get(f"/targeting/campaigns/export.csv?{A}&where=spend:gt:100").get_data(as_text=True)
    header, *lines = csv.strip().splitlines()
    assert {"campaign", "budget", "age", "top_share", "verdict"} <= set(header.split(","))
    assert len(lines) == len(row_ids(owner.get(f"{CAMPAIGNS}&where=spend:gt:100")))
    assert values(page, "input[name=cols]", "value")


def test_what_is_live_and_did_nothing_is_a_row_of_its_table(owner):
    """As many targets as the account's shape counts, and product ads without impressions among the others."""
    shape = text_of(owner.get(f"/standing/shape?{A}"))
    listed = texts(owner.get(f"/targeting/targets?{A}&where=state:is:enabled"), ".totals b")[0]
    assert f"{listed} enabled" in shape.partition("Targets by state")[2][:120]
    assert row_ids(owner.get(f"/targeting/targets?{A}&where=impressions:eq:0"))
    assert row_ids(owner.get(f"/catalog/ads?{A}&where=impressions:eq:0&where=running:is:yes"))
