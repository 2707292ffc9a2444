"""A campaign that is marked as a launch is not judged before its days are over: nowhere, and it says why."""

from dataclasses import replace

import pytest
from tests.pages import row_ids, text_of, texts

from nimbus_reef.core.settings import USUAL
from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import account_settings, accounts, labels

A = "account=fernhollow-de"
ABOVE = f"/targeting/campaigns?{A}&where=verdict:is:above+target"


@pytest.fixture
def launch(demo, owner):
    """The name of a campaign above target that is marked as a launch of 200 days."""
    account = accounts.by_key(demo.store, "fernhollow-de")
    (name, *_) = texts(owner.get(ABOVE), "tbody th .text")
    labels.put(demo.store, account.id, 1, [("campaign", name, "launch")])
    account_settings.change(demo.store, account.id, 1, USUAL, replace(USUAL, least_days_of=("launch 200",)))
    yield name
    now = accounts.by_key(demo.store, account.key).settings
    account_settings.change(demo.store, account.id, 1, now, replace(now, least_days_of=()))
    labels.remove(demo.store, account.id, 1, [("campaign", name)], "launch")


def test_nothing_of_a_young_launch_is_above_target(owner, launch):
    assert launch not in texts(owner.get(ABOVE), "tbody th .text")
    for address in ("/targeting/targets", "/targeting/terms", "/catalog/ads"):
        assert not row_ids(owner.get(f"{address}?{A}&campaign={launch}&where=verdict:is:above+target"))
    told = text_of(owner.get(f"/targeting/targets?{A}&campaign={launch}&where=verdict:is:too+early+to+tell"))
    assert "launch, day" in told
    assert "of 200" in told
    names = texts(owner.get(f"/findings/costly-targets?{A}"), "tbody .where")
    assert names
    assert not any(each.startswith(f"{launch} ·") for each in names)


def test_a_young_launch_gets_no_proposal_and_says_why(owner, launch):
    page = owner.get(f"/targeting/targets?{A}&campaign={launch}&where=verdict:is:too+early+to+tell&sort=-spend")
    row = row_ids(page)[0]
    told = text_of(owner.get(f"/targeting/targets?{A}&campaign={launch}&open={row}"))
    assert "it is not judged yet: launch, day" in told


def test_others_are_judged_as_before_and_all_are_without_the_setting(owner, demo, launch):
    others = set(texts(owner.get(ABOVE), "tbody th .text"))
    account = accounts.by_key(demo.store, "fernhollow-de")
    account_settings.change(demo.store, account.id, 1, account.settings, replace(account.settings, least_days_of=()))
    assert set(texts(owner.get(ABOVE), "tbody th .text")) == others | {launch}


@pytest.mark.parametrize("text", ["launch", "30", "launch soon"])
def test_days_that_cannot_be_meant_are_refused(demo, text):
    account = accounts.by_key(demo.store, "fernhollow-de")
    with pytest.raises(BadInput):
        account_settings.change(demo.store, account.id, 1, USUAL, replace(USUAL, least_days_of=(text,)))


def test_findings_tell_campaigns_apart_that_launch_or_defend(owner, demo):
    account = accounts.by_key(demo.store, "fernhollow-de")
    (name, *_) = texts(owner.get(ABOVE), "tbody th .text")
    places = texts(owner.get(f"/findings/?{A}&all=costly-targets"), ".finding .where, tbody .where")
    assert not any("defence" in each for each in places)
    labels.put(demo.store, account.id, 1, [("campaign", name, "defence")])
    apart = [each for each in texts(owner.get(f"/findings/?{A}"), ".where") if each.endswith("· defence")]
    labels.remove(demo.store, account.id, 1, [("campaign", name)], "defence")
    assert apart
    assert any(name in each for each in apart)
