"""Acting by the pages: changes set back, findings opened and ticked off, own settings in force, views shared."""

from dataclasses import fields, replace

import pytest
from tests.pages import accept, parsed, row_ids, sent_by, text_of, texts, values

from nimbus_reef.analysis import products
from nimbus_reef.core.model import SimpleVerdict
from nimbus_reef.core.settings import USUAL
from nimbus_reef.store.people import account_settings, accounts, plans
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

CHANGES = "/movement/changes?account=fernhollow-de"


@pytest.fixture
def raises(owner):
    return owner.get(f"{CHANGES}&which=raises")


def test_changes_are_listed_by_day_with_what_they_stand_at(owner, raises):
    assert "0 cuts" in text_of(raises)
    days = values(raises, ".by-day a", "href")
    one = owner.get(days[0])
    assert 0 < len(row_ids(one)) <= len(row_ids(raises))
    assert len(set(texts(one, "tr[data-row] td:nth-of-type(1)"))) == 1
    assert owner.get(f"{CHANGES}&day=soon").status_code == 400


def test_what_is_selected_is_shown_and_then_set_back_to_what_it_was(owner, demo, raises):
    rows = row_ids(raises)[:3]
    data = {"account": "fernhollow-de", "which": "raises", "rows": rows}
    told = owner.post("/movement/changes/set-back", data=data)
    assert "to undo: preview" in text_of(told)
    assert plans.planned(demo.store, 1) == []
    sent = sent_by(told) | {"sure": "yes", "take": values(told, "[name=take]", "value")}
    owner.post("/movement/changes/set-back", data=sent)
    made = plans.planned(demo.store, 1)
    assert 0 < len(made) <= 3
    for each in made:
        assert float(each.change.new_value) < float(each.change.old_value)
        assert each.change.reason == "Set back to what it was."


def test_setting_back_wants_a_selection(owner):
    assert owner.post("/movement/changes/set-back", data={"account": "fernhollow-de"}).status_code == 400


@pytest.mark.parametrize("key", ["growth-not-worth", "with-its-product", "bottom-quarter", "leaking-products"])
def test_a_finding_opens_as_a_thing_to_do(owner, key):
    found = owner.get("/findings/?account=fernhollow-de")
    links = [each for each in values(found, ".finding a.name", "href") if f"/findings/{key}?" in each]
    page = owner.get(links[0])
    assert page.status_code == 200
    assert len(texts(page, ".answer b")[0]) > 10


def test_costly_placements_are_accepted_by_their_campaigns_solutions(owner, demo):
    """Rows of an opened finding open where they stand; accepted, each campaign is solved once."""
    page = owner.get("/findings/costly-placements?account=fernhollow-de")
    rows = row_ids(page)[:3]
    assert all("/delivery/placements?" in each for each in values(page, "tr[data-row] a.name", "href"))
    assert "Accept all" in text_of(page)
    accept(owner, "/delivery/placements/accept-many", {"account": "fernhollow-de", "rows": rows})
    made = [each.change for each in plans.planned(demo.store, 1)]
    assert made
    campaigns = {owner_of.split(":")[0] for owner_of in rows}
    assert 0 < len({each.campaign for each in made}) <= len(campaigns)


def test_a_product_found_tells_its_price_beside_its_siblings(owner, demo):
    account = "account=fernhollow-de"
    links = values(owner.get(f"/findings/?{account}"), ".finding a.name", "href")
    link = next(each for each in links if "/findings/growth-not-worth?" in each)
    found = owner.get(link)
    sku = texts(found, ".sides h2")[0].split(":")[0]
    own, kin = products.prices(product_frames.catalog(Facts(demo.store), 1), sku)
    told = f"Costs € {own:.2f}"
    if kin:
        told += f"; its variation € {kin[0]:.2f}" if len(kin) == 1 else f"; its {len(kin)} siblings € {kin[0]:.2f} to"
    drawer = owner.get(f"/standing/products?{account}&open={sku}")
    for page in (found, drawer):
        assert told in text_of(page).replace("\u202f", " ").replace("\xa0", " ")


