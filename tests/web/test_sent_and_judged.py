"""The whole loop on its pages: planned, sent, some rows refused, days pass, reports come, judged, taken back."""

import io
import re
from dataclasses import replace
from datetime import timedelta
from urllib.parse import parse_qs, urlsplit

import pytest
from tests.marketplaces import LAST, running
from tests.pages import found as found_in
from tests.pages import text_of

from nimbus_reef import config
from nimbus_reef.analysis import taking_back
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.outcome import judged
from nimbus_reef.analysis.outcome.kinds import OutcomeKind
from nimbus_reef.analysis.proposals import proposals
from nimbus_reef.analysis.selection import asked
from nimbus_reef.core.change_periods import NoVerdict
from nimbus_reef.core.changes import ChangeState
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.people import account_settings, accounts, people, plans, sendings, target_acos, trail
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.factory import make_app

KEY = "fern-de"


@pytest.fixture
def service(tmp_path):
    with running(tmp_path / "market") as made:
        yield made


@pytest.fixture
def few_reports(monkeypatch):
    """Those that bids are proposed from, where no more is asked for."""
    kinds = ("catalog", "campaigns", "ad_groups", "targets", "product_ads", "target_daily", "search_term_daily")
    monkeypatch.setattr("nimbus_reef.sim.account.KINDS", (*kinds, "product_ad_daily"))


