"""Own rules: what they meet, who may write them, where they are due, and what every list can have done to its rows."""

from datetime import datetime

import pytest
from tests.pages import row_ids, text_of, texts, values
from tests.web.conftest import signed_in

from nimbus_reef.core.tiers import TAKES, RowAction, Takes
from nimbus_reef.store.people import accounts, people, plans, rules
from nimbus_reef.web.rules.register import LISTS

A = {"account": "fernhollow-de"}


@pytest.fixture(scope="module")
def analyst(app, demo):
    email, password = "rules@nimbus-reef.example", "an analyst who writes rules"
    people.add(
        demo.store, email=email, name="x", password=password, role=people.Role.ANALYST, brand_names=("Fernhollow",)
    )
    return signed_in(app, email, password)


@pytest.fixture
def account(demo):
    found = accounts.by_key(demo.store, "fernhollow-de")
    yield found
    for each in rules.of_view(demo.store, found.id):
        rules.remove(demo.store, found.id, 1, each, "")


def written(client, view="targets", conditions=(("clicks", "ge", "10"),), **sent):
    compared, comparison, amount = map(list, zip(*conditions, strict=True))
    data = A | {"compared": compared, "comparison": comparison, "amount": amount, "do": "pause"} | sent
    return client.post(f"/rules/{view}", data=data, follow_redirects=True)


def planned(demo, account):
    return [each.change for each in plans.planned(demo.store, account.id)]


@pytest.mark.parametrize(
    ("sent", "words"),
    [
        ({"conditions": (("", "", ""),)}, "needs a condition"),
        ({"do": "explode"}, "No action chosen"),
        ({"do": "bid by"}, "needs a value"),
        ({"do": "bid by", "value": "many"}, "is not a number"),
        ({"do": "bid by", "value": "-100"}, "is too much"),
        ({"do": "bid to", "value": "-1"}, "must be above 0"),
        ({"conditions": (("acos", "ge", "60"),)}, "are they meant"),
        ({"conditions": (("acos", "ge", "x"),)}, "is not a number"),
        ({"conditions": (("verdict", "is", "awful"),)}, "is never"),
        ({"every": "3"}, "is not a schedule"),
        ({"every": "x"}, "is not a schedule"),
    ],
)
def test_a_rule_that_cannot_be_meant_is_refused_in_words(owner, demo, account, sent, words):
    assert words in text_of(written(owner, **sent))
    assert rules.of_view(demo.store, account.id) == []


def test_a_rule_is_kept_as_it_was_typed_and_changed(owner, demo, account):
    written(owner, conditions=(("acos", "ge", "60"), ("clicks", "ge", "10")), do="bid by", value="-20", none="out")
    (kept,) = rules.of_view(demo.store, account.id, "targets")
    assert (kept.action, kept.value, kept.no_sale) == ("bid by", "-20", "out")
    page = owner.get(f"/rules/targets?account=fernhollow-de&rule={kept.id}")
    assert "ACOS ≥ 60 %" in text_of(page)
    written(owner, do="pause", rule=str(kept.id), every="7")
    (changed,) = rules.of_view(demo.store, account.id, "targets")
    assert (changed.id, changed.action, changed.every) == (kept.id, "pause", 7)
    assert "own rule: clicks ≥ 10 → pause" in text_of(owner.get("/trail?what=rule+saved"))


def test_a_rule_keeps_every_filter_of_its_table_and_every_digit_of_an_amount(owner, demo, account):
    where = [f"clicks:ge:{number}" for number in range(1, 8)]
    page = owner.get("/rules/campaigns", query_string=A | {"where": where})
    assert values(page, "input[name=amount]", "value")[:7] == [str(number) for number in range(1, 8)]
    written(owner, "campaigns", do="budget to", value="12345.67")
    (kept,) = rules.of_view(demo.store, account.id, "campaigns")
    assert kept.value == "12345.67"
    written(owner, "campaigns", do="portfolio", value="Winter-26", rule=str(kept.id))
    assert "move to portfolio Winter-26" in text_of(owner.get("/rules/campaigns?account=fernhollow-de"))


def test_rules_of_another_brand_leave_room_for_ones_own(owner, demo, account, monkeypatch):
    monkeypatch.setattr(rules, "MOST", 1)
    other = accounts.by_key(demo.store, "pellwick-gb")
    rules.save(demo.store, other.id, 1, rules.Rule("ads", ("clicks:ge:1",), "", "pause", ""), "")
    assert "Rule saved" in text_of(written(owner, "ads"))
    assert "up to 1 rules" in text_of(written(owner, "ads"))
    (theirs,) = rules.of_view(demo.store, other.id)
    rules.remove(demo.store, other.id, 1, theirs, "")


