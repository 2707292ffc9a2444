"""Notes on anything, found again in one list; labels that narrow every page; addresses that say what they mean."""

import io
from urllib.parse import quote

import pytest
from tests.pages import found, row_ids, text_of, texts, values

from nimbus_reef.store.people import accounts, labels, notes, target_acos
from nimbus_reef.store.people.notes import About

A = "account=fernhollow-de"
CAMPAIGNS = f"/targeting/campaigns?{A}"


@pytest.fixture
def account_id(demo):
    return accounts.by_key(demo.store, "fernhollow-de").id


@pytest.fixture
def noted(demo, account_id):
    """Whatever a test writes is taken off again."""
    yield demo
    for each in notes.of_account(demo.store, account_id):
        notes.remove(demo.store, account_id, 1, each.id)


@pytest.fixture
def labelled(demo, account_id):
    yield demo
    own = labels.of_account(demo.store, account_id)
    for kind, of in ((labels.PRODUCT, own.products), (labels.CAMPAIGN, own.campaigns)):
        for name, texts_of in of.items():
            for text in texts_of:
                labels.remove(demo.store, account_id, 1, [(kind, name)], text)


@pytest.mark.parametrize(
    ("page", "view"),
    [
        ("/targeting/campaigns", "campaigns"),
        ("/targeting/ad-groups", "ad-groups"),
        ("/targeting/targets", "targets"),
        ("/catalog/families", "families"),
        ("/catalog/ads", "ads"),
        ("/catalog/gaps", "gaps"),
        ("/catalog/listings", "listings"),
        ("/catalog/duplicates", "duplicates"),
        ("/delivery/placements?by=campaign", "placements"),
        ("/standing/products", "products"),
    ],
)
def test_a_note_on_anything_is_found_again_and_marks_its_row(owner, noted, page, view):
    address = f"{page}{'&' if '?' in page else '?'}{A}"
    row = next(key for key in row_ids(owner.get(address)) if "/" not in key)
    opened = owner.get(f"{address}&open={quote(row)}")
    form = {
        name: values(opened, f"#notes input[name={name}]", "value")[0] for name in ("view", "row", "thing", "place")
    }
    assert (form["view"], form["row"]) == (view, row)
    assert form["thing"]
    back = owner.post("/notes/add", data={**form, "account": "fernhollow-de", "text": "ask the factory"})
    assert back.status_code == 302
    listed = owner.get(f"/notes/?{A}&q=factory")
    assert "ask the factory" in text_of(listed)
    assert form["thing"] in text_of(listed)
    there = found(listed, "tbody a.name")["href"]
    assert "ask the factory" in texts(owner.get(there), "#notes li")[0]
    kept = row_ids(owner.get(f"{address}&where=noted:is:yes"))
    assert row in kept
    assert "noted" in found(owner.get(address), f"tr[data-row='{row}']")["class"]
    assert len(kept) < len(row_ids(owner.get(address))) or view in ("gaps",)
    told = text_of(owner.get("/trail?what=noted"))
    assert form["thing"][:60] in told


def test_notes_are_filtered_leave_as_a_file_and_are_taken_off(owner, noted, account_id):
    for number, thing in enumerate(("lamp", "pot")):
        notes.add(noted.store, account_id, 1, About("terms", str(number), thing, "C · G"), f"about {thing}")
    assert texts(owner.get(f"/notes/?{A}&where=thing:has:lamp"), "tbody th .text") == ["about lamp"]
    csv = owner.get(f"/notes/export.csv?{A}&where=kind:is:search term").get_data(as_text=True)
    assert len(csv.strip().splitlines()) == 3
    assert not texts(owner.get(f"/notes/?{A}&where=day:ge:2999-01-01"), "tbody th .text")
    (one, _) = notes.of_account(noted.store, account_id)
    taken = owner.post(f"/notes/{one.id}/remove", data={"account": "fernhollow-de", "view": "terms", "row": "1"})
    assert taken.status_code == 302
    assert [each.text for each in notes.of_account(noted.store, account_id)] == ["about lamp"]


