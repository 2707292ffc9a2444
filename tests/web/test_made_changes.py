"""Changes as a list, and set back: from what moved the price of a click to the bids as they were."""

import pytest
from tests.pages import row_ids, sent_by, text_of, texts, values

from nimbus_reef.store.people import plans

CHANGES = "/movement/changes?account=fernhollow-de"


@pytest.fixture
def raises(owner):
    return owner.get(f"{CHANGES}&which=raises")


def test_changes_are_listed_by_day_with_what_they_stand_at(owner, raises):
    assert "0 cuts among them" in text_of(raises)
    days = values(raises, ".by-day a", "href")
    one = owner.get(days[0])
    assert 0 < len(row_ids(one)) <= len(row_ids(raises))
    assert len(set(texts(one, "tr[data-row] td:nth-of-type(1)"))) == 1
    assert owner.get(f"{CHANGES}&day=soon").status_code == 400


def test_what_is_selected_is_shown_and_then_set_back_to_what_it_was(owner, demo, raises):
    rows = row_ids(raises)[:3]
    data = {"account": "fernhollow-de", "which": "raises", "rows": rows}
    told = owner.post("/movement/changes/set-back", data=data)
    assert "set back, before it is done" in text_of(told)
    assert plans.planned(demo.store, 1) == []
    owner.post("/movement/changes/set-back", data=sent_by(told) | {"sure": "yes"})
    made = plans.planned(demo.store, 1)
    assert 0 < len(made) <= 3
    for each in made:
        assert float(each.change.new_value) < float(each.change.old_value)
        assert each.change.reason == "set back to what it was"


def test_setting_back_wants_a_selection(owner):
    assert owner.post("/movement/changes/set-back", data={"account": "fernhollow-de"}).status_code == 400


@pytest.mark.parametrize(
    "key", ["growth-not-worth", "with-its-product", "page-broke", "bottom-quarter", "leaking-products"]
)
def test_a_finding_opens_as_a_thing_to_do(owner, key):
    found = owner.get("/findings/?account=fernhollow-de")
    links = [each for each in values(found, ".finding a.name", "href") if f"/findings/{key}?" in each]
    if not links:
        pytest.skip(f"the demo has no {key} in these days")
    page = owner.get(links[0])
    assert page.status_code == 200
    assert len(texts(page, ".answer b")[0]) > 10


def test_what_cannot_be_sent_is_ticked_off_with_a_note_and_comes_back(owner):
    page = owner.get("/findings/ineligible?account=fernhollow-de")
    assert "Tick it off" in text_of(page)
    sent = sent_by(page, "form.sheet")
    assert owner.post("/findings/tick-off", data=sent).status_code == 400
    done = owner.post(
        "/findings/tick-off", data=sent | {"note": "asked the marketplace"}, follow_redirects=True
    )
    assert "Ticked off" in text_of(done)
    assert "done: asked the marketplace" in text_of(done)
    away = values(done, "input[name=away]", "value")
    owner.post("/findings/bring-back", data={"account": "fernhollow-de", "away": away})
    assert owner.get("/findings/ineligible?account=fernhollow-de").status_code == 200


@pytest.mark.parametrize(
    ("part", "near"), [("product=GL-PANEL-25", "GL-PANEL-25W"), ("portfolio=Grow+light", "Grow lights"), ("campaign=GL-PANEL+grow", "GL-PANEL")]
)  # fmt: skip
def test_a_part_that_is_not_there_is_an_error_with_what_was_meant(owner, part, near):
    page = owner.get(f"/targeting/targets?account=fernhollow-de&{part}")
    assert page.status_code == 400
    assert f"“{near}" in text_of(page)


def test_another_brand_keeps_the_days(owner):
    page = owner.get(
        "/targeting/targets?account=fernhollow-de&window=last-14&where=clicks:ge:10&portfolio=Grow+lights"
    )
    (other,) = [each for each in values(page, ".scope a", "href") if "account=pellwick-gb" in each]
    assert other == "/targeting/targets?account=pellwick-gb&window=last-14"