def test_what_cannot_be_sent_is_ticked_off_with_a_note_and_comes_back(owner):
    page = owner.get("/findings/ineligible?account=fernhollow-de")
    assert "Mark as done" in text_of(page)
    sent = sent_by(page, "form.sheet")
    assert owner.post("/findings/tick-off", data=sent).status_code == 400
    done = owner.post("/findings/tick-off", data=sent | {"note": "asked the marketplace"}, follow_redirects=True)
    assert "Marked as done" in text_of(done)
    ticked = texts(done, ".block tr:has(input[name=away])")
    assert "asked the marketplace" in ticked[0]
    assert "if it is still found" in ticked[0]
    away = values(done, "input[name=away]", "value")
    owner.post("/findings/bring-back", data={"account": "fernhollow-de", "away": away})
    assert owner.get("/findings/ineligible?account=fernhollow-de").status_code == 200


@pytest.mark.parametrize(
    ("part", "near"),
    [
        ("product=GL-PANEL-25", "GL-PANEL-25W"),
        ("portfolio=Grow+light", "Grow lights"),
        ("campaign=GL-PANEL+grow", "GL-PANEL"),
    ],
)
def test_a_part_that_is_not_there_is_an_error_with_what_was_meant(owner, part, near):
    page = owner.get(f"/targeting/targets?account=fernhollow-de&{part}")
    assert page.status_code == 400
    assert f"“{near}" in text_of(page)


def test_another_brand_keeps_the_days(owner):
    page = owner.get("/targeting/targets?account=fernhollow-de&window=last-14&where=clicks:ge:10&portfolio=Grow+lights")
    (other,) = [each for each in values(page, ".scope a", "href") if "account=pellwick-gb" in each]
    assert other == "/targeting/targets?account=pellwick-gb&window=last-14"


@pytest.fixture
def own_settings(demo):
    """Sets settings of the account, and puts them back."""

    def change(**values):
        now = accounts.by_key(demo.store, "fernhollow-de")
        account_settings.change(demo.store, now.id, 1, now.settings, replace(now.settings, **values))

    yield change
    change(**{each.name: getattr(USUAL, each.name) for each in fields(USUAL)})


def test_a_product_has_its_own_minimum_of_clicks(owner, own_settings):
    few = SimpleVerdict.FEW_CLICKS.value.replace(" ", "+")
    address = f"/targeting/targets?account=fernhollow-de&where=simple:is:{few}"
    before = texts(owner.get(address), ".totals b")[0]
    own_settings(min_clicks_of=("GL-PANEL-25W 10000",))
    after = texts(owner.get(address), ".totals b")[0]
    assert int(after.replace(",", "")) > int(before.replace(",", ""))


def test_a_view_is_shared_with_the_brand_s_people(owner, viewer):
    data = {
        "account": "fernhollow-de",
        "place": "/targeting/targets",
        "name": "ours",
        "where": "clicks:ge:10",
        "shared": "yes",
    }
    owner.post("/saved/", data=data)
    page = viewer.get("/targeting/targets?account=fernhollow-de")
    assert "ours by Demo" in text_of(page)
    assert not parsed(page).select("[aria-label='Delete the view ours']")
    assert "ours by" not in text_of(viewer.get("/targeting/targets?account=pellwick-gb"))
    mine = owner.get("/targeting/targets?account=fernhollow-de")
    (form,) = [each.find_parent("form") for each in parsed(mine).select("[aria-label='Delete the view ours']")]
    owner.post(form["action"], data={"place": "/targeting/targets"})
    assert "ours" not in texts(owner.get("/targeting/targets?account=fernhollow-de"), "details .pop a")


def test_rivals_are_filtered_by_and_told(owner, own_settings):
    """Words of the settings mark terms as a rival's or one's own; a name of two words wants both."""
    address, plain = "/targeting/terms?account=fernhollow-de", {"account": "fernhollow-de"}
    assert row_ids(owner.get("/targeting/terms", query_string=plain | {"where": "brand:is:a rival’s"})) == []
    own_settings(rival_words=("light", "seed tray"), own_words=("seedling",))
    for view in ("terms", "targets", "words"):
        found = owner.get(f"/targeting/{view}", query_string=plain | {"where": "brand:is:a rival’s"})
        named = [each.lower() for each in texts(found, "tbody .name .text")]
        assert named
        assert all("light" in each or ("seed" in each and "tray" in each) for each in named)
        assert not any("seedling" in each for each in named)
    row = row_ids(owner.get("/targeting/terms", query_string=plain | {"where": "brand:is:a rival’s"}))[0]
    assert "It names a rival’s brand." in text_of(owner.get(f"{address}&open={row}"))
    own = owner.get("/targeting/terms", query_string=plain | {"where": "brand:is:own", "q": "seedling"})
    assert row_ids(own)
    assert row_ids(owner.get(f"{address}&sort=-brand"))
