"""The pages by Flask's client: who gets in, what a URL holds, what an error says."""

import csv
import io
import re

import openpyxl
import pytest
import structlog
from tests.pages import found, link, parsed, row_ids, sent_by, text_of, values, words

from nimbus_reef.store.people import plans

TARGETS = "/targeting/targets"


def test_another_brand_s_account_is_not_there_for_a_viewer(viewer):
    for address in (TARGETS, "/targeting/terms", "/intake/", "/plan/", f"{TARGETS}/export.csv", "/plan/sheet.csv"):
        assert viewer.get(f"{address}?account=fernhollow-de").status_code == 200
        assert viewer.get(f"{address}?account=pellwick-gb").status_code == 404


def test_an_address_without_an_account_means_the_one_looked_at_last(owner):
    owner.get(f"{TARGETS}?account=pellwick-gb")
    assert "Pellwick, GB" in text_of(owner.get("/plan/"))
    owner.get(f"{TARGETS}?account=fernhollow-de")
    assert "Fernhollow, DE" in text_of(owner.get("/", follow_redirects=True))


def test_security_headers_are_on_every_answer(owner, app):
    for client in (owner, app.test_client()):
        headers = client.get(TARGETS).headers
        assert "script-src 'self'" in headers["Content-Security-Policy"]
        assert "unsafe" not in headers["Content-Security-Policy"]
        assert headers["X-Content-Type-Options"] == "nosniff"


def test_no_page_holds_inline_script_or_style(owner):
    for address in (TARGETS, "/targeting/terms", "/intake/", "/plan/"):
        page = parsed(owner.get(address))
        assert page.select("script:not([src]), style, [style]") == []
        assert [name for each in page.select("*") for name in each.attrs if name.startswith("on")] == []


def test_a_write_without_a_token_is_refused(app, owner):
    app.config["WTF_CSRF_ENABLED"] = True
    try:
        response = owner.post(f"{TARGETS}/accept", data={"row": "1"})
    finally:
        app.config["WTF_CSRF_ENABLED"] = False
    assert response.status_code == 400
    assert "Reload it" in text_of(response)


def test_sign_in_is_throttled(app, demo):
    """
    By address and place together: who mistypes locks out nobody else behind the same proxy; every
    process counts alike.
    """
    data = {"email": "a@b.c", "password": "x"}
    codes = [app.test_client().post("/sign-in", data=data).status_code for _ in range(12)]
    assert (codes[0], codes[9], codes[10], codes[-1]) == (401, 401, 429, 429)
    other = {"email": "demo@nimbus-reef.example", "password": demo.password}
    assert app.test_client().post("/sign-in", data=other).status_code == 302
    elsewhere = app.test_client().post("/sign-in", data=data, environ_base={"REMOTE_ADDR": "192.0.2.7"})
    assert elsewhere.status_code == 401


class Unreadable(io.BytesIO):
    """A body that nobody is to read."""

    def read(self, *_):
        raise AssertionError("it was read")

    readline = readinto = read


def test_visitors_send_no_files(app):
    """
    What is large, or does not say how large it is, is refused before it is read; who was signed out meanwhile is told
    so.
    """
    for path, status, led in (("/intake/files", 302, "/sign-in?"), ("/sign-in", 413, "")):
        answer = app.test_client().post(path, input_stream=Unreadable(b"x" * 100_000))
        assert answer.status_code == status
        assert led in answer.headers.get("Location", "")
        assert answer.headers["Connection"] == "close"


@pytest.mark.parametrize("target", ["https://elsewhere.example/", "//elsewhere.example", "/\\elsewhere.example"])
def test_sign_in_leads_nowhere_else(app, demo, target):
    response = app.test_client().post(
        "/sign-in", data={"email": "demo@nimbus-reef.example", "password": demo.password, "next": target}
    )
    assert response.location == "/"


