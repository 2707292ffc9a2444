"""Audits closed and trying again; the audit as a workbook and on paper."""

import re

import pytest
from tests.pages import text_of, texts, values, workbook

from nimbus_reef.store.people import closed_audits

FINDINGS = "/findings/"


@pytest.fixture
def closed(owner, demo):
    """Findings with one audit closed and then two of its findings changed, as if time had gone by."""
    owner.post("/findings/close", data={"account": "fernhollow-de"})
    last = closed_audits.closings(demo.store, 1)[0]
    yield last
    for each in closed_audits.closings(demo.store, 1):
        closed_audits.reopen(demo.store, 1, 1, each.id)


def test_closing_twice_in_a_row_says_nothing_is_new(owner, closed):
    page = text_of(owner.get(FINDINGS))
    assert "0 findings new, 0 back, 0 gone" in page
    assert len(closed.found) > 10


def test_what_was_not_there_is_new_and_what_is_no_more_is_gone(owner, demo, closed):
    kept = [each for each in closed.found if each["row"] != closed.found[0]["row"]]
    gone = {"check": "wasted-terms", "row": "9-9", "name": "a term of old", "where": "c · g", "stake": 5_000_000}
    closed_audits.close(demo.store, 1, 1, part="", address="window=last-30", overspend=1, found=[*kept, gone])
    response = owner.get(FINDINGS)
    page = text_of(response)
    # The first audit had it, the second had not, and now it is there again.
    assert "0 findings new, 1 back, 1 gone" in page
    assert "a term of old" in page
    assert "came back" in texts(response, ".news")
    told = values(owner.get("/targeting/targets"), "ol#rail a span[title]", "title")
    assert "1 new or back since the last audit" in told


def test_a_part_of_the_account_is_measured_by_audits_of_that_part(owner, closed):
    assert "Since the audit" not in text_of(owner.get(f"{FINDINGS}?format=brand"))


def test_a_closing_is_listed_with_its_settings_and_taken_back(owner, demo, closed):
    owner.post("/findings/close", data={"account": "fernhollow-de", "window": "last-60"})
    page = owner.get(FINDINGS).get_data(as_text=True)
    assert "window=last-60" in page
    newest = closed_audits.closings(demo.store, 1)[0]
    owner.post("/findings/reopen", data={"audit": newest.id})
    assert [each.id for each in closed_audits.closings(demo.store, 1)] == [closed.id]
    assert owner.post("/findings/reopen", data={"audit": newest.id}).status_code == 404


def test_a_viewer_closes_nothing(viewer):
    assert viewer.post("/findings/close").status_code == 403


def test_the_workbook_holds_every_sheet_of_the_audit(owner):
    book = workbook(owner, "/findings/workbook.xlsx")
    assert list(book) == [
        "Summary",
        "Findings",
        "Targets",
        "Search terms",
        "Words",
        "Families",
        "Ads",
        "Eligibility",
        "Gaps",
        "Listings",
        "Structure",
        "Duplicates",
        "Placements",
        "Hours",
        "Budgets",
        "Phrases",
        "Ranks",
        "Rivals",
        "Top-of-search",
        "Small-shares",
        "Coverage",
        "Own-against-own",
        "Plan",
        "Glossary",
    ]
    rows = {row["what"]: row for row in book["Summary"].to_dicts()}
    assert "Fernhollow" in rows["brand"].values()
    findings = book["Findings"]
    assert len(findings) == rows["findings"]["amount"]
    page = text_of(owner.get(FINDINGS))
    assert all(findings["what"]), "every finding has its name"
    assert findings["what"][0] in page
    headline = re.search(r"([\d,]+) wasted above target", page)[1]
    assert f"{rows['wasted spend per 30 days, the same money counted once']['amount']:,.0f}" == headline


def test_the_report_on_paper_says_what_the_page_says(owner):
    page, paper = text_of(owner.get(FINDINGS)), text_of(owner.get("/findings/report"))
    headline = re.search(r"(\S+ \S+) wasted above target per 30 days", page)[0]
    assert headline not in paper, "a client reads two pages"
    assert headline in text_of(owner.get("/findings/report?annex=yes"))
    for part in ("Fernhollow, DE: advertising report", "What happened", "Why", "What we do", "What it should bring"):
        assert part in paper
