"""What every table does: columns, views kept, rows selected and accepted together, taken out as files."""

import io
import re
from urllib.parse import unquote

import openpyxl
import polars as pl
import pytest
from tests.pages import accept, found, link, parsed, row_ids, text_of, values

from nimbus_reef.store.people import plans
from nimbus_reef.web import downloads

TARGETS = "/targeting/targets"


def heads(response):
    return [str(each.contents[0]).strip() for each in parsed(response).select("th[scope=col]:not(.first) > a")]


def planned(demo):
    return plans.planned(demo.store, 1)


def test_columns_are_a_set_or_ones_own(owner):
    usual, reach = heads(owner.get(TARGETS)), heads(owner.get(f"{TARGETS}?cols=reach"))
    assert usual[:3] == ["wasted €", "clicks", "orders"]
    assert reach[:3] == ["impressions", "CTR %", "clicks"]
    assert heads(owner.get(f"{TARGETS}?cols=roas&cols=bid")) == ["ROAS", "bid €", "verdict"]
    assert owner.get(f"{TARGETS}?cols=mood").status_code == 400
    assert "cols=reach" in owner.get(f"{TARGETS}?cols=reach").get_data(as_text=True), "links keep the columns"


def test_every_column_of_every_set_can_be_shown_and_sorted_by(owner):
    for view in ("targets", "terms"):
        keys = values(owner.get(f"/targeting/{view}"), "input[type=checkbox][name=cols]", "value")
        assert len(keys) > 15
        wide = owner.get(f"/targeting/{view}?" + "&".join(f"cols={key}" for key in keys))
        assert len(heads(wide)) == len(keys) + 1
        for key in keys:
            assert owner.get(f"/targeting/{view}?sort=-{key}").status_code == 200, key


def test_a_view_is_kept_for_its_person_and_table(owner, viewer):
    data = {
        "place": TARGETS,
        "name": "dear ones",
        "where": "clicks:ge:10",
        "sort": "-spend",
        "account": "fernhollow-de",
    }
    kept = owner.post("/saved/", data=data, follow_redirects=True)
    assert "“dear ones” is saved for you." in text_of(kept)
    page = owner.get(TARGETS)
    assert row_ids(owner.get(link(page, "dear ones"))) == row_ids(
        owner.get(f"{TARGETS}?where=clicks:ge:10&sort=-spend")
    )
    assert "dear ones" not in owner.get("/targeting/terms").get_data(as_text=True)
    assert "dear ones" not in viewer.get(TARGETS).get_data(as_text=True)
    forget = found(page, "form[action*='/forget']")["action"]
    assert viewer.post(forget, data={"place": TARGETS}).status_code == 404
    owner.post(forget, data={"place": TARGETS})
    assert "dear ones" not in owner.get(TARGETS).get_data(as_text=True)


@pytest.mark.parametrize("place", ["https://elsewhere.example/", "//elsewhere.example", "/", "/x?y=1"])
def test_a_view_belongs_to_a_table_of_this_application(owner, place):
    assert owner.post("/saved/", data={"place": place, "name": "x"}).status_code == 400


def test_selected_rows_are_accepted_together_and_taken_back_together(owner, demo):
    where = "verdict:is:costly"
    ids = row_ids(owner.get(f"{TARGETS}?where={where}"))[:5]
    done = accept(owner, f"{TARGETS}/accept-many", {"rows": ids, "where": where}, follow_redirects=True)
    assert "5 changes added to the plan." in text_of(done)
    assert {each.promise.row_id for each in planned(demo)} == set(ids)
    again = owner.post(f"{TARGETS}/accept-many", data={"rows": ids})
    assert "already in the plan" in text_of(again)
    accept(owner, f"{TARGETS}/accept-many", {"rows": row_ids(owner.get(f"{TARGETS}?where={where}"))[5:8]})
    assert len(planned(demo)) == 8
    back = owner.post("/plan/take-back", follow_redirects=True)
    assert "removed from the plan again" in text_of(back)
    assert {each.promise.row_id for each in planned(demo)} == set(ids)


def test_all_filtered_rows_are_accepted_and_a_single_acceptance_is_the_same(owner, demo):
    where = "verdict:is:costly"
    address = f"{TARGETS}/accept-many"
    count = int(re.search(r"([\d,]+) of", text_of(owner.get(f"{TARGETS}?where={where}")))[1].replace(",", ""))
    shown = values(owner.post(address, data={"all": "yes", "where": where}), "[name=take]", "value")
    accept(owner, address, {"all": "yes", "where": where})
    many = {each.promise.row_id: each for each in planned(demo)}
    assert 0 < len(many) <= count
    assert set(many) <= set(shown)
    one = next(iter(many.values()))
    plans.remove(demo.store, 1, 1, one.id)
    owner.post(f"{TARGETS}/accept", data={"row": one.promise.row_id})
    (alone,) = [each for each in planned(demo) if each.promise.row_id == one.promise.row_id]
    assert (alone.change.new_value, alone.change.reason, alone.promise) == (
        one.change.new_value,
        one.change.reason,
        one.promise,
    )


def test_a_table_comes_as_csv_workbook_and_parquet_with_the_same_rows(owner):
    address = f"{TARGETS}/export.{{}}?where=clicks:ge:10&sort=-spend"
    lines = owner.get(address.format("csv")).get_data(as_text=True).splitlines()
    sheet = openpyxl.load_workbook(io.BytesIO(owner.get(address.format("xlsx")).data)).active
    frame = pl.read_parquet(io.BytesIO(owner.get(address.format("parquet")).data))
    assert len(lines) - 1 == sheet.max_row - 1 == len(frame) > 10
    spend = [cell.value for cell in sheet[1]].index("spend") + 1
    assert [sheet.cell(row, spend).value for row in (2, 3)] == pytest.approx(frame["spend"].head(2).to_list())
    assert sheet.cell(2, spend).number_format == "0.00"
    assert owner.get(address.format("pdf")).status_code == 400


def test_a_large_workbook_is_made_by_the_worker(owner, viewer, monkeypatch):
    monkeypatch.setattr(downloads, "AT_ONCE_ROWS", 3)
    started = owner.get(f"{TARGETS}/export.xlsx?account=pellwick-gb")
    assert started.status_code == 302
    page = owner.get(started.location)
    file = link(page, css="a[href^='/exports/'][href$='/file']")
    made = owner.get(file)
    assert openpyxl.load_workbook(io.BytesIO(made.data)).active.max_row > 3
    assert "pellwick-gb-targets" in made.headers["Content-Disposition"]
    made.close()
    assert viewer.get(file).status_code == 404, "the account is not theirs to see"
    assert "export" not in text_of(owner.get("/intake/?account=pellwick-gb")).lower()


@pytest.mark.parametrize(
    ("typed", "where"), [("28,5", "acos:gt:28.5"), ("1,250", "acos:gt:1250"), ("28", "acos:gt:28")]
)
def test_a_typed_filter_stands_in_the_address_like_any_other(owner, typed, where):
    """Figures are read as the account writes them; the page that is led to holds one filter more."""
    led = owner.get(TARGETS, query_string={"compared": "acos", "comparison": "gt", "value": typed})
    assert led.status_code == 302
    assert where in unquote(led.location)
    assert "compared" not in led.location


def test_a_typed_filter_that_is_no_figure_is_refused(owner):
    led = owner.get(TARGETS, query_string={"compared": "acos", "comparison": "gt", "value": "dear"})
    assert owner.get(led.location).status_code == 400
