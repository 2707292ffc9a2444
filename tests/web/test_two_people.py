"""
Two people at once, and pages that stood open for a while: nothing newer is written over, and whoever comes second is
told.
"""

import io
from dataclasses import replace

import pytest
from sqlalchemy import update
from tests.conftest import LAST_DAY
from tests.pages import found, parsed, sent_by, text_of, values
from tests.planned import BID as LOWER
from tests.planned import PROMISE
from tests.selections import account_of

from nimbus_reef.store.people import account_settings, closed_audits, plans, trail
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.models import change

KEY = "fernhollow-de"
BID = replace(LOWER, new_value="0.90")


@pytest.fixture
def planned(owner, demo):
    """A bid in the plan."""
    (made,) = plans.accept_packages(demo.store, account_of(demo, KEY).id, 1, [[(BID, PROMISE)]]).planned
    return made


def shown(client):
    """The fields of the settings page as a browser sends them when nothing is touched."""
    page = client.get(f"/accounts/{KEY}")
    names = values(page, "form.settings input[name]", "name")
    return dict(zip(names, values(page, "form.settings input[name]", "value"), strict=True))


@pytest.fixture
def settings_back(demo):
    before = account_of(demo, KEY)
    yield
    now = account_of(demo, KEY)
    account_settings.change(demo.store, now.id, 1, now.settings, before.settings)


def test_settings_keep_what_somebody_else_changed_meanwhile(owner, demo, settings_back):
    mine, other = shown(owner), shown(owner)
    owner.post(f"/accounts/{KEY}", data=other | {"min_clicks": "14"})
    done = owner.post(f"/accounts/{KEY}", data=mine | {"maturing_days": "5"}, follow_redirects=True)
    assert "Changed: " in text_of(done)
    now = account_of(demo, KEY).settings
    assert (now.min_clicks, now.maturing_days) == (14, 5)
    newest = trail.entries(demo.store, trail.Asked(), of_accounts=None, limit=1)[0]
    assert set(newest.detail) == {"maturing_days"}, "the trail names what this person changed, and nothing else"
    late = owner.post(f"/accounts/{KEY}", data=mine | {"min_clicks": "20"})
    assert late.status_code == 409
    assert "is now 14. Your page still showed 10" in text_of(late)
    assert account_of(demo, KEY).settings.min_clicks == 14


def test_saving_settings_untouched_changes_none_of_them(owner, demo, settings_back):
    """Also those whose text is rounder than the value."""
    now = account_of(demo, KEY)
    odd = replace(now.settings, page_fell=0.12345) if hasattr(now.settings, "page_fell") else now.settings
    account_settings.change(demo.store, now.id, 1, now.settings, odd)
    told = owner.post(f"/accounts/{KEY}", data=shown(owner), follow_redirects=True)
    assert "Nothing was changed." in text_of(told)
    assert account_of(demo, KEY).settings == odd


def test_a_value_of_the_plan_is_not_written_over_a_newer_one(owner, planned):
    send = {"account": KEY, "was-new_value": "0.90"}
    assert owner.post(f"/plan/{planned.id}/value", data=send | {"new_value": "0.80"}).status_code == 302
    late = owner.post(f"/plan/{planned.id}/value", data=send | {"new_value": "0.70"})
    assert late.status_code == 409
    assert "is now 0.80. Your page still showed 0.90" in text_of(late)


def test_of_two_who_close_an_audit_one_closes_it(owner, demo):
    account = account_of(demo, KEY)
    sent = sent_by(owner.get(f"/findings/?account={KEY}"), "form[action='/findings/close']")
    before = closed_audits.closings(demo.store, account.id)
    assert owner.post("/findings/close", data=sent).status_code == 302
    late = owner.post("/findings/close", data=sent)
    assert late.status_code == 409
    assert "already closed" in text_of(late)
    made, *others = closed_audits.closings(demo.store, account.id)
    assert others == before
    closed_audits.reopen(demo.store, account.id, 1, made.id)


def test_a_file_is_loaded_once_and_put_away_only_while_it_waits(owner, demo):
    day = LAST_DAY.isoformat()
    text = (
        f"Date,Campaign,Impressions,Clicks,Cost,Orders,Units,Sales\n{day},Somebody else's,9,1,2.00,1,1,9.00\n".encode()
    )
    send = {"account": KEY, "files": (io.BytesIO(text), "once.csv")}
    address = owner.post("/intake/files", data=send, content_type="multipart/form-data").location
    path = address.partition("?")[0]
    page = owner.get(address)
    form = sent_by(page, f"form[action$='{path}/load']")
    form |= {
        str(each["name"]): [str(chosen.get("value", chosen.get_text()))]
        for each in parsed(page).select("select[name]")
        if (chosen := each.select_one("option[selected]")) is not None
    }
    loaded = owner.post(f"{path}/load", data=form)
    assert loaded.status_code == 302, text_of(loaded)
    account = account_of(demo, KEY)
    job, _ = loads.recent_jobs(demo.store, account.id)[0]
    if job.state == "asks":
        owner.post(f"/intake/jobs/{job.id}/yes", data={"account": KEY})
    for step in ("load", "discard"):
        late = owner.post(f"{path}/{step}", data=form)
        assert late.status_code == 409, step
        assert "once.csv" in text_of(late)
    for batch in loads.batches(demo.store, account.id):
        if batch.file_name == "once.csv":
            owner.post(f"/intake/batches/{batch.id}/undo", data={"account": KEY})