@pytest.fixture
def site(store, account, tmp_path):
    conf = config.load({"REEF_VAR": str(tmp_path / "var")})
    conf.scratch.mkdir(parents=True)
    for name in ("ann", "bob"):
        people.add(store, email=f"{name}@example.com", name=name, password="a long password", role=people.Role.OWNER)
    app = make_app(conf, store, make_queue(conf, store, immediate=True), secret_key="x", testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    return app


def signed_in(site, name="ann"):
    client = site.test_client()
    client.post("/sign-in", data={"email": f"{name}@example.com", "password": "a long password"})
    return client


def linked(client, service):
    data = {
        "account": KEY,
        "url": service.url,
        "client_id": service.client.key,
        "secret": service.client.secret,
        "every_minutes": "60",
        "active": "yes",
    }
    assert client.post("/marketplace/", data=data).status_code == 303


def token_of(page):
    return page.text.split('name="token" value="')[1].split('"')[0]


def sent(client, **form):
    page = client.get("/plan/sendings/new", query_string={"account": KEY})
    return client.post("/plan/sendings/", data={"account": KEY, "token": token_of(page), **form})


def test_the_loop(site, service, store, account):
    """Each step by the page that a person would use."""
    client = signed_in(site)
    linked(client, service)
    page = text_of(client.get("/marketplace/", query_string={"account": KEY}))
    assert "Asked" in page
    assert (
        client.post("/targeting/targets/accept-many", data={"account": KEY, "all": "yes", "sure": "yes"}).status_code
        < 400
    )
    planned = plans.planned(store, account.id)
    if not planned:
        pytest.fail("the audit proposes bids")
    low = next(each for each in planned if each.change.field == "bid")
    client.post(f"/plan/{low.id}/value", data={"account": KEY, "new_value": "0.05", "asked": "yes"})
    refused = sent(client)
    assert refused.status_code == 400, "so much of the account asks for a reason"
    assert sent(client, reason="the first audit").status_code == 303
    (entry,) = sendings.sendings(store, account.id)
    assert entry.override == "the first audit"
    failed = [each for each in sendings.changes_of(store, entry.id) if each.result is ChangeState.FAILED]
    assert "0.05" in {each.new_value for each in failed}
    page = text_of(client.get(f"/plan/sendings/{entry.id}", query_string={"account": KEY}))
    assert "The lowest bid is 0.10." in page
    assert "failed when it was sent" in text_of(client.get("/plan/", query_string={"account": KEY}))
    for each in plans.planned(store, account.id):
        client.post(f"/plan/{each.id}/value", data={"account": KEY, "new_value": "0.10", "asked": "yes"})
    sent(client, reason="mended")
    assert plans.planned(store, account.id) == []
    early = judged.outcomes(Facts(store), judged_by(store, account)).entries
    assert {each.unjudged for each in early if each.kind is OutcomeKind.LOWERED} == {NoVerdict.FEW_DAYS}
    assert {each.until for each in early if each.kind is OutcomeKind.LOWERED} == {LAST + timedelta(days=1 + 7 + 3)}
    on = {"account": KEY}
    assert client.post("/findings/close", data=on).status_code == 302
    by_hand = {**on, "check": "costly-targets", "findings": [row_of(store, account)]}
    assert client.post("/findings/tick-off", data={**by_hand, "note": "asked for another price"}).status_code == 302
    assert client.post("/marketplace/days", data={"account": KEY, "days": "17"}).status_code == 303
    assert Facts(store).newest_day(account.id) == LAST + timedelta(days=17)
    page = text_of(client.get("/outcome/sent-changes", query_string={"account": KEY}))
    assert "Profit after ads" in page
    assert "kept" in page
    amounts = re.search(r"earn (.{2,12}?) per 30 days, of (.{2,12}?) promised", page)
    assert f"profit per 30 days {amounts[1]} of {amounts[2]}" in page, "sums and totals agree"
    for by, filters in (("campaign", ["money", "campaign"]), ("kind and month", ["kind", "sent", "sent"])):
        line = found_in(
            client.get("/outcome/sent-changes", query_string={**on, "by": by}), ".sums tbody tr:not(.whole)"
        )
        link = line.a["href"]
        assert [each.split(":")[0] for each in parse_qs(urlsplit(link).query)["where"]] == filters
        count = line.td.get_text().split(" of ")[-1]
        assert f"{count} of" in text_of(client.get(link)), "the rows of a sum are as many as it says"
    page = text_of(client.get("/outcome/sheets", query_string=on))
    for said in ("1 audit closed", "The next audit is due on", "every 14 days", "Audit of", "sheet"):
        assert said in page
    page = text_of(client.get("/outcome/by-hand", query_string=on))
    assert "1 finding done by hand, 0 kept on purpose." in page
    assert "asked for another price" in page
    assert "changes sent since" in text_of(client.get("/findings/", query_string=on))
    page = text_of(client.get("/findings/report", query_string=on))
    assert "What the changes of" in page
    assert "kept what they promised" in page
    assert client.get("/outcome/sheets/export.csv", query_string=on).text.startswith("sheet,sent,kind,changes,judged")
    client.get("/outcome/sent-changes", query_string=on)
    did_not = len([each for each in outcomes_of(store, account) if each.verdict is OutcomeVerdict.DID_NOT])
    assert (f"Take back {did_not} change" in text_of(client.get("/pulse/"))) is (did_not > 0)
    selection = judged_by(store, account)
    found = judged.outcomes(Facts(store), selection)
    kept = next(each for each in found.entries if each.verdict is OutcomeVerdict.KEPT)
    opened = {"account": KEY, "open": str(kept.done.id)}
    page = text_of(client.get("/outcome/sent-changes", query_string=opened))
    assert "Why it was proposed" in page
    assert "control" in page
    assert client.get("/outcome/sent-changes/export.csv", query_string={"account": KEY}).text.count("\n") > 20
    wanted = {str(each.done.id) for each in found.entries if each.verdict is OutcomeVerdict.DID_NOT}
    offered = proposals(Facts(store), selection, taking_back.VIEW, [str(each.done.id) for each in found.entries])
    advised = {each.row_id for each in offered if each.advised().package}
    assert advised <= wanted, "all selected, only what did not keep its promise goes back"
    back = client.post("/outcome/sent-changes/accept", data={"account": KEY, "row": str(kept.done.id)})
    assert back.status_code in (302, 303, 409), "into the plan, or refused where a click would cost more than it may"
    assert client.post(f"/plan/sendings/{entry.id}/take-back", data={"account": KEY}).status_code in (303, 409)


def outcomes_of(store, account):
    return judged.outcomes(Facts(store), judged_by(store, account)).entries


def row_of(store, account):
    return judged_targets(Facts(store), judged_by(store, account))["row_id"][0]


def judged_by(store, account):
    return asked(Facts(store), account, target_acos.aims(store, account))


def test_what_others_changed_meanwhile_is_shown_and_not_overwritten(site, service, store, account, few_reports):
    client = signed_in(site)
    linked(client, service)
    client.post("/targeting/targets/accept-many", data={"account": KEY, "all": "yes", "sure": "yes"})
    first = next(each for each in plans.planned(store, account.id) if each.change.field == "bid")
    names = ("campaign", "ad_group", "target", "match_type")
    held = service.accounts.account(service.client).settings
    held.things["target"][tuple(getattr(first.change, name) for name in names)]["bid"] = "7.77"
    page = client.get("/plan/sendings/new", query_string={"account": KEY, "rows": first.id})
    assert "7.77" in page.text
    assert "It was changed since this was planned." in page.text
    data = {"account": KEY, "rows": str(first.id), "token": token_of(page), "reason": "x"}
    assert client.post("/plan/sendings/", data=data).status_code == 400, "nothing is left of it"
    assert client.post("/plan/sendings/", data={**data, "over": str(first.id)}).status_code == 303
    (one,) = sendings.changes_of(store, sendings.sendings(store, account.id)[0].id)
    assert (one.result, one.change.old_value) == (ChangeState.DONE, "7.77")


def test_a_second_person_and_the_right_to_send(site, service, store, account, few_reports):
    ann, bob = signed_in(site), signed_in(site, "bob")
    linked(ann, service)
    account_settings.change(store, account.id, None, account.settings, replace(account.settings, send_rows_alone=1))
    ann.post("/targeting/targets/accept-many", data={"account": KEY, "all": "yes", "sure": "yes"})
    assert sent(ann, reason="x").status_code == 303
    entry = sendings.sendings(store, account.id)[0]
    where = f"/plan/sendings/{entry.id}/approve"
    assert ann.post(where, data={"account": KEY}).status_code == 403
    assert bob.post(where, data={"account": KEY}).status_code == 303
    assert sendings.one(store, account.id, entry.id).approved_by is not None
    who = people.by_address(store, "bob@example.com").person
    people.set_rights(store, None, who.id, people.Role.OWNER, [], sends=False)
    assert bob.post("/plan/sendings/", data={"account": KEY, "token": "x" * 20}).status_code == 403
    assert "sending approved" in {each.what for each in trail.entries(store, trail.Asked(), of_accounts=None, limit=50)}


def test_the_result_file_of_a_sheet_is_read(site, store, account, service, few_reports):
    client = signed_in(site)
    linked(client, service)
    client.post("/targeting/targets/accept-many", data={"account": KEY, "all": "yes", "sure": "yes"})
    client.get("/plan/sheet.csv", query_string={"account": KEY})
    entry = sendings.sendings(store, account.id)[0]
    rows = [each.change.row for each in sendings.changes_of(store, entry.id)][:2]
    where = f"/plan/sendings/{entry.id}/results"

    def read(text):
        file = (io.BytesIO(text.encode()), "results.csv")
        return client.post(where, data={"account": KEY, "results": file}, content_type="multipart/form-data")

    assert read("row,status\n1,perhaps\n").status_code == 422
    assert read(f"row,status\n{max(rows) + 10_000},applied\n").status_code == 400
    assert read(f"row,status,code,message\n{rows[0]},applied,,\n{rows[1]},refused,E7,Too low.\n").status_code == 303
    told = {each.change.row: (each.result, each.said) for each in sendings.changes_of(store, entry.id)}
    assert told[rows[0]] == (ChangeState.DONE, "")
    assert told[rows[1]] == (ChangeState.FAILED, "Too low.")
    assert accounts.by_key(store, KEY).id == account.id
