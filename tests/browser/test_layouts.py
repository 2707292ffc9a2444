"""A sheet layout of one's own made in the browser, and a sheet out with it."""

import csv

from playwright.sync_api import expect

from nimbus_reef.store.people import accounts, sheet_layouts


def test_a_layout_is_made_moved_previewed_saved_and_a_sheet_leaves_in_it(page, site, empty_plan):
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de&where=verdict:is:above%20target&where=orders:gt:0")
    expect(page.locator("tr[data-row] .take").first).to_be_visible()
    page.keyboard.press("j")
    page.keyboard.press("a")
    expect(page.locator("#strip")).to_contain_text("1 change")
    page.get_by_role("link", name="Open plan").click()
    page.get_by_role("link", name="Layouts").click()
    headers = page.locator("input[name=header]")
    while headers.count() > 6:
        for number in range(4, headers.count()):
            headers.nth(number).fill("")
        page.get_by_role("button", name="Preview").last.click()
    page.locator("form.sheet input[name=name]").fill("Uploader")
    page.get_by_label("Column 5: header").fill("New bid")
    page.get_by_label("Column 5: holds").select_option("new bid")
    page.get_by_label("Column 6: header").fill("Operation")
    page.get_by_label("Column 6: holds").select_option("text")
    page.get_by_label("Column 6: text").fill("Change")
    page.locator("summary", has_text="Words for states").click()
    page.locator("input[name=word-target]").fill("Keyword")
    page.get_by_role("button", name="Preview").last.click()
    expect(page.locator("section table")).to_contain_text("Keyword")
    page.get_by_label("Column 5 up").click()
    expect(page.locator("section thead th").nth(3)).to_have_text("New bid")
    page.get_by_role("button", name="Save layout").click()
    expect(page.locator(".notice")).to_contain_text("Layout “Uploader” saved")
    page.locator(".head").get_by_role("link", name="Plan").click()
    with page.expect_download() as taken:
        page.get_by_role("link", name="Sheet as Uploader").click()
    with taken.value.path().open(newline="") as file:
        (row,) = csv.DictReader(file)
    assert list(row) == ["row", "action", "entity", "New bid", "campaign", "Operation"]
    assert (row["entity"], row["Operation"]) == ("Keyword", "Change")
    assert float(row["New bid"]) > 0
    account = accounts.by_key(site.demo.store, "fernhollow-de")
    for each in sheet_layouts.of_account(site.demo.store, account.id):
        sheet_layouts.remove(site.demo.store, account.id, 1, each)
