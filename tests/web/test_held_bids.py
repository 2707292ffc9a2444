"""Bids as they are proposed and those that stay: filtered by reason, moved a campaign at a time, by other goals."""

import csv
import io

import pytest
from tests.pages import act, found, row_ids, text_of, texts, values

from nimbus_reef.core.bids import Held
from nimbus_reef.store.people import sendings

A = "account=fernhollow-de"
BIDS = f"/targeting/targets?{A}&cols=bids"


def test_held_bids_are_listed_by_reason_and_leave_as_a_file(owner):
    page = owner.get(f"/targeting/held?{A}", follow_redirects=True)
    assert "why bids stay" in text_of(page)
    reasons = texts(page, "p.totals a")
    assert reasons
    assert set(reasons) <= set(Held)
    first = owner.get(values(page, "p.totals a", "href")[0])
    assert set(texts(first, "p.totals a")) == {reasons[0]}
    sent = owner.get(f"/targeting/targets/export.csv?{A}&where=advice:is:stays")
    rows = list(csv.DictReader(io.StringIO(sent.get_data(as_text=True))))
    assert rows
    assert {row["held"] for row in rows} <= set(Held)
    assert {row["advice"] for row in rows} == {"stays"}
    assert all(float(row["next_bid"]) == pytest.approx(float(row["bid"])) for row in rows if row["bid"])


def test_a_bid_says_its_sum_and_whose_answer_of_clicks_it_is(owner):
    page = owner.get(f"{BIDS}&where=advice:is:cut&sort=-gain")
    assert "their price by" in text_of(page)
    drawer = owner.get(f"/targeting/targets?{A}&open={row_ids(page)[0]}")
    said = text_of(drawer).replace("\xa0", " ")
    assert "A click brings" in said or "a click brings" in said
    assert "half of the way from" in said


def test_the_bids_of_a_campaign_are_moved_as_proposed_and_undone_at_once(owner, planned):
    rows = row_ids(owner.get(f"/targeting/campaigns?{A}&cols=bids&sort=-gain"))
    told = act(owner, "campaigns", rows=rows[:2], do="bids as proposed")
    made = planned()
    assert f"{len(made)} changes added to the plan" in text_of(told)
    assert {each.change.entity for each in made} == {"target"}
    assert all("own rule" not in each.change.reason.lower() for each in made)
    assert any("half of the way from" in each.change.reason for each in made)
    owner.post("/plan/undo", data={"account": "fernhollow-de"})
    assert not planned()


def test_a_campaign_that_is_left_moves_no_bid(owner, fernhollow):
    rows = row_ids(owner.get(f"/targeting/campaigns?{A}&sort=-spend"))
    name = texts(owner.get(f"/targeting/campaigns?{A}&sort=-spend"), "tbody th .text")[0]
    told = act(owner, "campaigns", rows=rows[0], do="goal leave")
    assert "bids: leave as they are" in text_of(told)
    page = owner.get("/targeting/targets", query_string={"account": fernhollow.key, "campaign": name, "cols": "bids"})
    assert set(texts(page, "p.totals a")) <= {Held.LEFT, Held.NOT_LIVE}
    opened = owner.get("/scope/aims", query_string={"account": fernhollow.key, "campaign": name})
    assert "goal leave" in text_of(opened)
    back = {"account": fernhollow.key, "what": "goal", "level": "campaign", "of": name, "back": "/"}
    sent = owner.post("/scope/aims", data={**back, "percent": "2"})
    assert "percent" not in sent.location
    assert "what" not in sent.location
    assert "goal most profit" in text_of(owner.get("/scope/aims", query_string={"account": fernhollow.key}))
    now = owner.get("/scope/aims", query_string={"account": fernhollow.key, "campaign": name})
    assert texts(now, "option[selected]") == ["most profit"]
    act(owner, "campaigns", rows=rows[0], do="goal usual")
    assert "goal" not in text_of(owner.get("/scope/aims", query_string={"account": fernhollow.key})).replace(
        "goals", ""
    )


def test_bids_are_left_until_a_day_and_free_from_then_on(owner, fernhollow):
    address = f"/targeting/campaigns?{A}&sort=-spend"
    row, name = row_ids(owner.get(address))[0], texts(owner.get(address), "tbody th .text")[0]
    asked = {"account": fernhollow.key, "campaign": name}

    def left():
        page = owner.get("/targeting/targets", query_string={**asked, "cols": "bids"})
        return Held.LEFT in texts(page, "p.totals a")

    assert "until" in text_of(act(owner, "campaigns", rows=row, do="goal leave", value="2100-01-01"))
    assert left()
    assert "goal leave until" in text_of(owner.get("/scope/aims", query_string=asked))
    act(owner, "campaigns", rows=row, do="goal leave", value="2020-01-01")
    assert not left(), "that day is past"
    wrong = act(owner, "campaigns", rows=row, do="goal leave", value="soon")
    assert "is not a day" in text_of(wrong)
    sent = {
        **asked,
        "what": "goal",
        "level": "campaign",
        "of": name,
        "back": "/",
        "percent": "3",
        "until": "2100-02-03",
    }
    assert "until" not in owner.post("/scope/aims", data=sent).location
    assert left()
    act(owner, "campaigns", rows=row, do="goal usual")
    assert not left()


def test_what_was_decided_before_stands_on_its_row_with_its_reason(owner, demo, fernhollow, planned):
    row = row_ids(owner.get(f"{BIDS}&where=advice:is:cut&sort=-gain"))[0]
    owner.post("/targeting/targets/accept-row", data={"account": fernhollow.key, "row": row})
    (change,) = planned()
    sendings.send(demo.store, fernhollow.id, 1, "sheet", [change])
    page = owner.get(f"{BIDS}&where=decided:has:bid")
    assert row in row_ids(page)
    drawer = found(owner.get(f"/targeting/targets?{A}&open={row}"), "#drawer").get_text(" ", strip=True)
    assert "Decided before" in drawer
    assert change.change.reason[:40] in drawer


def test_the_goal_of_an_account_is_chosen_from_a_list(owner, fernhollow):
    page = owner.get(f"/accounts/{fernhollow.key}")
    assert texts(page, "#goal option") == ["most sales", "most profit", "leave"]
    sent = owner.post(
        f"/accounts/{fernhollow.key}", data={"goal": "most profit", "was-goal": "most sales"}, follow_redirects=True
    )
    assert "bids are to bring" in text_of(sent)
    wrong = owner.post(
        f"/accounts/{fernhollow.key}", data={"goal": "more", "was-goal": "most profit"}, follow_redirects=True
    )
    assert "has to be one of" in text_of(wrong)
    owner.post(f"/accounts/{fernhollow.key}", data={"goal": "most sales", "was-goal": "most profit"})
