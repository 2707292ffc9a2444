"""The marketplace's service: signing in, change sets, reports, what it remembers, and its description."""

from datetime import timedelta

import pytest

from nimbus_reef.market.accounts import MarketAccounts
from nimbus_reef.market.app import ServicePace, description, make_app
from nimbus_reef.market.faults import Fault, Faults
from nimbus_reef.market.record import Record
from tests.marketplaces import AT_ONCE, DAYS, LAST, SEED, bid_row

KEY = {"Idempotency-Key": "a key of its own"}


@pytest.fixture
def service(tmp_path):
    record = Record(tmp_path / "market.db")
    own = record.add_client("fernhollow-de", SEED, DAYS, LAST)
    accounts, faults = MarketAccounts(record), Faults()
    app = make_app(accounts, faults, AT_ONCE)
    client = app.test_client()
    token = client.post("/v1/token", json={"client_id": own.key, "client_secret": own.secret}).json["access_token"]
    client.environ_base["HTTP_AUTHORIZATION"] = f"Bearer {token}"
    client.accounts, client.faults, client.own, client.app_ = accounts, faults, own, app
    return client


def rows(service, *values):
    held = service.accounts.account(service.own).settings.things["target"]
    return [bid_row(place + 1, held, place, value) for place, value in enumerate(values)]


def test_every_address_is_described_and_nothing_else(service):
    there = {
        (rule.rule.replace("<int:", "{").replace(">", "}"), method)
        for rule in service.app_.url_map.iter_rules()
        for method in rule.methods - {"HEAD", "OPTIONS"}
    }
    told = {(path, method.upper()) for path, each in description()["paths"].items() for method in each}
    assert there == told
    assert service.get("/v1/openapi.json").json["openapi"].startswith("3.1")


def test_nobody_gets_in_without_the_secret(service):
    wrong = service.post("/v1/token", json={"client_id": service.own.key, "client_secret": "guessed"})
    assert wrong.status_code == 401
    for token in ("", "Bearer nonsense", service.environ_base["HTTP_AUTHORIZATION"][:-2]):
        assert service.get("/v1/account", headers={"Authorization": token}).status_code == 401
    service.faults.skew = 4_000
    assert service.get("/v1/account").status_code == 401, "a token ends by the service's own clock"


def test_a_change_set_is_carried_out_once_for_its_key(service):
    sent = rows(service, "0.31", "0.05")
    first = service.post("/v1/change-sets", json={"rows": sent}, headers=KEY)
    again = service.post("/v1/change-sets", json={"rows": sent}, headers=KEY)
    assert first.status_code == again.status_code == 202
    assert first.json == again.json
    assert [each["status"] for each in first.json["rows"]] == ["applied", "refused"]
    assert len(service.accounts.account(service.own).changes) == 1
    other = service.post("/v1/change-sets", json={"rows": rows(service, "0.99")}, headers=KEY)
    assert other.status_code == 409
    assert service.get("/v1/changes").json["changes"][0]["new"] == "0.31"
    assert service.get("/v1/changes?since=2999-01-01").json["changes"] == []
    assert service.get("/v1/change-sets/99").status_code == 404


def test_what_is_held_is_told_before_anything_is_sent(service):
    sent = rows(service, "0.31")
    gone = {**sent[0], "row": "2", "target": "no such thing"}
    answer = service.post("/v1/held", json={"rows": [*sent, gone]}).json["rows"]
    assert answer == [{"row": "1", "value": sent[0]["old_value"]}, {"row": "2", "value": None}]


@pytest.mark.parametrize(
    ("body", "headers"),
    [
        ({"rows": []}, KEY),
        ({"rows": "all"}, KEY),
        ({"rows": [{"row": "1"}]}, KEY),
        ({"rows": [["1"]]}, KEY),
        ({}, KEY),
        ([], KEY),
        ({"rows": [{"row": "1", "entity": "target", "field": "bid", "campaign": "c"}]}, {}),
    ],
)
def test_a_request_that_cannot_be_read_is_refused(service, body, headers):
    answer = service.post("/v1/change-sets", json=body, headers=headers)
    assert answer.status_code == 400
    assert answer.json["message"]


def test_rows_are_answered_one_after_the_other(tmp_path, service):
    slow = make_app(
        service.accounts, service.faults, ServicePace(row=30.0, change_set=60.0, report=100.0)
    ).test_client()
    token = slow.post("/v1/token", json={"client_id": service.own.key, "client_secret": service.own.secret})
    headers = {"Authorization": f"Bearer {token.json['access_token']}", **KEY}
    first = slow.post("/v1/change-sets", json={"rows": rows(service, "0.31", "0.32")}, headers=headers).json
    assert first["state"] == "accepted"
    assert {each["status"] for each in first["rows"]} == {"pending"}
    service.faults.skew = 45
    assert slow.get(f"/v1/change-sets/{first['id']}", headers=headers).json["state"] == "working"
    service.faults.skew = 100
    assert slow.get(f"/v1/change-sets/{first['id']}", headers=headers).json["state"] == "done"
    service.faults.skew = -5_000
    assert slow.get(f"/v1/change-sets/{first['id']}", headers=headers).json["state"] == "done", "a clock set back"


