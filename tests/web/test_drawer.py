"""The drawer's own parts: notes, the rows behind the figures, break-even."""

import re

import pytest
from tests.pages import found, parsed, row_ids, text_of, texts, words

TARGETS = "/targeting/targets"


@pytest.fixture(params=["targets", "terms"])
def opened(request, owner):
    table = f"/targeting/{request.param}"
    return table, row_ids(owner.get(table))[0]


def test_the_rows_behind_add_up_to_what_was_judged(owner, opened):
    table, row_id = opened
    drawer = text_of(owner.get(f"{table}/evidence?open={row_id}"))
    clicks = re.search(r"([\d,]+) clicks? brought", drawer)[1]
    page = owner.get(f"{table}/rows?open={row_id}")
    assert texts(page, "td.num b")[1] == clicks
    assert "_daily.csv" in text_of(page)
    assert "from 1 file." in text_of(page)
    rows = [row for row in parsed(page).select("tr") if (row.th or row.td).get_text().startswith("2026-")]
    shown = [int(words(row.select("td.num")[1]).replace(",", "")) for row in rows]
    assert len(shown) >= 1
    assert sum(shown) == int(clicks.replace(",", ""))


def test_a_row_that_is_not_there_has_no_rows_behind(owner):
    assert owner.get(f"{TARGETS}/rows?open=999999").status_code == 404


def test_a_note_is_written_read_by_others_and_taken_off(owner, viewer, opened):
    table, row_id = opened
    about = {"view": table.rpartition("/")[2], "row": row_id, "back": f"{table}?open={row_id}"}
    owner.post("/notes/add", data=about | {"text": "asked the brand <b>"})
    assert "asked the brand &lt;b&gt;" in owner.get(f"{table}?open={row_id}").get_data(as_text=True)
    done = owner.get(f"{table}?open={row_id}")
    assert "Demo, 20" in text_of(viewer.get(f"{table}/evidence?open={row_id}"))
    remove = found(done, "form[action^='/notes/'][action$='/remove']")["action"]
    assert viewer.post(remove, data=about).status_code == 403
    owner.post(remove, data=about)
    assert "asked the brand" not in owner.get(f"{table}?open={row_id}").get_data(as_text=True)


@pytest.mark.parametrize("text", ["", "   ", "x" * 2049])
def test_a_note_says_something_and_not_too_much(owner, text):
    row_id = row_ids(owner.get(TARGETS))[0]
    assert owner.post("/notes/add", data={"view": "targets", "row": row_id, "text": text}).status_code == 400


def test_the_drawer_tells_at_what_acos_the_product_breaks_even(owner):
    row_id = row_ids(owner.get(TARGETS))[0]
    assert re.search(
        r"[A-Z-]+\S* breaks even at \d+(\.\d)? % ACOS\.", text_of(owner.get(f"{TARGETS}/evidence?open={row_id}"))
    )
