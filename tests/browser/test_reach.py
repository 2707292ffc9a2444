"""Reach, in Chromium: from a keyword list to exact keywords and a campaign in the sheet, by mouse and by keyboard."""

import csv
import io
from datetime import timedelta
from pathlib import Path

import pytest
from playwright.sync_api import expect

from nimbus_reef.store.loading import undo
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import loads

pytestmark = pytest.mark.browser

PAGE = "/reach/phrases?account=fernhollow-de"
PHRASE = "ceramic seed tray with lid for balcony"


@pytest.fixture
def keyword_list(site, tmp_path):
    """A rival's keywords with ranks, as a file; what it loads is undone afterwards."""
    account = accounts.by_key(site.demo.store, "fernhollow-de")
    day = Facts(site.demo.store).newest_day(account.id) - timedelta(days=1)
    path = tmp_path / "rival-keywords.csv"
    items = [("TM0900117", "Umbrelane", 3), ("TM0900129", "Quillmoss", 7), ("TM0900131", "Ostravale", 9)]
    rows = [f"{day},{PHRASE},52000,Seed trays,{item},{brand},{rank},\n" for item, brand, rank in items]
    head = "date,keyword,search_volume,category,item_id,brand,organic_rank,sponsored_rank\n"
    path.write_text(head + "".join(rows))
    yield path
    for batch in loads.batches(site.demo.store, account.id):
        if batch.file_name == path.name and batch.undone_at is None:
            undo.undo(site.demo.store, account.id, batch.id)


def sheet_of(page):
    page.locator(".strip .open").click()
    with page.expect_download() as taken:
        page.get_by_role("link", name="Sheet as CSV").click()
    return list(csv.DictReader(io.StringIO(Path(taken.value.path()).read_text(encoding="utf-8-sig"))))


def test_a_rival_s_keyword_becomes_a_keyword_of_the_sheet(page, site, keyword_list, empty_plan):
    page.goto(f"{site.base}/intake/?account=fernhollow-de")
    page.set_input_files("form.drop input[type=file]", keyword_list)
    page.wait_for_url("**/intake/files/*")
    page.get_by_role("button", name="Load").click()
    expect(page.locator(".job", has_text=keyword_list.name).first).to_contain_text("✓ Keyword ranks", timeout=20_000)
    page.goto(f"{site.base}{PAGE}&q=ceramic")
    row = page.locator("tr[data-row]")
    expect(row).to_have_count(1)
    row.locator(".name").click()
    expect(page.locator("#drawer h2")).to_have_text(PHRASE)
    expect(page.locator("#drawer")).to_contain_text("“ceramic” unknown")
    expect(page.locator("#drawer")).to_contain_text("3. Umbrelane")


def test_keys_alone_take_a_phrase_set_one_aside_and_make_a_campaign(page, site, empty_plan):
    page.goto(f"{site.base}{PAGE}&where=status:is:proposed")
    first = page.locator("tr[data-row] .name .text").nth(0).inner_text()
    second = page.locator("tr[data-row] .name .text").nth(1).inner_text()
    page.keyboard.press("j")
    page.keyboard.press("a")
    expect(page.locator("#strip")).to_contain_text("1 change")
    expect(page.locator("tr[data-row] .name .text").first).to_have_text(second)
    page.keyboard.press("j")
    page.keyboard.press("d")
    expect(page.locator("body")).to_contain_text("1 phrase marked as not ours")
    expect(page.locator("tr[data-row] .name .text").first).not_to_have_text(second)
    page.wait_for_load_state()
    for _ in range(3):
        page.keyboard.press("j")
        page.keyboard.press("x")
    page.keyboard.press("g")
    expect(page.locator("input[name=campaign_name]")).to_be_focused()
    page.keyboard.type("Tail of November")
    page.locator("details[data-hotkey=g] button").click()
    expect(page.locator("h1")).to_contain_text("Preview:")
    page.wait_for_load_state()
    page.keyboard.press("a")
    expect(page.locator("body")).to_contain_text("added to the plan")
    rows = sheet_of(page)
    exact = [each for each in rows if each["entity"] == "target"]
    assert first in {each["target"] for each in exact}
    assert len([each for each in exact if each["campaign"].startswith("Tail of November")]) == 3
    assert all(each["action"] == "create" and each["match_type"] == "exact" for each in exact)
    page.goto(f"{site.base}{PAGE}&where=status:is:not ours")
    expect(page.locator("tr[data-row]")).to_have_count(1)
    page.keyboard.press("j")
    page.keyboard.press("x")
    page.get_by_role("button", name="bring back").click()
    expect(page.locator("body")).to_contain_text("1 phrase brought back")


def test_keys_alone_raise_a_bid_at_the_top_and_give_a_term_its_keyword(page, site, empty_plan):
    taken = []
    for view in ("top-of-search?account=fernhollow-de&where=raised:is:yes", "small-shares?account=fernhollow-de"):
        page.goto(f"{site.base}/reach/{view}")
        taken.append(page.locator("tr[data-row] .name .text").first.inner_text())
        for key in "jxA":
            page.keyboard.press(key)
        expect(page.locator("body")).to_contain_text("added to the plan")
    target, term = taken
    rows = sheet_of(page)
    assert target in {each["target"] for each in rows if each["action"] == "update"}
    assert term in {each["target"] for each in rows if each["action"] == "create"}


def test_from_ranks_against_one_rival_to_a_keyword_by_mouse(page, site, empty_plan):
    page.goto(f"{site.base}/reach/ranks?account=fernhollow-de&where=fight:is:add the words to the title, and bid")
    page.get_by_role("link", name="by rival").click()
    expect(page.locator("thead")).to_contain_text("own rank")
    page.locator("p.judge a", has_text="by rival").locator("xpath=following-sibling::a[1]").click()
    expect(page.locator(".answer")).to_contain_text("ranks within 40 for")
    phrase = page.locator("tr[data-row] .name .text").first.inner_text()
    page.locator("tr[data-row] .name").first.click()
    expect(page.locator("#drawer h2")).to_have_text(phrase)
    expect(page.locator("#drawer .rank-course svg")).to_be_visible()
    page.locator("#drawer").get_by_role("button", name="Accept").click()
    expect(page.locator("#strip")).to_contain_text("1 change")
    page.locator("#drawer").get_by_role("link", name="Beside another phrase").click()
    expect(page.locator("input[name=one][list]")).to_have_value(phrase)
    expect(page.locator(".two-phrases")).to_contain_text("searches a week")