def test_filters_sort_and_totals_are_of_all_filtered_rows(owner):
    """Chips narrow the rows; the totals count them all; every row meets the chips."""
    page = owner.get(f"{TARGETS}?where=acos:gt:28&where=clicks:ge:10&sort=-spend")
    text = text_of(page)
    count, of = (int(n.replace(",", "")) for n in re.search(r"([\d,]+) of ([\d,]+) targets", text).groups())
    assert 0 < count < of
    everything = owner.get(f"{TARGETS}/export.csv?where=acos:gt:28&where=clicks:ge:10&sort=-spend")
    lines = everything.get_data(as_text=True).strip().splitlines()
    assert len(lines) == count + 1
    header = lines[0].split(",")
    spend = [float(line.split(",")[header.index("spend")]) for line in lines[1:]]
    assert spend == sorted(spend, reverse=True)
    assert all(int(line.split(",")[header.index("clicks")]) >= 10 for line in lines[1:])
    shown = f"{sum(spend):,.0f}"
    assert f"spend € {shown}" in text.replace("\xa0", " ")


def test_text_search_with_quotes_and_minus(owner):
    both = row_ids(owner.get(f"{TARGETS}?q=strip+phrase"))
    exact = row_ids(owner.get(f'{TARGETS}?q="grow+·+phrase"+gl-strip'))
    without = row_ids(owner.get(f"{TARGETS}?q=gl-strip+-phrase"))
    every = [row_id for page in (1, 2, 3) for row_id in row_ids(owner.get(f"{TARGETS}?q=gl-strip&page={page}"))]
    assert both
    assert exact
    assert not set(without) & set(exact)
    assert set(exact) < set(every)


def test_the_simple_rule_judges_otherwise(owner):
    """Of the terms that it condemns evidence calls some costly and most not, and it passes some that are."""

    def verdicts(where):
        text = owner.get(f"/targeting/terms/export.csv?{where}").get_data(as_text=True)
        return [(row["simple_verdict"], row["verdict"]) for row in csv.DictReader(text.splitlines())]

    condemned = verdicts("where=simple:is:no+order")
    assert {rule for rule, _ in condemned} == {"no order"}
    spared = [verdict for _, verdict in condemned if verdict != "above target"]
    assert 0 < len(spared) < len(condemned)
    assert len(verdicts("where=simple:is:no+order&where=verdict:not:costly")) == len(spared)
    assert {"within target", "too few clicks"} & {rule for rule, _ in verdicts("where=verdict:is:costly")}
    assert "by the simple rule" in owner.get(f"{TARGETS}?judge=simple").get_data(as_text=True)


def test_windows_and_another_target_are_in_the_url(owner):
    narrow = text_of(owner.get(f"{TARGETS}?window=2026-11-01..2026-11-07&target_acos=5"))
    assert "1 Nov" in narrow
    assert "5 %" in narrow
    wide = text_of(owner.get(f"{TARGETS}?window=last-30"))
    assert narrow != wide


@pytest.mark.parametrize(
    ("query", "words"),
    [
        ("where=acos:gt:much", "is not a number"),
        ("where=nonsense", "is not valid"),
        ("where=state:is:asleep", "is never"),
        ("sort=-mood", "cannot be sorted"),
        ("window=soon", "is not a window"),
        ("target_acos=0", "not a valid target ACOS"),
        ("judge=coin", "not a way to judge"),
        ("window=2026-11-07..2026-11-01", "before it begins"),
    ],
)
def test_a_broken_address_says_what_is_wrong(owner, query, words):
    response = owner.get(f"{TARGETS}?{query}")
    assert response.status_code == 400
    assert words in text_of(response)


@pytest.mark.parametrize(
    "address", ["/targeting/nonsense", "/nowhere", f"{TARGETS}?open=999999", "/intake/files/99", "/plan/sheet.doc"]
)
def test_what_is_not_there_is_404_with_the_same_layout(owner, address):
    response = owner.get(address)
    assert response.status_code == 404
    assert "Start page" in text_of(response)


def test_a_window_without_rows_is_empty_not_broken(owner):
    shown = text_of(owner.get(f"{TARGETS}?window=2020-01-01..2020-01-30"))
    assert "No data for" in shown
    assert "Targets by day: loaded for" in shown


def first_open(client, view, query, wanted):
    for row in row_ids(client.get(f"/targeting/{view}?{query}")):
        drawer = client.get(f"/targeting/{view}/evidence?{query}&open={row}")
        if wanted in text_of(drawer):
            return row, drawer
    raise AssertionError(f"no row proposes {wanted}")


