"""Every list is a table one acts on: filtered, selected, changed, noted and taken out by keyboard, keys counted."""

import csv

import pytest
from playwright.sync_api import expect

from nimbus_reef.store.people import accounts, notes, plans
from nimbus_reef.store.people.notes import About


def test_budgets_of_campaigns_above_target_are_cut_in_25_keys(page, site, empty_plan, counted):
    page.goto(f"{site.base}/targeting/campaigns?account=fernhollow-de")
    counted.filter("v", "", chip="verdict is above target")
    counted.filter("ag", "30", chip="age in days > 30")
    counted.press("X", "t")
    expect(page.get_by_label("Action")).to_be_focused()
    counted.press("c", "Tab")
    counted.type("-20")
    counted.press("Enter")
    expect(page.locator("h1")).to_contain_text("Preview:")
    counted.press("Enter")
    expect(page.locator(".notice")).to_contain_text("added to the plan")
    made = [each.change for each in plans.planned(site.demo.store, 1)]
    assert {each.field for each in made} == {"daily_budget"}
    assert all(float(each.new_value) == pytest.approx(float(each.old_value) * 0.8, abs=0.006) for each in made)
    assert counted.count <= 25


def test_product_ads_far_above_target_are_paused_in_20_keys(page, site, empty_plan, counted):
    page.goto(f"{site.base}/catalog/ads?account=fernhollow-de")
    counted.filter("", "70", chip="ACOS > 70 %")
    counted.filter("cl", "19", chip="clicks > 19")
    counted.press("X", "t", "p", "Tab", "Enter")
    expect(page.locator("h1")).to_contain_text("Preview:")
    counted.press("Enter")
    expect(page.locator(".notice")).to_contain_text("added to the plan")
    made = [each.change for each in plans.planned(site.demo.store, 1)]
    assert {(each.entity, each.new_value) for each in made} == {("product_ad", "paused")}
    assert counted.count <= 20


def test_families_are_sorted_by_what_of_all_sales_goes_to_ads(page, site):
    page.goto(f"{site.base}/catalog/families?account=fernhollow-de")
    page.get_by_role("link", name="TACOS %").click()
    expect(page.locator("th[aria-sort=descending]")).to_contain_text("TACOS")
    page.wait_for_url("**sort=-tacos**")
    shown = [
        float(text)
        for text in page.locator("tbody tr:has(th:not(.pl-10\\!)) td:nth-child(8)").all_inner_texts()
        if text != "–"
    ]
    assert shown == sorted(shown, reverse=True)
    assert len(shown) > 3


def test_terms_of_four_words_that_sell_within_target_leave_as_a_file(page, site):
    within = "where=words:ge:4&where=orders:ge:1&where=verdict:is:within%20target"
    page.goto(f"{site.base}/targeting/terms?account=fernhollow-de&{within}")
    count = int(page.locator(".totals b").first.inner_text())
    assert count > 0
    with page.expect_download() as taken:
        page.get_by_role("link", name="csv").click()
    with taken.value.path().open(newline="") as file:
        rows = list(csv.DictReader(file))
    assert len(rows) == count
    assert all(len(row["term"].split()) >= 4 and int(row["orders"]) >= 1 for row in rows)


def test_a_note_is_written_with_one_key_and_found_again_in_twelve(page, site, counted):
    account = accounts.by_key(site.demo.store, "fernhollow-de")
    notes.add(site.demo.store, account.id, 1, About("targets", "1", "some other thing"), "nothing to see")
    page.goto(f"{site.base}/targeting/campaigns?account=fernhollow-de")
    page.locator("tr[data-row] .name").first.click()
    named = page.locator("#drawer h2").inner_text()
    page.keyboard.press("n")
    page.keyboard.type("zebra asks for more budget")
    page.keyboard.press("Enter")
    expect(page.locator("#notes li").first).to_contain_text("zebra")
    page.goto(f"{site.base}/findings/?account=fernhollow-de")
    counted.press("N")
    expect(page.locator("h1")).to_have_text("Notes")
    counted.press("f")
    counted.type("zebra")
    counted.press("Enter")
    expect(page.locator("tr[data-row]")).to_have_count(1)
    counted.press("j", "Enter")
    expect(page.locator("#drawer h2")).to_have_text(named)
    expect(page.locator("#notes")).to_contain_text("zebra asks for more budget")
    assert counted.count <= 12
    for each in notes.of_account(site.demo.store, account.id):
        notes.remove(site.demo.store, account.id, 1, each.id)


