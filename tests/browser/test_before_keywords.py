"""What comes before keywords, in Chromium: a segment drawn, a boost made, a shift and a pause taken to the sheet."""

import csv
import io
from pathlib import Path
from urllib.parse import quote

import pytest
from playwright.sync_api import expect
from tests.selections import calm_campaign

pytestmark = pytest.mark.browser

HOURS = "/delivery/hours?account=fernhollow-de"


def sheet_of(page):
    """The change sheet, taken from the plan."""
    page.locator(".strip .open").click()
    with page.expect_download() as taken:
        page.get_by_role("link", name="Sheet as CSV").click()
    text = Path(taken.value.path()).read_text(encoding="utf-8-sig")
    return list(csv.DictReader(io.StringIO(text)))


def opens(page, name):
    """Clicks a row's name and waits until the drawer is its own: one that was open before tells much the same."""
    page.evaluate("document.getElementById('drawer').dataset.before = 'yes'")
    name.click()
    expect(page.locator("#drawer:not([data-before]) h2")).to_contain_text(name.inner_text().strip())


def middle_of(page, day, hour):
    """Where the cell of a weekday's hour lies on the screen; Monday is 0."""
    box = page.locator(".grid-of-hours g").nth(day * 24 + hour).bounding_box()
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def test_a_segment_is_dragged_and_a_boost_of_its_days_and_hours_goes_into_the_plan(page, site, empty_plan):
    """
    Drag over the weekend from 18 to 21 h; then the highest bid of a boost then, and the boost as a
    row of the sheet.
    """
    page.goto(site.base + HOURS)
    start, end = middle_of(page, 5, 18), middle_of(page, 6, 21)
    page.mouse.move(*start)
    page.mouse.down()
    page.mouse.move(*end, steps=6)
    expect(page.get_by_text("18 to 22 h, Sat, Sun", exact=True)).to_be_visible()
    page.mouse.up()
    page.wait_for_url("**segments=18-22*67*")
    row = page.locator("table.segments tr", has_text="18–22 h, the weekend")
    row.get_by_role("link", name="Boost").first.click()
    expect(page.get_by_label("from hour")).to_have_value("18")
    expect(page.get_by_label("to hour")).to_have_value("22")
    page.locator("select[name=whose]").select_option(calm_campaign(site.demo, "fernhollow-de"))
    page.get_by_label("by %").fill("40")
    page.get_by_role("button", name="Show highest bid").click()
    expect(page.locator(".highest .tried")).to_be_visible()
    page.locator("form[action*='boosts/plan'] button").click()
    expect(page.get_by_text("In the plan, row")).to_be_visible()
    (row,) = sheet_of(page)
    assert (row["entity"], row["new_value"], row["days"], row["from_hour"], row["to_hour"]) == (
        "bid_boost",
        "40",
        "6 7",
        "18",
        "22",
    )


def test_the_same_by_keyboard(page, site, empty_plan):
    page.goto(site.base + HOURS)
    page.locator(".grid-of-hours").focus()
    for _ in range(19):
        page.keyboard.press("ArrowRight")
    for _ in range(3):
        page.keyboard.press("Shift+ArrowRight")
    expect(page.get_by_text("18 to 22 h", exact=True)).to_be_visible()
    page.keyboard.press("Enter")
    page.wait_for_url("**segments=18-22**")

    calm = calm_campaign(site.demo, "fernhollow-de")
    page.goto(f"{site.base}/delivery/boosts?account=fernhollow-de&whose={quote(calm)}")
    page.keyboard.press("b")
    page.keyboard.type("40")
    page.get_by_label("from hour").focus()
    page.keyboard.press("ControlOrMeta+a")
    page.keyboard.type("18")
    page.keyboard.press("Tab")
    page.keyboard.press("ControlOrMeta+a")
    page.keyboard.type("22")
    page.keyboard.press("Enter")
    expect(page.locator(".highest .tried")).to_be_visible()
    page.locator("body").press("a")
    expect(page.get_by_text("In the plan, row")).to_be_visible()


def test_a_family_shift_and_a_product_ad_pause_go_from_finding_to_sheet(page, site, empty_plan):
    """Both opened where Findings lists them, accepted in the drawer, and found in the sheet."""
    page.goto(f"{site.base}/findings/?account=fernhollow-de&window=last-14&all=wrong-child")
    block = page.locator("section.finding", has_text="Spend on the wrong variation")
    names = block.locator("tr[data-row] a.name")
    for number in range(names.count()):
        opens(page, names.nth(number))
        if page.locator("#drawer button", has_text="Accept").count():
            break
    expect(page.locator("#drawer")).to_contain_text("to keep testing it")
    page.keyboard.press("a")
    expect(page.locator("#drawer")).to_contain_text("In the plan")
    block = page.locator("section.finding", has_text="Product ads wasting spend in their ad group")
    skus = block.locator("tr[data-row] a.name")
    for number in range(skus.count()):
        opens(page, skus.nth(number))
        expect(page.locator("#drawer")).to_contain_text("The ad group with and without it")
        if page.locator("#drawer button", has_text="Accept").count():
            break
    page.locator("#drawer button", has_text="Accept").click()
    expect(page.locator("#drawer")).to_contain_text("In the plan")
    rows = sheet_of(page)
    assert {row["finding"] for row in rows} == {"wrong-child", "costly-ads"}
    assert {(row["entity"], row["field"], row["new_value"]) for row in rows} == {("product_ad", "state", "paused")}
    assert all(row["sku"] and row["ad_group"] for row in rows)


def test_a_pattern_is_tried_as_it_is_typed(page, site):
    page.goto(f"{site.base}/catalog/names?account=fernhollow-de")
    field = page.get_by_label("Naming pattern")
    field.fill("{product} · {rest}")
    expect(page.locator("#preview th", has_text="rest").first).to_be_visible()
    field.fill("{product}{rest}")
    expect(page.locator("#preview")).to_contain_text("side by side")