def test_accepting_from_drawer_to_sheet_and_back(owner, demo):
    """A bid, a pause and a negative go into the plan, out as XLSX, edited, and back."""
    for view, query, wanted in (
        ("targets", "where=verdict:is:costly&where=orders:gt:0", "bid "),
        ("targets", "where=verdict:is:costly&where=orders:eq:0", "Proposed, 1 change pause "),
        ("terms", "where=verdict:is:costly&where=orders:eq:0", "negative exact"),
    ):
        row, drawer = first_open(owner, view, query, wanted)
        assert drawer.headers["HX-Push-Url"].endswith(f"open={row}")
        done = owner.post(f"/targeting/{view}/accept", data={"row": row}, headers={"HX-Request": "true"})
        assert done.status_code == 200
        assert "In the plan" in text_of(done)
        again = owner.post(f"/targeting/{view}/accept", data={"row": row})
        assert again.status_code == 409
    plan = text_of(owner.get("/plan/"))
    assert "3 changes in" in plan
    book = openpyxl.load_workbook(io.BytesIO(owner.get("/plan/sheet.xlsx").data))
    sheet = book.active
    header = [cell.value for cell in sheet[1]]
    rows = {sheet.cell(n, header.index("field") + 1).value: n for n in (2, 3, 4)}
    assert sheet.cell(2, header.index("reason") + 1).value
    sheet.cell(rows["bid"], header.index("new_value") + 1).value = 0.21
    sheet.delete_rows(4)
    edited = io.BytesIO()
    book.save(edited)
    edited.seek(0)
    told = owner.post("/plan/read-back", data={"sheet": (edited, "changes.xlsx")})
    assert "1 value changed, 1 change leaves the plan, 1 stay unchanged" in text_of(told)
    assert len(plans.planned(demo.store, 1)) == 3, "nothing is changed before it was looked at"
    done = owner.post("/plan/read-back/take", data=sent_by(told), follow_redirects=True)
    assert "Sheet applied: 1 changed, 1 removed, 1 unchanged." in text_of(done)
    values = {each.change.field: each.change.new_value for each in plans.planned(demo.store, 1)}
    assert values["bid"] == "0.21"


def test_a_wrong_sheet_changes_nothing_and_names_its_rows(owner, demo):
    row, _ = first_open(owner, "targets", "where=verdict:is:costly&where=orders:gt:0", "bid ")
    owner.post(f"{TARGETS}/accept", data={"row": row})
    text = owner.get("/plan/sheet.csv").get_data(as_text=True)
    new = plans.planned(demo.store, 1)[0].change.new_value
    broken = io.BytesIO(text.replace(f",{new},", ",cheap,").encode())
    response = owner.post("/plan/read-back", data={"sheet": (broken, "changes.csv")})
    assert response.status_code == 422
    assert "“cheap” is not a number" in text_of(response)
    assert plans.planned(demo.store, 1)[0].change.new_value == new


def test_a_value_is_edited_on_the_plan_and_a_removal_is_undone(owner, demo):
    row, _ = first_open(owner, "targets", "where=verdict:is:fine&where=orders:gt:0", "bid ")
    owner.post(f"{TARGETS}/accept", data={"row": row})
    change = plans.planned(demo.store, 1)[0]
    led = owner.post(f"/plan/{change.id}/value", data={"new_value": "0,5", "sort": "-row", "q": "a"})
    assert "q=a&sort=-row" in led.location, "back to the table as it was"
    assert plans.planned(demo.store, 1)[0].change.new_value == "0.50"
    assert "1 change changed by hand by" in text_of(owner.get("/plan/"))
    assert owner.post(f"/plan/{change.id}/value", data={"new_value": "-1"}).status_code == 400
    asked = owner.post(f"/plan/{change.id}/value", data={"new_value": "9"})
    assert "more spend in 30 days" in text_of(asked)
    assert plans.planned(demo.store, 1)[0].change.new_value == "0.50"
    owner.post(f"/plan/{change.id}/value", data={"new_value": "9", "asked": "yes"})
    assert plans.planned(demo.store, 1)[0].change.new_value == "9.00"
    owner.post("/plan/remove", data={"rows": change.id})
    assert plans.planned(demo.store, 1) == []
    owner.post("/plan/undo")
    assert [each.id for each in plans.planned(demo.store, 1)] == [change.id]