def test_keys_jump_between_areas_views_and_groups(page, site):
    page.goto(f"{site.base}/findings/?account=fernhollow-de")
    page.keyboard.press("J")
    first = page.evaluate("document.activeElement.closest('section').querySelector('h2').innerText")
    page.keyboard.press("J")
    second = page.evaluate("document.activeElement.closest('section').querySelector('h2').innerText")
    assert first != second
    page.keyboard.press("K")
    assert page.evaluate("document.activeElement.closest('section').querySelector('h2').innerText") == first
    page.keyboard.press("5")
    expect(page.locator("h1")).to_have_text("Catalog")
    expect(page.locator("nav.views [aria-current]")).to_have_text("Families")
    page.keyboard.press(".")
    expect(page.locator("nav.views [aria-current]")).to_have_text("Product ads")
    page.keyboard.press(",")
    expect(page.locator("nav.views [aria-current]")).to_have_text("Families")


def test_a_weekly_audit_goes_from_pulse_to_the_sheet_in_90_keys(page, site, empty_plan, counted):
    """Each area looked at in its order; product ads, placements, targets and terms accepted; the sheet taken."""
    page.goto(f"{site.base}/pulse/?account=fernhollow-de")

    def area(key, title):
        counted.press(key)
        expect(page.locator("h1")).to_have_text(title)

    def view(title):
        counted.press(".")
        expect(page.locator("nav.views [aria-current]")).to_have_text(title)

    def accept_all():
        counted.press("X", "A")
        expect(page.locator("h1")).to_contain_text("Preview:")
        if page.locator("[name=asked]").count():
            page.locator("[name=asked]").focus()
            counted.press(" ")
        counted.press("a")
        expect(page.locator(".notice").first).to_contain_text("added to the plan")

    area("3", "Standing")
    area("4", "Movement")
    area("5", "Catalog")
    view("Product ads")
    counted.filter("v", "", chip="verdict is above target")
    accept_all()
    area("6", "Delivery")
    view("Hours")
    area("7", "Targeting")
    view("Ad groups")
    view("Targets")
    counted.filter("v", "", chip="verdict is above target")
    accept_all()
    view("Search terms")
    counted.filter("v", "", chip="verdict is above target")
    accept_all()
    area("9", "Findings")
    area("0", "Plan")
    with page.expect_download() as taken:
        counted.press("s")
    lines = taken.value.path().read_text().splitlines()
    assert len(lines) > 20
    assert counted.count <= 90, counted.count


def test_a_target_moved_in_the_solver_leads_to_the_plan(page, site, empty_plan):
    page.goto(f"{site.base}/targeting/solver?account=fernhollow-de&campaign=GL-PANEL+%C2%B7+grow+%C2%B7+phrase")
    handle = page.get_by_label("Target ACOS", exact=True)
    handle.focus()
    handle.press("PageUp")
    page.wait_for_url("**target_acos=**")
    expect(page.locator(".asked b")).not_to_contain_text("at 28 %")
    page.keyboard.press("e")
    expect(page.locator("h1")).to_contain_text("Preview:")
    page.keyboard.press("Enter")
    expect(page.locator(".notice")).to_contain_text("added to the plan")
    made = [each.change for each in plans.planned(site.demo.store, 1)]
    assert {each.field for each in made} <= {"bid", "state"}
    assert {each.campaign for each in made} == {"GL-PANEL · grow · phrase"}