def test_a_report_is_ordered_made_and_gone_after_a_while(service):
    slow = make_app(service.accounts, service.faults, ServicePace(report=100.0, kept=1_000.0)).test_client()
    token = slow.post("/v1/token", json={"client_id": service.own.key, "client_secret": service.own.secret})
    headers = {"Authorization": f"Bearer {token.json['access_token']}", **KEY}
    asked = {"kind": "campaign_daily", "from": str(LAST - timedelta(days=2)), "to": str(LAST)}
    number = slow.post("/v1/reports", json=asked, headers=headers).json["id"]
    assert slow.post("/v1/reports", json=asked, headers=headers).json["id"] == number
    assert slow.post("/v1/reports", json={**asked, "kind": "catalog"}, headers=headers).status_code == 409
    states = []
    for skew in (0, 60, 120, 2_000):
        service.faults.skew = skew
        states.append(slow.get(f"/v1/reports/{number}", headers=headers).json["state"])
        file = slow.get(f"/v1/reports/{number}/file", headers=headers)
        assert file.status_code == {"ready": 200, "gone": 410}.get(states[-1], 409)
    assert states == ["created", "pending", "ready", "gone"]
    wrong = slow.post(
        "/v1/reports", json={**asked, "kind": "moods"}, headers={**headers, "Idempotency-Key": "12345678"}
    )
    assert wrong.status_code == 400


def test_days_pass_and_the_reports_tell_of_them(service):
    before = service.get("/v1/account").json["today"]
    assert service.post("/v1/world/days", json={"days": 3}).json["newest_day"] > before
    asked = {"kind": "target_daily", "from": before, "to": "2027-01-01"}
    number = service.post("/v1/reports", json=asked, headers=KEY).json["id"]
    file = service.get(f"/v1/reports/{number}/file")
    assert file.headers["X-As-Of"] == service.get("/v1/account").json["today"]
    assert file.text.startswith("date,campaign,ad_group,target,match_type,impressions")
    for days in (0, 500, "many"):
        assert service.post("/v1/world/days", json={"days": days}).status_code == 400


def test_a_restarted_service_remembers_everything(service):
    sent = rows(service, "0.31", "0.05", "0.44")
    service.faults.set({"script": [["/v1/change-sets", "partial"]]})
    first = service.post("/v1/change-sets", json={"rows": sent}, headers=KEY).json
    assert "try_again" in {each["code"] for each in first["rows"]}
    service.post("/v1/world/days", json={"days": 4})
    twin = MarketAccounts(service.accounts.record)
    old, new = (each.account(service.own) for each in (service.accounts, twin))
    assert new.today == old.today
    assert new.settings.things == old.settings.things
    _, answers = twin.change_set(service.own, first["id"])
    assert [each.status for each in answers] == [each["status"] for each in first["rows"]]
    for kind in ("target_daily", "targets", "changes"):
        assert new.report(kind, LAST, new.today).equals(old.report(kind, LAST, old.today))


def test_faults_strike_as_they_are_set(service):
    service.faults.set({"script": [["/v1/account", "throttle"], ["/v1/account", "error"]]})
    answers = [service.get("/v1/account") for _ in range(3)]
    assert [each.status_code for each in answers] == [429, 503, 200]
    assert answers[0].headers["Retry-After"]
    assert service.put("/v1/world/faults", json={"chances": {"mood": 1}}).status_code == 400
    service.put("/v1/world/faults", json={"outage": 60})
    assert service.get("/v1/account").status_code == 503
    service.put("/v1/world/faults", json={"chances": {"duplicate": 1.0}})
    asked = {"kind": "campaign_daily", "from": str(LAST), "to": str(LAST)}
    number = service.post("/v1/reports", json=asked, headers=KEY).json["id"]
    lines = service.get(f"/v1/reports/{number}/file").text.splitlines()
    assert len(lines) > len(set(lines))
    assert Fault.DUPLICATE in service.faults.chances


def test_a_brand_can_have_several_accounts(tmp_path):
    record = Record(tmp_path / "market.db")
    accounts = MarketAccounts(record)
    one, other = (accounts.account(record.add_client(key, 11, 20, LAST)) for key in ("pellwick-gb", "pellwick-gb.2"))
    assert one is not other
    assert one.settings.things["target"].keys() == other.settings.things["target"].keys()
