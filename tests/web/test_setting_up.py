"""
From an empty installation to people who look at their own brands: set-up, accounts, invitations,
oneself, the trail.
"""

import pytest
from tests.pages import parsed, text_of, texts, values

from nimbus_reef import config
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.people import accounts, people
from nimbus_reef.web.factory import make_app
from nimbus_reef.web.security import limiter

OWNER = {"name": "Ann", "email": "ann@example.com", "password": "a long password", "again": "a long password"}
BRAND = {"brand": "Harbour Kiln", "marketplace": "Tidemarkt", "country": "DE", "aim": "target", "target": "30"}


@pytest.fixture
def empty(store, tmp_path):
    """An installation that nobody has set up."""
    conf = config.load({"REEF_VAR": str(tmp_path / "var")})
    app = make_app(conf, store, make_queue(conf, store, immediate=True), secret_key="x", testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    limiter.enabled = False
    return app


@pytest.fixture
def owner(empty, store):
    client = empty.test_client()
    client.post(f"/set-up/{people.set_up_link(store)}", data=OWNER | BRAND | {"do": "own"})
    return client


def invited(owner, store, role="analyst", brands=None, email="bo@example.com"):
    ids = [brand_id for brand_id, _ in people.brands(store)] if brands is None else brands
    page = owner.post("/people/invite", data={"email": email, "name": "Bo", "role": role, "brands": ids})
    assert page.status_code == 200, text_of(page)
    return values(page, ".link", "value")[0].split("http://localhost")[1]


def test_the_sign_in_says_how_to_begin(empty):
    assert "Open the link that the application printed" in text_of(empty.test_client().get("/sign-in"))


def test_a_link_sets_up_owner_and_account_and_leads_to_intake(empty, store):
    link = f"/set-up/{people.set_up_link(store)}"
    client = empty.test_client()
    assert client.get(link).status_code == 200
    answer = client.post(link, data=OWNER | BRAND | {"do": "own"})
    assert answer.location.endswith("/intake/?account=harbour-kiln-de")
    (made,) = accounts.all_accounts(store)
    assert (made.currency, made.timezone, made.locale, made.target_acos) == ("EUR", "Europe/Berlin", "de_DE", 0.3)
    page = client.get(answer.location)
    assert "wasted search terms" in text_of(page)
    assert empty.test_client().get(link).status_code == 404


def test_a_target_may_follow_from_a_margin(empty, store):
    link = f"/set-up/{people.set_up_link(store)}"
    data = OWNER | BRAND | {"do": "own", "aim": "margin", "target": "", "margin": "45", "profit": "15"}
    empty.test_client().post(link, data=data)
    (made,) = accounts.all_accounts(store)
    assert (made.target_acos, made.settings.margin) == (0.3, 0.45)


def test_a_target_may_be_set_later(empty, store):
    link = f"/set-up/{people.set_up_link(store)}"
    client = empty.test_client()
    answer = client.post(link, data=OWNER | BRAND | {"do": "own", "aim": "later", "target": ""})
    (made,) = accounts.all_accounts(store)
    assert (made.target_acos, made.target_set) == (0.3, False)
    assert "target ACOS 30 % assumed" in text_of(client.get(answer.location)).replace("\xa0", " ")
    assert "Load peer benchmarks, or a catalog with margins and product ads by day, for a suggestion" in text_of(
        client.get("/scope/aims")
    )


@pytest.mark.parametrize(
    "wrong",
    [
        {"again": "another"},
        {"password": "short", "again": "short"},
        {"country": ""},
        {"target": ""},
        {"target": "x"},
        {"brand": ""},
        {"currency": "XYZ"},
        {"timezone": "Mars"},
        {"email": "ann"},
        {"name": " "},
    ],
)
def test_what_cannot_be_is_said_and_the_link_still_works(empty, store, wrong):
    link = f"/set-up/{people.set_up_link(store)}"
    client = empty.test_client()
    page = client.post(link, data=OWNER | BRAND | {"do": "own"} | wrong)
    assert page.status_code == 400
    assert texts(page, ".notice.bad")
    assert not people.anybody(store)
    kept = {"brand": "Harbour Kiln"} | wrong
    assert values(page, "[name=brand]", "value") == [kept["brand"]], "what was typed stays"
    assert values(page, "[name=password]", "value") == [(OWNER | wrong)["password"]]
    assert client.get(link).status_code == 200


def test_whoever_is_invited_sees_their_brands_and_manages_nothing(owner, empty, store):
    link = invited(owner, store)
    guest = empty.test_client()
    assert "bo@example.com" in text_of(guest.get(link))
    answer = guest.post(link, data={"name": "Bo", "password": "another long one", "again": "another long one"})
    assert answer.status_code == 302
    assert guest.get("/accounts/harbour-kiln-de").status_code == 200
    assert guest.get("/people").status_code == 403
    assert "People" not in texts(guest.get("/me"), ".desk-rail a")
    assert guest.get(link).status_code == 404


def test_a_viewer_reads_settings_and_changes_none(owner, empty, store):
    link = invited(owner, store, role="viewer")
    guest = empty.test_client()
    guest.post(link, data={"name": "Bo", "password": "another long one", "again": "another long one"})
    page = guest.get("/accounts/harbour-kiln-de")
    assert not parsed(page).select("button.solid")
    assert guest.post("/accounts/harbour-kiln-de", data={"most_targets": "20"}).status_code == 403


def test_somebody_without_a_brand_can_still_sign_in_and_change_a_password(owner, empty, store):
    link = invited(owner, store)
    guest = empty.test_client()
    guest.post(link, data={"name": "Bo", "password": "another long one", "again": "another long one"})
    bo = people.by_address(store, "bo@example.com").person
    people.set_rights(store, None, bo.id, people.Role.ANALYST, [])
    assert guest.get("/", follow_redirects=True).status_code == 200
    assert guest.get("/me").status_code == 200


def test_a_changed_password_ends_the_other_sessions(owner, empty):
    other = empty.test_client()
    other.post("/sign-in", data={"email": OWNER["email"], "password": OWNER["password"]})
    assert other.get("/me").status_code == 200
    new = {"old": OWNER["password"], "new": "a longer password", "again": "a longer password"}
    assert owner.post("/me/password", data=new).status_code == 302
    assert owner.get("/me").status_code == 200
    assert other.get("/me").status_code == 302
    assert owner.post("/me/sign-out-everywhere").status_code == 302
    assert owner.get("/me").status_code == 302


def test_refused_sign_ins_stand_in_the_trail(owner, empty):
    empty.test_client().post("/sign-in", data={"email": "ann@example.com", "password": "a guess"})
    page = owner.get("/trail?what=sign-in+refused")
    assert "ann@example.com" in text_of(page)
    assert "sign-in refused" in owner.get("/trail/export.csv").get_data(as_text=True)


def test_a_setting_says_what_it_moves_and_moves_it(owner, store):
    answer = owner.post(
        "/accounts/harbour-kiln-de",
        data={"most_targets": "20", "margin": "40,5", "own_words": "kiln, harbour"},
        follow_redirects=True,
    )
    said = texts(answer, ".notice")[0]
    assert "targets in an ad group" in said
    assert "break-even ACOS" in said
    settings = accounts.by_key(store, "harbour-kiln-de").settings
    assert (settings.most_targets, settings.margin, settings.own_words) == (20, 0.405, ("kiln", "harbour"))
    emptied = owner.post("/accounts/harbour-kiln-de", data={"most_targets": ""}, follow_redirects=True)
    assert "targets in an ad group" in texts(emptied, ".notice")[0]
    assert accounts.by_key(store, "harbour-kiln-de").settings.most_targets == 60
    assert owner.post("/accounts/harbour-kiln-de", data={"margin": "four"}).status_code == 400


def test_an_account_is_added_described_and_put_to_rest(owner, store):
    answer = owner.post("/accounts/add", data=BRAND | {"brand": "Slow Loom", "country": "GB", "target": "25"})
    assert answer.location.endswith("account=slow-loom-gb")
    described = {"marketplace": "Tidemarkt", "currency": "GBP", "timezone": "Europe/London", "number_style": "en_GB"}
    assert owner.post("/accounts/slow-loom-gb/describe", data=described).status_code == 302
    assert owner.post("/accounts/slow-loom-gb/describe", data={"timezone": "Mars"}).status_code == 400
    owner.post("/accounts/slow-loom-gb/rest")
    assert owner.get("/accounts/slow-loom-gb").status_code == 404
    assert "restore" in text_of(owner.get("/accounts/"))
    owner.post("/accounts/slow-loom-gb/rest")
    assert owner.get("/accounts/slow-loom-gb").status_code == 200


def test_the_last_owner_cannot_switch_themselves_off(owner, store):
    ann = people.by_address(store, OWNER["email"]).person
    assert owner.post(f"/people/{ann.id}/switch").status_code == 403
    assert owner.get("/people").status_code == 200
