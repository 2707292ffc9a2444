"""Bids beside what a click is worth, and the ways to them: findings, past bids that worked, tree, trends, ledger."""

import json

import pytest
from tests.pages import accept, found, parsed, row_ids, sent_by, text_of, texts, values

from nimbus_reef.analysis import judged_proposals
from nimbus_reef.analysis.selection import asked
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.targeting import Aims
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading.facts import Facts

A = "account=fernhollow-de"


@pytest.fixture(scope="module")
def dried(demo):
    """The row id of a target that sold within target at another bid, and that bid."""
    facts = Facts(demo.store)
    account = accounts.by_key(demo.store, "fernhollow-de")
    selection = asked(facts, account, Aims(account.target_acos))
    rows = judged_proposals.judged(facts, selection, Subject.TARGET).sort("spend", descending=True)
    for row in rows.to_dicts():
        if row["bid"] is None or row["state"] != "enabled":
            continue
        days = judged_proposals.history_of(facts, selection, row["target_id"])
        best = judged_proposals.dried_up(selection, days, row["bid"] / 1e6, row["target_acos"])
        if best is not None:
            return row["row_id"], best
    raise AssertionError("the demo has targets that have dried up")


def test_a_target_that_has_dried_up_is_offered_the_bid_that_worked(owner, planned, dried):
    row, best = dried
    page = owner.get(f"/targeting/targets?{A}&open={row}")
    words = found(page, "#drawer").get_text(" ", strip=True)
    assert "Back to what worked" in words
    assert "can be luck" in words
    sent = sent_by(page, "#drawer form[action*='rules/targets/act']")
    accept(owner, "/rules/targets/act", sent)
    (change,) = planned()
    assert change.change.field == "bid"
    assert float(change.change.new_value) == pytest.approx(round(best.bid, 2))


def test_its_history_offers_the_same(owner, viewer, dried):
    row, _ = dried
    page = f"/movement/trends?{A}&whose=keyword:{row}"
    assert texts(owner.get(page), "form[action*='rules/targets/act'] button")
    assert not texts(viewer.get(page), "form[action*='rules/targets/act'] button")


def test_bids_are_a_finding_of_their_own_a_campaign_a_package(owner, planned):
    page = owner.get(f"/findings/?{A}")
    assert "Bids to move" in text_of(page)
    form = "#bulk-bids-to-move"
    campaigns = values(page, f"input[form={form[1:]}]", "value")
    assert len(campaigns) > 3
    assert not parsed(page).select(f"{form} [value=clicks]"), "a campaign's bids have no clicks to wait for"
    opened = owner.get(f"/findings/bids-to-move?{A}&row={campaigns[0]}")
    assert "expected gain" in text_of(opened)
    rows = row_ids(opened)
    sent = {**sent_by(page, form), "findings": campaigns[0], "account": "fernhollow-de"}
    accept(owner, "/targeting/targets/accept-many", sent)
    made = planned()
    assert {each.change.field for each in made} <= {"bid", "state"}
    assert len({each.change.campaign for each in made}) == 1
    assert len(made) == len(rows)


def test_the_bids_to_move_stand_among_what_to_do_this_week(owner):
    owner.get(f"/findings/?{A}")
    week = text_of(owner.get("/pulse/"))
    assert "Bids to move" in week
    assert "expected gain" in week


def test_targets_without_traffic_are_found_with_what_they_ever_did(owner):
    page = owner.get(f"/findings/quiet-targets?{A}")
    assert "raise the bid step by step" in text_of(page).lower()
    rows = owner.get(f"/targeting/targets?{A}&where=quiet:is:yes&where=advice:is:raise&cols=bids")
    first = row_ids(rows)[0]
    drawer = found(owner.get(f"/targeting/targets?{A}&open={first}"), "#drawer").get_text(" ", strip=True)
    assert "no impressions in 7 days although it is live" in drawer


def test_worth_stands_beside_the_price_in_tree_trends_and_ledger(owner):
    assert "it may cost" in text_of(owner.get(f"/standing/tree?{A}"))
    trend = owner.get(f"/movement/trends?{A}&metric=spend,cpc")
    options = json.loads(parsed(trend).select_one("[data-chart]")["data-chart"])
    (line,) = [each for each in options["series"] if each["name"].startswith("may cost")]
    price = next(each for each in options["series"] if each["name"].startswith("CPC"))
    assert line["yAxisIndex"] == price["yAxisIndex"]
    assert sum(value is not None for value in line["data"]) > 20
    ledger = owner.get(f"/movement/ledger?{A}&metric=cpc&by=product")
    assert {"RPC €", "may cost €"} <= set(texts(ledger, "thead th"))
    assert "RPC €" not in texts(owner.get(f"/movement/ledger?{A}&metric=spend&by=product"), "thead th")