def test_a_bid_above_target_is_not_edited_above_what_it_is_today(owner, demo):
    row, _ = first_open(owner, "targets", "where=verdict:is:costly&where=orders:gt:0", "bid ")
    owner.post(f"{TARGETS}/accept", data={"row": row})
    (held,) = plans.planned(demo.store, 1)
    refused = owner.post(f"/plan/{held.id}/value", data={"new_value": "9", "asked": "yes"})
    assert refused.status_code == 409
    assert "and is above target" in text_of(refused)
    assert plans.planned(demo.store, 1) == [held]


def place(dropped):
    """Where a dropped file is looked at."""
    return dropped.location.partition("?")[0]


def chosen_columns(page):
    """The mapping form's selects that have something chosen."""
    chosen = parsed(page).select("select[name^='column-'] > option[selected]")
    return {each.parent["name"]: words(each) for each in chosen if words(each)}


def test_a_file_is_dropped_mapped_loaded_and_discarded(owner, demo):
    """A foreign file becomes rows; a second drop says it is known; a third is put away."""
    lines = ["Wann;Campaign;Ad group;Bid on;Matching;Shopper searched;Times shown;Clicks;Cost;Purchases;Revenue"]
    lines += [f"{day:02}.01.2026;Old C;Old G;old;Exact match;old thing;1.000;3;1,50;0;–" for day in range(1, 15)]
    content = "\n".join([*lines, "Total;;;;;;14.000;42;21,00;0;–"]).encode()
    dropped = owner.post("/intake/files", data={"files": (io.BytesIO(content), "C:\\x\\..\\alt.csv")})
    page = owner.get(dropped.location)
    assert "Search terms by day" in text_of(page)
    assert "01.01.2026 → 2026-01-01" in text_of(page)
    form = chosen_columns(page)
    assert len(form) == 11
    done = owner.post(
        f"{place(dropped)}/load",
        data={**form, "mapped": "yes", "kind": "search_term_daily", "scope": "product"},
        follow_redirects=True,
    )
    text = text_of(done)
    assert "alt.csv ✓ Search terms by day" in text
    assert "rows 14 days 14 from 2026-01-01 to 2026-01-14" in text
    assert "€ 21.00" in text.replace("\xa0", " ")
    again = owner.post("/intake/files", data={"files": (io.BytesIO(content), "alt.csv")})
    assert "already loaded" in text_of(owner.get(again.location))
    assert "mapped as last time" in text_of(owner.get(again.location))
    gone = owner.post(place(again) + "/discard", follow_redirects=True)
    assert "Nothing was loaded" in text_of(gone)


def test_words_that_nobody_knows_are_asked_and_a_failed_load_leads_back_to_its_mapping(owner):
    """A form cannot be sent without saying them; a load that is started without leads back to where they are said."""
    head = "date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales\n"
    content = head + "".join(f"2025-07-{day:02},C,G,t,krumm,9,1,1.5,0,0\n" for day in range(1, 15))
    dropped = owner.post("/intake/files", data={"files": (io.BytesIO(content.encode()), "july.csv")})
    asked = parsed(owner.get(dropped.location)).select("select[name^='value-match_type']")
    assert len(asked) == 1
    assert "required" in asked[0].attrs
    form = chosen_columns(owner.get(dropped.location)) | {"mapped": "yes", "kind": "target_daily", "scope": "all"}
    failed = owner.post(f"{place(dropped)}/load", data=form, follow_redirects=True)
    assert "It is not known what “krumm” means as match type" in text_of(failed)
    assert place(dropped) in link(failed, "Back to mapping")
    owner.post(f"{place(dropped)}/discard")
    assert "Back to mapping" not in text_of(owner.get("/intake/"))