def test_a_number_that_no_field_holds_is_refused_however_it_comes(owner, demo, planned):
    row = str(planned.change.row)
    for new in ("9" * 30, "1e300", "0.001", "-1", "nan"):
        read = owner.post("/plan/read-back/take", data={"account": KEY, "row": row, "was": "0.90", "becomes": new})
        assert read.status_code == 400, new
        assert owner.post(f"/plan/{planned.id}/value", data={"account": KEY, "new_value": new}).status_code == 400
    long = owner.post("/plan/read-back/take", data={"account": KEY, "row": "9" * 5000, "was": "", "becomes": "1"})
    assert long.status_code == 409
    assert plans.planned(demo.store, account_of(demo, KEY).id)[0].change.new_value == "0.90"


@pytest.mark.parametrize("bad", ["9" * 30, "many", "1e300"])
def test_a_row_of_the_plan_that_cannot_be_read_is_shown_and_stops_nothing_else(owner, demo, planned, bad):
    demo.store.execute(update(change).where(change.c.id == planned.id).values(new_value=bad))
    page = owner.get(f"/plan/?account={KEY}")
    assert page.status_code == 200
    assert bad in text_of(page) or bad in values(page, "[name=new_value]", "value")
    for path in (
        "/findings/",
        "/targeting/targets",
        "/delivery/placements",
        "/delivery/boosts",
        "/pulse/",
        "/findings/report",
    ):
        assert owner.get(f"{path}?account={KEY}").status_code == 200, path
    refused = owner.get(f"/plan/sheet.csv?account={KEY}")
    assert refused.status_code == 400
    assert f"Row {planned.change.row}: new_value" in text_of(refused)
    assert owner.post("/plan/remove", data={"account": KEY, "rows": str(planned.id)}).status_code == 302


def test_a_name_that_is_too_long_is_refused_with_the_field(owner):
    told = owner.post("/me/name", data={"name": "x" * 300})
    assert told.status_code == 400
    assert "name" in text_of(told)
    saved = owner.post("/people/invite", data={"email": f"{'x' * 300}@example.com", "name": "X", "role": "owner"})
    assert saved.status_code == 400


def test_a_host_that_is_not_its_own_decides_nothing(app, owner):
    for host in ("evil.example", "evil.example:80", "localhost.evil.example", "[", "10.0.0.1"):
        told = owner.get("/", headers={"Host": host})
        assert told.status_code == 400, host
        assert "Location" not in told.headers
    for host in ("localhost", "localhost:8800", "127.0.0.1:8800", "[::1]:8800"):
        assert owner.get("/alive", headers={"Host": host}).status_code == 200, host


def test_what_a_viewer_sends_is_refused_before_it_is_read(app, viewer):
    told = viewer.post(
        "/intake/files",
        data=b"",
        environ_overrides={"CONTENT_LENGTH": "200000000"},
        content_type="multipart/form-data; boundary=x",
    )
    assert told.status_code == 413
    assert told.headers["Connection"] == "close"


def test_signs_that_are_no_text_are_refused(owner):
    assert owner.get(f"/targeting/targets?account={KEY}&q=a%00b").status_code == 400
    assert owner.post("/me/name", data={"name": "a\x00b"}).status_code == 400


def test_a_sheet_that_breaks_its_reader_is_refused_in_words(owner):
    for name, content in (
        ("x.xlsx", b"PK\x03\x04" + bytes(200)),
        ("x.csv", b"__line,__line\n1,2\n"),
        ("x.parquet", b"PAR1"),
    ):
        told = owner.post("/plan/read-back", data={"account": KEY, "sheet": (io.BytesIO(content), name)})
        assert told.status_code == 422, name
        assert name in text_of(told)
    assert found(owner.get("/plan/"), "h1")


def test_a_line_of_the_queue_is_of_a_load(owner, demo):
    job = loads.start_job(
        demo.store,
        kind="export",
        account_id=account_of(demo, KEY).id,
        person_id=1,
        upload_id=None,
        request={"stem": "x", "file": "x.xlsx"},
    )
    loads.finish_job(demo.store, job, state="done", message="done")
    assert owner.get(f"/intake/jobs/{job}?account={KEY}").status_code == 404
