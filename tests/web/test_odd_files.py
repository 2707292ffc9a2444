"""Files that nobody meant: each is read, or refused with what is wrong; a full disk is said and loses nothing."""

import errno
import io
from datetime import date, timedelta

import polars as pl
import pytest
from tests.pages import text_of, texts, values

from nimbus_reef.jobs import intake

HEAD = "date,campaign,ad_group,target,match_type,impressions,clicks,spend,orders,sales\n"
FRAME = {
    "date": [date(2026, 9, 1)],
    "campaign": ["A"],
    "ad_group": ["B"],
    "target": ["lamp"],
    "match_type": ["exact"],
    "impressions": [100],
    "clicks": [3],
    "spend": [1.5],
    "orders": [0],
    "sales": [0.0],
}


def sent(client, content, name):
    """A file dropped, and the page that it leads to."""
    data = {"files": (io.BytesIO(content), name)}
    return client.post("/intake/files", data=data, content_type="multipart/form-data", follow_redirects=True)


def parquet(**columns):
    made = io.BytesIO()
    pl.DataFrame(FRAME | columns).write_parquet(made)
    return made.getvalue()


def loaded(client, page):
    """What became of it once its mapping is confirmed as it is suggested, in words."""
    data = {"scope": "product"}
    done = client.post(f"{page.request.path}/load", data=data, follow_redirects=True)
    assert done.status_code < 500
    return text_of(done)


@pytest.mark.parametrize(
    "columns",
    [
        {"notes": [["a", "b"]]},
        {"notes": [{"a": 1}]},
        {"notes": [timedelta(hours=2)]},
        {"__line": [7]},
        {"campaign": [["A"]]},
        {"clicks": [timedelta(hours=2)]},
        {"notes": [b"\xff\x00"]},
        {"notes": [None]},
        {"clicks": [2**63 - 1]},
        {"spend": [float("inf")]},
    ],
    ids=str,
)
def test_parquet_columns_of_any_type_are_no_fault(visitor, columns):
    page = sent(visitor, parquet(**columns), "x.parquet")
    assert page.status_code == 200
    if page.request.path != "/intake/":
        loaded(visitor, page)


@pytest.mark.parametrize("clicks", [2**63, 2**64, 10**30])
def test_counts_beyond_what_can_be_kept_are_rejects(visitor, clicks):
    said = loaded(visitor, sent(visitor, f"{HEAD}2026-09-01,A,B,lamp,exact,100,{clicks},1,0,0\n".encode(), "x.csv"))
    assert "nothing was loaded" in said.lower() or "turned away" in said.lower() or "reject" in said.lower(), said


def test_a_name_too_long_is_a_reject_of_its_row(visitor):
    lines = "".join(f"2026-09-01,A,B,lamp {n},exact,100,1,1,0,0\n" for n in range(40))
    page = sent(visitor, f"{HEAD}{lines}2026-09-01,A,B,{'x' * 600},exact,100,1,1,0,0\n".encode(), "x.csv")
    said = loaded(visitor, page)
    assert "rows 40" in said
    assert "rejected 1" in said


@pytest.mark.parametrize("step", ["keep", "load"])
def test_a_full_disk_is_said_and_loses_nothing(visitor, monkeypatch, step):
    def full(*_, **__):
        raise OSError(errno.ENOSPC, "No space left on device")

    text = f"{HEAD}2026-09-02,A,B,lamp,exact,100,3,1,0,0\n".encode()
    if step == "keep":
        monkeypatch.setattr(intake.os, "fdopen", full)
        page = sent(visitor, text, "x.csv")
        assert page.status_code == 507
        assert "disk is full" in text_of(page)
        return
    page = sent(visitor, text, "x.csv")
    monkeypatch.setattr(intake.ingest, "load", full)
    assert "disk is full" in loaded(visitor, page)


