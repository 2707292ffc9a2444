"""Tables for programs: by token, what it opens, what it does not, and what is said of it."""

from __future__ import annotations

import csv
import io
import re

import polars as pl
import pytest
from tests.pages import texts
from tests.web.conftest import signed_in

from nimbus_reef.store.people import accounts, api_tokens, people, trail
from nimbus_reef.store.people.trail import Asked

OWN, OTHER = "fernhollow-de", "pellwick-gb"
PASSWORD = "reads by a program"
_OF = re.compile(r"\{ending\}")


@pytest.fixture(scope="module")
def reader(demo):
    """A viewer of one brand."""
    return people.add(
        demo.store,
        email="program@nimbus-reef.example",
        name="Reader",
        password=PASSWORD,
        role=people.Role.VIEWER,
        brand_names=("Fernhollow", "Pellwick"),
    ).id


@pytest.fixture
def ask(app, demo, reader):
    """Asks an address by a token of all accounts."""
    token = api_tokens.make(demo.store, reader, "notebook", 30, None)
    return lambda address, by=token, **more: app.test_client().open(
        address, headers={"Authorization": f"Bearer {by}"}, **more
    )


def test_every_listed_table_answers_in_each_format(ask):
    """The same rows whatever the format; nothing but the tables that the account has no report for fails."""
    tables = ask("/api/tables").json
    assert len(tables) > 30
    refused = []
    for each in tables:
        as_csv, as_json, as_parquet = (
            ask(each["address"].format(ending=ending), query_string={"account": OWN})
            for ending in ("csv", "json", "parquet")
        )
        statuses = {as_csv.status_code, as_json.status_code, as_parquet.status_code}
        assert len(statuses) == 1, each
        if as_json.status_code != 200:
            assert as_json.json.keys() == {"message", "remedy"}, each
            refused.append(each["name"])
            continue
        rows = list(csv.DictReader(io.StringIO(as_csv.text)))
        typed = pl.read_parquet(io.BytesIO(as_parquet.data))
        assert len(rows) == len(as_json.json) == len(typed), each
        if rows:
            assert list(rows[0]) == list(as_json.json[0]) == typed.columns, each
    assert set(refused) <= {"outcome/sent-changes", "outcome/sheets"}, refused


def test_filters_and_order_are_those_of_the_page(ask):
    address = "/targeting/targets/export.json"
    rows = ask(address, query_string={"account": OWN, "where": "clicks:gt:40", "sort": "-clicks"}).json
    clicks = [row["clicks"] for row in rows]
    assert clicks
    assert min(clicks) > 40
    assert clicks == sorted(clicks, reverse=True)
    wrong = ask(address, query_string={"account": OWN, "where": "clicks:more:40"})
    assert wrong.status_code == 400
    assert wrong.json["remedy"]


def test_what_is_described_is_what_there_is(ask, app):
    described = ask("/api/openapi.json").json
    listed = {each["address"] for each in ask("/api/tables").json}
    assert described["openapi"].startswith("3.1")
    assert listed | {"/api/accounts", "/api/tables"} == set(described["paths"])
    for address in described["paths"]:
        adapter = app.url_map.bind("localhost")
        assert adapter.match(_OF.sub("csv", address))


def test_a_token_opens_tables_and_nothing_else(ask):
    for address, method in (
        ("/targeting/targets", "GET"),
        ("/plan/", "GET"),
        ("/plan/sheet.csv", "GET"),
        ("/me", "GET"),
    ):
        answer = ask(address, method=method)
        assert answer.status_code == 403, address
        assert "reads tables" in answer.json["message"]
    assert ask("/targeting/targets/accept-row", method="POST").status_code in (400, 403)
    assert ask("/targeting/targets/export.xlsx", query_string={"account": OWN}).status_code == 400


def test_a_token_of_one_account_reads_that_one(ask, demo, reader):
    own = api_tokens.make(demo.store, reader, "one", 30, accounts.by_key(demo.store, OTHER).id)
    assert [each["key"] for each in ask("/api/accounts", own).json] == [OTHER]
    address = "/targeting/campaigns/export.json"
    assert ask(address, own, query_string={"account": OTHER}).status_code == 200
    assert ask(address, own, query_string={"account": OWN}).status_code == 404


def test_no_token_a_wrong_one_a_revoked_one_and_that_of_somebody_switched_off(app, ask, demo, reader):
    assert app.test_client().get("/api/tables").status_code == 401
    assert ask("/api/tables", "made up").status_code == 401
    token = api_tokens.make(demo.store, reader, "short", 1, None)
    assert ask("/api/tables", token).status_code == 200
    api_tokens.revoke(demo.store, reader, api_tokens.of_person(demo.store, reader)[0].id)
    refused = ask("/api/tables", token)
    assert refused.status_code == 401
    assert refused.headers["WWW-Authenticate"] == "Bearer"
    people.switch(demo.store, 1, reader, active=False)
    assert ask("/api/tables").status_code == 401
    people.switch(demo.store, 1, reader, active=True)


def test_it_is_rate_limited(ask, app, monkeypatch):
    monkeypatch.setitem(app.config, "API_LIMIT", "2 per minute")
    assert [ask("/api/accounts").status_code for _ in range(3)] == [200, 200, 429]
    assert "Wait" in ask("/api/accounts").json["remedy"]


def test_no_cookie_is_set_and_the_trail_names_the_token(ask, demo):
    answer = ask("/targeting/campaigns/export.csv", query_string={"account": OWN})
    assert "Set-Cookie" not in answer.headers
    newest = trail.entries(demo.store, Asked(what="exported"), of_accounts=None, limit=1)[0]
    assert newest.detail["token"] == "notebook"


def test_a_person_makes_a_token_sees_it_once_and_revokes_it(app, ask, demo, reader):
    client = signed_in(app, "program@nimbus-reef.example", PASSWORD)
    made = client.post("/me/tokens", data={"called": "spreadsheet", "of": OWN, "days": "90"})
    (token, _) = texts(made, ".notice code")
    assert ask("/api/accounts", token).json[0]["key"] == OWN
    again = client.get("/me")
    assert token not in again.text
    assert "spreadsheet" in again.text
    token_id = api_tokens.of_person(demo.store, reader)[0].id
    client.post(f"/me/tokens/{token_id}/revoke")
    assert ask("/api/accounts", token).status_code == 401
    assert client.post(f"/me/tokens/{token_id}/revoke").status_code == 404
    assert client.post("/me/tokens", data={"called": "x", "days": "4000"}).status_code == 400
