"""Requests that no page makes: each has an answer that says what is wrong, and none a fault."""

import io

import pytest
from tests.pages import text_of, values
from tests.web.conftest import signed_in


@pytest.mark.parametrize(
    "query",
    [
        "window=0001-01",
        "window=0001-01-01..9999-12-31",
        "window=9999-12",
        "window=9999-12-30..9999-12-31",
        "window=last-99999",
        "against=0001-01-01..0001-01-02",
        "window=2026-11&against=9999-12",
        "page=" + "9" * 5000,
        "page=-1",
        "sort=" + "x" * 5000,
    ],
    ids=lambda query: query[:30],
)
@pytest.mark.parametrize(
    "path",
    [
        "/pulse/",
        "/standing/tree",
        "/movement/ledger",
        "/catalog/ads",
        "/delivery/placements",
        "/targeting/targets",
        "/findings/",
        "/plan/",
        "/intake/",
    ],
)
def test_days_and_pages_that_cannot_be_are_no_fault(owner, path, query):
    assert owner.get(f"{path}?account=fernhollow-de&{query}").status_code in (200, 400, 404)


@pytest.mark.parametrize("target", ["/%0aX", "/%0d%0aX: y", "//else.example", "/\\else.example", "/" + "x" * 9000])
def test_where_a_sign_in_leads_stays_inside(owner, target):
    answer = owner.get(f"/sign-in?next={target}")
    assert answer.status_code == 302
    assert answer.location.startswith("/")
    assert not answer.location.startswith(("//", "/\\"))
    assert "\n" not in answer.location


@pytest.mark.parametrize("path", ["/plan/remove", "/targeting/targets/accept-many", "/catalog/ads/accept-many"])
def test_a_page_number_of_five_thousand_digits_is_refused(owner, path):
    answer = owner.post(path, data={"account": "fernhollow-de", "page": "9" * 5000, "rows": "1"})
    assert answer.status_code < 500


@pytest.mark.parametrize(
    "query",
    [
        "dates=bogus",
        "mapped=yes&column-date=nope",
        "decimal=x",
        "mapped=yes&kind=nope",
        "sheet=nope",
        "mapped=yes&value-match_type-0=zzz",
    ],
)
def test_a_mapping_that_cannot_be_is_refused(owner, query):
    text = b"Date,Campaign,Clicks,Cost\n2026-11-01,A,1,2.00\n"
    data = {"account": "fernhollow-de", "files": (io.BytesIO(text), "x.csv")}
    address = owner.post("/intake/files", data=data, content_type="multipart/form-data").location
    path = address.partition("?")[0]
    assert owner.get(f"{path}?account=fernhollow-de&{query}").status_code in (200, 400, 404)
    owner.post(f"{path}/discard", data={"account": "fernhollow-de"})


@pytest.mark.parametrize("brands", ["inf", "nan", "-inf", "1e400", "9" * 400])
def test_a_number_of_brands_that_cannot_be_is_refused(owner, brands):
    data = {
        "account": "fernhollow-de",
        "month": "2026-10",
        "category": "x",
        "metric": "cvr",
        "brands": brands,
        "p50": "10",
    }
    answer = owner.post("/standing/peers", data=data)
    assert 400 <= answer.status_code < 500


def test_an_address_of_two_slashes_leads_nowhere_else(owner):
    for path in ("//static/reef.min.js", "/static//reef.min.js", "//pulse/"):
        answer = owner.get(path, headers={"Host": "else.example"})
        assert "else.example" not in answer.headers.get("Location", "")


def test_what_is_told_is_told_whole_however_much_it_is(owner):
    """
    Texts for the next page and what a session remembers do not ride in the cookie, which browsers
    drop beyond 4 kB.
    """
    long = "x" * 17_000
    answer = owner.post(
        "/intake/files?account=fernhollow-de",
        data={"files": (io.BytesIO(b"\x00"), f"{long}.csv")},
        content_type="multipart/form-data",
    )
    assert answer.status_code == 302
    assert all(len(cookie) < 3_000 for cookie in answer.headers.getlist("Set-Cookie"))
    told = owner.get(answer.location)
    assert long[:200] in told.text
    assert long[:200] not in owner.get(answer.location).text, "once"


def test_a_cookie_is_worth_nothing_after_signing_out(app, demo):
    """Sessions end on the server: a copy of the cookie does not let anybody in."""
    client = signed_in(app, "demo@nimbus-reef.example", demo.password)
    copy = client.get_cookie("session").value
    assert client.get("/me").status_code == 200
    client.post("/sign-out")
    thief = app.test_client()
    thief.set_cookie("session", copy)
    assert thief.get("/me").status_code == 302


def test_sessions_are_named_and_ended_one_by_one(app, demo):
    here, there = (signed_in(app, "demo@nimbus-reef.example", demo.password) for _ in range(2))
    page = here.get("/me", headers={"User-Agent": "Mozilla/5.0 (X11; Linux x86_64) Firefox/128.0"})
    assert "now, here" in text_of(page)
    end = values(page, "form[action*='/me/sessions/']", "action")[0]
    assert here.post(end).status_code == 302
    assert there.get("/me").status_code == 302
    assert here.get("/me").status_code == 200
    assert here.post(end).status_code == 404