TEXT = HEAD + "".join(f"2026-09-{day:02},Ä,B,lamp {day},exact,100,3,1.50,0,0\n" for day in range(1, 9))


@pytest.mark.parametrize(
    "encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-16-le", "utf-16-be", "utf-32", "utf-32-le", "utf-32-be", "cp1252"]
)
def test_text_of_any_width_is_read(visitor, encoding):
    """With a mark at the start or without."""
    said = loaded(visitor, sent(visitor, TEXT.encode(encoding), "x.csv"))
    assert "rows 8" in said


@pytest.mark.parametrize(
    ("content", "what"),
    [
        (b"\x89PNG\r\n\x1a\n" + b"\0" * 50, "a picture (PNG)"),
        (b"%PDF-1.7 x", "a document (PDF)"),
        (b"PK\x03\x04 x", "a workbook or an archive"),
        (bytes(range(256)) * 4, "bytes that are not text"),
        (parquet(), "a table in Parquet"),
    ],
    ids=lambda value: value if isinstance(value, str) else "",
)
def test_what_is_no_text_says_what_it_is(visitor, content, what):
    page = sent(visitor, content, "report.csv")
    assert f"This file is {what}" in text_of(page)


def queue_of(client):
    """The lines of the queue, in words."""
    return [" ".join(each.split()) for each in texts(client.get("/intake/"), ".queue .job")]


@pytest.fixture
def asking(visitor):
    """A file dropped that lacks one of the days held: the page of its mapping."""
    visitor.post(f"{sent(visitor, TEXT.encode(), 'whole.csv').request.path}/load", data={"scope": "product"})
    lacking = "\n".join(line for line in TEXT.splitlines() if "2026-09-04" not in line) + "\n"
    page = sent(visitor, lacking.encode(), "lacking.csv")
    assert "has no row for 2026-09-04" in loaded(visitor, page)
    return page


def test_a_load_that_asks_stands_once_in_the_queue_and_goes_ahead_with_a_yes(visitor, asking):
    """One line a file: the question with a yes and a way back, then what became of it."""
    line, before = queue_of(visitor)
    assert line.startswith("lacking.csv needs a yes")
    assert line.endswith("Yes, load it Back to mapping")
    assert before.startswith("whole.csv ✓")
    (yes,) = [each for each in values(visitor.get("/intake/"), "form[action]", "action") if each.endswith("/yes")]
    assert visitor.post(yes).status_code == 302
    line, _ = queue_of(visitor)
    assert line.startswith("lacking.csv ✓")
    assert "rows 7" in line
    again = visitor.post(yes)
    assert again.status_code == 400
    assert "has no question" in text_of(again)


def test_a_load_that_asks_is_mapped_anew_or_put_away_instead(visitor, asking):
    """Whoever says no finds the file where it was; put away, it cannot be said yes to any more."""
    (yes,) = [each for each in values(visitor.get("/intake/"), "form[action]", "action") if each.endswith("/yes")]
    back = [each for each in values(visitor.get("/intake/"), ".queue a", "href") if asking.request.path in each]
    assert visitor.get(back[0]).status_code == 200
    assert "has no row for 2026-09-04" in loaded(visitor, asking)
    assert [line.split(" ", 1)[0] for line in queue_of(visitor)] == ["lacking.csv", "whole.csv"]
    visitor.post(f"{asking.request.path}/discard")
    line, _ = queue_of(visitor)
    assert line.startswith("lacking.csv was not loaded")
    assert "Yes, load it" not in line
    assert visitor.post(yes).status_code == 400


def test_a_file_that_failed_stands_once_in_the_queue(visitor):
    page = sent(visitor, TEXT.replace("lamp 7,exact,100,3", "lamp 7,exact,100,many").encode(), "bad.csv")
    loaded(visitor, page)
    (line,) = queue_of(visitor)
    assert line.startswith("bad.csv ✕ not loaded")
    assert line.endswith("Back to mapping")
