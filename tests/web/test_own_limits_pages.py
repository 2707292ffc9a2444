"""Limits below the account's: set in bulk and in the scope bar, seen as columns, kept to by every proposal."""

import pytest
from tests.pages import row_ids, text_of, values

from nimbus_reef.store.people import accounts, labels, own_limits, plans

A = {"account": "fernhollow-de"}
TARGETS = "/targeting/targets?account=fernhollow-de"


def kept(demo, account):
    with demo.store.read() as connection:
        return [(each.level, each.what, each.value) for each in own_limits.kept(connection, account.id)]


def test_a_highest_bid_of_campaigns_is_set_in_bulk_seen_filtered_and_taken_back(owner, demo, fernhollow):
    address = "/targeting/campaigns?account=fernhollow-de"
    row = row_ids(owner.get(address))[0]
    said = owner.post(
        "/rules/campaigns/act", data=A | {"rows": row, "do": "ceiling", "value": "0.30"}, follow_redirects=True
    )
    assert "own highest bid 0.3: set for 1 campaign" in text_of(said)
    assert kept(demo, fernhollow) == [("campaign", "ceiling", 0.3)]
    assert row_ids(owner.get(f"{address}&where=ceiling:eq:0.3&cols=spend,ceiling,floor,own_target")) == [row]
    data = A | {"rows": row, "do": "ceiling", "value": ""}
    assert "removed from 1 campaign" in text_of(owner.post("/rules/campaigns/act", data=data, follow_redirects=True))
    assert kept(demo, fernhollow) == []


def test_no_proposal_and_no_action_bids_above_the_limit_of_its_campaign(owner, demo, fernhollow):
    row = row_ids(owner.get("/targeting/campaigns?account=fernhollow-de"))[0]
    owner.post("/rules/campaigns/act", data=A | {"rows": row, "do": "ceiling", "value": "0.30"})
    (name,) = {each.name for each in accounts.by_key(demo.store, fernhollow.key).own_limits}
    sent = A | {"campaign": name, "all": "yes", "do": "bid by", "value": "50", "raises": "yes", "sure": "yes"}
    owner.post("/rules/targets/act", data=sent | {"asked": "yes"})
    made = [each.change for each in plans.planned(demo.store, fernhollow.id)]
    assert made
    assert all(float(each.new_value) <= 0.30 for each in made)


def test_a_target_a_product_and_a_label_have_their_own(owner, demo, fernhollow):
    row = row_ids(owner.get(TARGETS))[0]
    owner.post("/rules/targets/act", data=A | {"rows": row, "do": "target acos", "value": "12"})
    assert kept(demo, fernhollow) == [("target", "target_acos", 0.12)]
    assert row_ids(owner.get(f"{TARGETS}&where=own_target:eq:12")) == [row]
    labels.put(demo.store, fernhollow.id, 1, [("product", "GL-PANEL-25W", "slow")])
    said = owner.post("/scope/aims", data=A | {"level": "label", "of": "slow", "what": "ceiling", "percent": "0.44"})
    assert said.status_code == 302
    (limit,) = accounts.by_key(demo.store, fernhollow.key).own_limits
    assert (limit.level, limit.name, limit.value) == ("product", "GL-PANEL-25W", 0.44)
    assert "label slow highest bid 0.44" in text_of(owner.get("/scope/aims?account=fernhollow-de"))
    labels.remove(demo.store, fernhollow.id, 1, [("product", "GL-PANEL-25W")], "slow")


@pytest.mark.parametrize(
    ("sent", "words"),
    [
        ({"what": "mood", "percent": "1"}, "is not a limit"),
        ({"what": "ceiling", "percent": "20000"}, "cannot be meant"),
        ({"what": "step_down", "percent": "99"}, "cannot be meant"),
        ({"what": "ceiling", "percent": "1", "of": ""}, "needs a level and a name"),
        ({"what": "ceiling", "percent": "1", "level": "account"}, "under Settings"),
    ],
)
def test_a_limit_that_cannot_be_meant_is_refused(owner, demo, fernhollow, sent, words):
    data = A | {"level": "campaign", "of": "x"} | sent
    assert words in text_of(owner.post("/scope/aims", data=data))
    assert kept(demo, fernhollow) == []


def test_peers_and_break_even_stand_beside_the_target_and_what_another_would_change(owner):
    told = text_of(owner.get("/scope/aims?account=fernhollow-de&target_acos=15"))
    assert "half of them are between" in told
    assert "break-even" in told
    assert "change their verdict" in told
    assert "change their verdict" not in text_of(owner.get("/scope/aims?account=fernhollow-de"))


def test_the_largest_cut_of_targets_is_set_in_bulk_and_kept_to(owner, demo, fernhollow):
    address = f"{TARGETS}&where=verdict:is:above+target&where=orders:gt:0"
    row = row_ids(owner.get(address))[0]
    data = A | {"rows": row, "do": "step_down", "value": "4"}
    said = owner.post("/rules/targets/act", data=data, follow_redirects=True)
    assert "own largest bid cut 4 %: set for 1 target" in text_of(said)
    assert row_ids(owner.get(f"{TARGETS}&where=step_down:eq:4")) == [row]
    owner.post("/targeting/targets/accept", data=A | {"row": row})
    (made,) = [each.change for each in plans.planned(demo.store, fernhollow.id)]
    assert float(made.new_value) == pytest.approx(float(made.old_value) * 0.96, abs=0.006)


def test_a_rule_sets_no_limit_and_a_viewer_neither(owner, viewer, demo, fernhollow):
    page = owner.get("/rules/campaigns?account=fernhollow-de")
    assert "ceiling" not in values(page, "select[name=do] option", "value")
    row = row_ids(owner.get("/targeting/campaigns?account=fernhollow-de"))[0]
    data = A | {"rows": row, "do": "ceiling", "value": "0.30"}
    assert viewer.post("/rules/campaigns/act", data=data).status_code == 403
    assert kept(demo, fernhollow) == []