def test_a_viewer_reads_notes_and_writes_none(viewer):
    assert viewer.get(f"/notes/?{A}").status_code == 200
    assert (
        viewer.post(
            "/notes/add", data={"account": "fernhollow-de", "view": "terms", "row": "1", "text": "x"}
        ).status_code
        == 403
    )
    assert (
        viewer.post("/labels/assign", data={"account": "fernhollow-de", "all": "yes", "label_text": "x"}).status_code
        == 403
    )


def test_labels_narrow_every_page_and_are_filters(owner, labelled):
    listed = owner.get(f"/labels/?{A}&where=kind:is:product")
    sku = row_ids(listed)[0]
    done = owner.post(
        "/labels/assign", data={"account": "fernhollow-de", "rows": sku, "label_text": "winter"}, follow_redirects=True
    )
    assert "“winter” added to 1 row." in text_of(done)
    name = sku.partition(":")[2]
    for page in ("/standing/products", "/catalog/ads", "/catalog/listings"):
        assert set(row_ids(owner.get(f"{page}?{A}&label=winter"))) == set(
            row_ids(owner.get(f"{page}?{A}&product={name}"))
        )
    all_of_them = row_ids(owner.get(CAMPAIGNS))
    campaign = texts(owner.get(CAMPAIGNS), "tbody th .text")[0]
    own = {"account": "fernhollow-de", "rows": f"campaign:{campaign}", "label_text": "winter", "do": "add"}
    owner.post("/labels/assign", data=own)
    narrowed = texts(owner.get(f"{CAMPAIGNS}&label=winter"), "tbody th .text")
    assert campaign in narrowed
    assert len(narrowed) < len(all_of_them)
    assert texts(owner.get(f"{CAMPAIGNS}&where=label:has:winter"), "tbody th .text") == [campaign]
    owner.post("/labels/assign", data={**own, "do": "remove"})
    assert not texts(owner.get(f"{CAMPAIGNS}&where=label:has:winter"), "tbody th .text")


def test_labels_come_from_a_column_and_a_name_that_is_none_says_its_line(owner, labelled, account_id):
    skus = [each.partition(":")[2] for each in row_ids(owner.get(f"/labels/?{A}&where=kind:is:product"))[:2]]
    data = {
        "account": "fernhollow-de",
        "file": (io.BytesIO(f"sku;label\n{skus[0]};summer\n{skus[1]};summer\n".encode()), "l.csv"),
    }
    assert "2 labels added." in text_of(owner.post("/labels/read", data=data, follow_redirects=True))
    assert labels.of_account(labelled.store, account_id).names == ["summer"]
    wrong = owner.post("/labels/read", data={"account": "fernhollow-de", "text": f"{skus[0]}\tx\nNO-SUCH\ty"})
    assert wrong.status_code == 400
    assert "line 2: NO-SUCH" in text_of(wrong)
    assert labels.of_account(labelled.store, account_id).names == ["summer"], "nothing of a wrong file is kept"


def test_a_category_narrows_and_one_that_is_none_is_refused_with_the_nearest(owner):
    every = row_ids(owner.get(f"/catalog/ads?{A}"))
    category = values(owner.get(f"/catalog/ads?{A}"), "option[value=category]", "data-options")[0].split("|")[0]
    some = row_ids(owner.get("/catalog/ads", query_string={"account": "fernhollow-de", "category": category}))
    assert some
    assert len(some) < len(every)
    by_filter = owner.get("/catalog/ads", query_string={"account": "fernhollow-de", "where": f"category:is:{category}"})
    assert set(some) == set(row_ids(by_filter))
    wrong = owner.get("/catalog/ads", query_string={"account": "fernhollow-de", "category": category[:-1]})
    assert wrong.status_code == 400
    assert f"Did you mean “{category}”" in text_of(wrong)