def test_a_batch_is_undone_and_can_be_loaded_again(owner):
    content = "date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales\n" + "".join(
        f"2025-03-{day},C,G,t,exact,9,1,1,0,0\n" for day in (14, 15)
    )
    dropped = owner.post("/intake/files", data={"files": (io.BytesIO(content.encode()), "march.csv")})
    address = place(dropped)
    form = chosen_columns(owner.get(dropped.location))
    base = {**form, "mapped": "yes", "kind": "target_daily", "scope": "all"}
    loaded = owner.post(f"{address}/load", data=base, follow_redirects=True)
    undo = found(loaded, "form[action*='/batches/'][action*='/undo']")["action"]
    undone = owner.post(undo, follow_redirects=True)
    assert "march.csv ✓ Undone: targets by day as before days 2 from 2025-03-14" in text_of(undone)
    assert undo not in values(undone, "form[action]", "action")
    again = owner.post(undo, follow_redirects=True)
    assert "✕ not undone This batch was undone already." in text_of(again)
    assert "already loaded" not in text_of(owner.get(address))


def test_rejected_rows_come_back_in_the_file_to_mend_and_it_loads_in_its_place(owner):
    head = "date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales,remark\n"
    good = "".join(f"2025-05-{1 + n % 28:02},C,G,t{n},exact,9,1,1,0,0,ok\n" for n in range(60))
    content = head + good + "2025-05-03,C,G,late,exact,9,one,1,0,0,=cmd\n"
    dropped = owner.post("/intake/files", data={"files": (io.BytesIO(content.encode()), "may.csv")})
    address = place(dropped)
    base = {"mapped": "yes", "kind": "target_daily", "scope": "all"}
    form = chosen_columns(owner.get(dropped.location))
    loaded = owner.post(f"{address}/load", data=base | form, follow_redirects=True)
    lines = owner.get(link(loaded, css="a[href*='/mend.csv']")).get_data(as_text=True).splitlines()
    assert len(lines) == 62
    assert lines[1].startswith("2025-05-03,C,G,late,exact,9,one")
    assert "clicks is not a readable number" in lines[1]
    mended = "\n".join(lines).replace(",one,", ",1,")
    dropped = owner.post("/intake/files", data={"files": (io.BytesIO(mended.encode()), "may-mended.csv")})
    form = chosen_columns(owner.get(dropped.location))
    again = owner.post(place(dropped) + "/load", data=base | form, follow_redirects=True)
    assert "rows 61 days 28" in text_of(again)
    assert "replaced 60 rejected 0" in text_of(again)


def test_a_file_that_cannot_be_read_is_refused_at_the_door(owner):
    response = owner.post("/intake/files", data={"files": (io.BytesIO(b"\x00\x01"), "x.exe")}, follow_redirects=True)
    assert "Save the report as CSV, XLSX or Parquet" in text_of(response)


def test_ambiguous_dates_are_asked_for(owner):
    content = "date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales\n" + "".join(
        f"0{month}/02/2025,C,G,t,exact,9,1,1,0,0\n" for month in (1, 2, 3)
    )
    dropped = owner.post("/intake/files", data={"files": (io.BytesIO(content.encode()), "d.csv")})
    page = owner.get(dropped.location).get_data(as_text=True)
    assert 'name="dates" value="month_first"' in page
    form = chosen_columns(page)
    address = place(dropped) + "/load"
    base = {**form, "mapped": "yes", "kind": "target_daily", "scope": "all"}
    refused = owner.post(address, data=base)
    assert refused.status_code == 400
    assert "day-first or month-first" in text_of(refused)
    done = owner.post(address, data={**base, "dates": "month_first"}, follow_redirects=True)
    assert "from 2025-01-02 to 2025-03-02" in text_of(done)


def test_the_database_being_away_says_so_with_a_remedy(app, owner, monkeypatch):
    from nimbus_reef.errors import StoreAway
    from nimbus_reef.store.reading.facts import Facts

    def away(*_):
        raise StoreAway("The database does not answer.", remedy="It is being tried again.")

    monkeypatch.setattr(Facts, "newest_day", away)
    response = owner.get(TARGETS)
    assert response.status_code == 503
    assert "retries automatically" in text_of(response)


def test_a_fault_of_ours_shows_an_id_that_is_in_the_log(app, owner, monkeypatch):
    from nimbus_reef.web.targeting import pages

    app.testing = False
    monkeypatch.setattr(pages, "lines", lambda *_: 1 / 0)
    try:
        with structlog.testing.capture_logs() as logged:
            response = owner.get(TARGETS)
    finally:
        app.testing = True
    assert response.status_code == 500
    fault = re.search(r"error (\w{8})", text_of(response))[1]
    assert [line["fault"] for line in logged] == [fault]