def test_placements_that_are_not_by_campaign_cannot_be_acted_on(owner):
    page = owner.get("/delivery/placements?account=fernhollow-de")
    data = A | {"rows": row_ids(page) or ["1"], "do": "adjustment to", "value": "20"}
    refused = owner.post("/rules/placements/act", data=data)
    assert refused.status_code == 400
    assert "by campaign" in text_of(refused)


def test_a_row_follows_the_first_rule_it_meets(owner, demo, account):
    written(owner, do="bid by", value="-10")
    written(owner, conditions=(("clicks", "ge", "1"),), do="pause")
    told = text_of(owner.get("/rules/targets?account=fernhollow-de"))
    assert "2 rules on targets" in told
    done = {"sure": "yes", "asked": "yes"}
    owner.post("/rules/targets/run", data=A | done)
    made = planned(demo, account)
    few = row_ids(owner.get("/targeting/targets?account=fernhollow-de&where=clicks:lt:10"))
    assert {each.field for each in made} == {"bid", "state"}
    paused = [each for each in plans.planned(demo.store, account.id) if each.change.field == "state"]
    assert paused
    assert few, "some have fewer than ten clicks"
    listed = "/targeting/targets?account=fernhollow-de&where=clicks:ge:10&where=planned:is:yes"
    many = set(row_ids(owner.get(listed)))
    assert not many & {each.promise.row_id for each in paused}
    owner.post("/plan/undo", data=A)


def test_rules_that_are_due_stand_on_pulse_until_they_were_run(owner, demo, account):
    assert "Rule saved" in text_of(
        written(owner, "ads", conditions=(("clicks", "ge", "10"), ("orders", "eq", "0")), every="7")
    )
    assert "Run 1 rule on product ad rows" in text_of(owner.get("/pulse/agenda"))
    known = rules.of_view(demo.store, account.id)
    today = datetime(2026, 11, 30)
    assert rules.due(known, {"ads": datetime(2026, 11, 24)}, today.date()) == {}
    assert rules.due(known, {"ads": datetime(2026, 11, 23)}, today.date()) == {"ads": 1}
    assert rules.due(known, {}, today.date()) == {"ads": 1}


def test_a_rule_for_all_brands_is_everywhere_and_only_owners_write_it(owner, analyst, demo, account):
    written(owner, everywhere="yes")
    other = accounts.by_key(demo.store, "pellwick-gb")
    (there,) = rules.of_view(demo.store, other.id)
    assert there.everywhere
    assert written(analyst, everywhere="yes").status_code == 403
    assert analyst.post("/rules/targets/remove", data=A | {"rule": there.id}).status_code == 403
    assert "all brands" in texts(owner.get("/rules/targets?account=pellwick-gb"), "tbody td.words")


def test_a_condition_that_another_brand_lacks_meets_nothing_and_says_so(owner, demo, account):
    rule = rules.Rule("campaigns", ("portfolio:is:Nowhere",), "", "pause", "", everywhere=True)
    rules.save(demo.store, account.id, 1, rule, "")
    page = owner.get("/rules/campaigns?account=fernhollow-de")
    assert "Nowhere" in text_of(page)
    assert texts(page, "tbody td:nth-child(3)") == ["0"]


VALUES = {Takes.SHARE: "-20", Takes.AMOUNT: "0.55", Takes.POINTS: "15", Takes.TEXT: "Autumn", Takes.NOTHING: ""}


@pytest.mark.parametrize(
    ("view", "action"), [(view, action) for view, spec in LISTS.items() for action in spec.actions.offered]
)
def test_every_action_of_every_list_does_what_it_says_or_why_not(owner, demo, account, view, action):
    """Each on one row that it changes; nothing is planned before it was seen."""
    data = A | {"do": action.value, "value": VALUES[TAKES[action]], "all": "yes", "raises": "yes"}
    if view == "placements":
        data["by"] = "campaign"
    told = owner.post(f"/rules/{view}/act", data=data)
    assert told.status_code == 200, text_of(told)[:300]
    assert "Preview:" in text_of(told)
    assert planned(demo, account) == []
    done = owner.post(f"/rules/{view}/act", data=data | {"sure": "yes", "asked": "yes", "none": "out"})
    made = planned(demo, account)
    owner.post("/plan/undo", data=A)
    assert done.status_code in (200, 302, 303)
    if action in (RowAction.ENABLE, RowAction.BIDDING_UP_AND_DOWN, RowAction.BIDDING_DOWN):
        return
    assert made, "it changes something in the demo"