@pytest.mark.parametrize(
    ("address", "meant"),
    [
        ("/targeting/campaigns?categorie=x", "Did you mean “category”?"),
        ("/delivery/placements?comes_from=x", "is not part of an address here"),
        ("/findings/?produkt=x", "Did you mean “product”?"),
    ],
)
def test_an_address_with_a_parameter_nobody_knows_is_refused_with_what_is_meant(owner, address, meant):
    refused = owner.get(f"{address}&{A}")
    assert refused.status_code == 400
    assert meant in text_of(refused)


def test_a_label_has_a_target_and_some_labels_are_a_purpose(owner, labelled, account_id):
    campaign = texts(owner.get(CAMPAIGNS), "tbody th .text")[0]
    of = {"account": "fernhollow-de"}
    owner.post("/labels/assign", data={**of, "rows": f"campaign:{campaign}", "label_text": "launch"})
    assert texts(owner.get(f"{CAMPAIGNS}&where=purpose:is:launch"), "tbody th .text") == [campaign]
    account = accounts.by_key(labelled.store, "fernhollow-de")
    owner.post("/scope/aims", data={**of, "level": "label", "of": "launch", "percent": "60", "back": "/"})
    assert dict(target_acos.aims(labelled.store, account).campaigns)[campaign] == 0.6
    assert "label launch 60 %" in text_of(owner.get(f"/scope/aims?{A}")).replace("\xa0", " ")
    owner.post("/scope/aims", data={**of, "level": "campaign", "of": campaign, "percent": "20", "back": "/"})
    assert dict(target_acos.aims(labelled.store, account).campaigns)[campaign] == 0.2, "the nearest wins"
    for level, name in (("label", "launch"), ("campaign", campaign)):
        owner.post("/scope/aims", data={**of, "level": level, "of": name, "percent": "", "back": "/"})
    assert target_acos.own(labelled.store, account) == []


def test_people_are_searched_and_sorted(owner):
    everybody = texts(owner.get("/people"), "tbody th > span:first-child")
    assert len(everybody) >= 2
    assert texts(owner.get("/people?sort=name"), "tbody th > span:first-child") == sorted(everybody, key=str.lower)
    assert texts(owner.get("/people?sort=-name"), "tbody th > span:first-child") == sorted(
        everybody, key=str.lower, reverse=True
    )
    found = texts(owner.get("/people?q=viewer"), "tbody th > span:first-child")
    assert 0 < len(found) < len(everybody)
    assert owner.get("/people?sort=password").status_code == 400


def test_the_trail_says_what_was_done_in_words_and_leads_there(owner):
    row = row_ids(owner.get(f"{CAMPAIGNS}&where=state:is:enabled"))[0]
    name = texts(owner.get(f"{CAMPAIGNS}&where=state:is:enabled"), "tbody th .text")[0]
    sent = {"account": "fernhollow-de", "rows": row, "do": "pause", "sure": "yes", "asked": "yes"}
    owner.post("/rules/campaigns/act", data=sent)
    page = owner.get("/trail?what=accepted")
    told = texts(page, "td.told")[0]
    assert name in told
    assert "enabled → paused" in told
    assert "rows" not in told
    assert found(page, "tbody th a")["href"] == "/plan/?account=fernhollow-de"


def test_movement_and_placements_are_grouped_by_label(owner, demo):
    account = accounts.by_key(demo.store, "fernhollow-de")
    names = texts(owner.get(CAMPAIGNS), "tbody th .text")[:2]
    labels.put(demo.store, account.id, 1, [("campaign", name, "winter") for name in names])
    drift = owner.get("/movement/drift?account=fernhollow-de&by=label")
    assert set(texts(drift, "tbody th .text")) == {"winter", "no label"}
    placed = text_of(owner.get("/delivery/placements?account=fernhollow-de&by=label"))
    assert "winter" in placed
    assert "no label" in placed
    labels.remove(demo.store, account.id, 1, [("campaign", name) for name in names], "winter")
    assert owner.get("/movement/drift?account=fernhollow-de&by=label").status_code == 400
