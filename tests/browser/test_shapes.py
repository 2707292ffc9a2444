"""Files as people have them, dropped in Chromium: a sheet of several kinds, one without dates; keys while it loads."""

from datetime import timedelta

import pytest
from playwright.sync_api import expect
from tests.browser.conftest import lent_account
from tests.conftest import LAST_DAY

from nimbus_reef.sim import brand, shapes
from nimbus_reef.sim.vocabulary import FERNHOLLOW

FIRST, LAST = LAST_DAY - timedelta(days=32), LAST_DAY - timedelta(days=3)


@pytest.fixture(scope="module")
def frames():
    return brand.simulate(FERNHOLLOW, 9, 34, LAST_DAY).frames


@pytest.fixture
def bare_account(site):
    """An account with nothing in it; of its own currency, as Pulse adds up those of one."""
    with lent_account(site, "new-de", "CHF") as made:
        yield made


def drop(page, site, path):
    page.goto(f"{site.base}/intake/?account=new-de")
    page.set_input_files("input[type=file]", path)
    page.wait_for_url("**/intake/files/*")


def test_a_mixed_sheet_is_dropped_and_ends_in_findings_with_product_verdicts(
    page, site, bare_account, frames, tmp_path
):
    """Settings and 30-day figures of several kinds, ids where names are missing, no date."""
    catalog = tmp_path / "catalog.csv"
    frames["catalog"].write_csv(catalog)
    drop(page, site, catalog)
    page.get_by_role("button", name="Load").click()
    expect(page.locator(".job", has_text="catalog.csv").first).to_contain_text("✓ Catalog", timeout=20_000)
    path = shapes.write_workbook(
        tmp_path / f"all of it {FIRST}_{LAST}.xlsx", {"rows": shapes.mixed(frames, FIRST, LAST)}
    )
    drop(page, site, path)
    expect(page.get_by_text("This looks like 7 reports in one")).to_be_visible()
    expect(page.locator("input[name=first]")).to_have_value(FIRST.isoformat())
    expect(page.get_by_label("kind of row comes from")).to_have_value(shapes.TOLD_BY)
    page.keyboard.press("a")
    job = page.locator(".job", has_text=path.name).first
    expect(job).to_contain_text("✓ Targets by day", timeout=30_000)
    expect(job).to_contain_text("one sum for")
    page.get_by_role("link", name="Findings").click()
    expect(page.locator(".answer")).to_contain_text("wasted above target")
    whole = page.locator("section.finding", has_text="Products above target ACOS on all their targets")
    whole.locator("tr[data-row] .name").first.click()
    expect(page.locator("h1")).to_contain_text("products above target ACOS on all their targets")
    expect(page.get_by_role("button", name="Accept all")).to_be_visible()
    page.locator("tr[data-row] .name").first.click()
    expect(page.locator("#drawer svg.luck")).to_be_visible()
    expect(page.locator("#drawer")).to_contain_text("Similar targets")
    page.goto(f"{site.base}/findings/?account=new-de&window=last-7")
    expect(page.locator("#lacking")).to_contain_text("No data for")
    expect(page.locator("#lacking")).to_contain_text("covers only part of it")
    page.get_by_role("link", name="Look at").first.click()
    expect(page.locator(".answer")).to_contain_text("wasted above target")


def test_a_file_without_dates_asks_for_its_days(page, site, bare_account, frames, tmp_path):
    path = tmp_path / "terms.csv"
    shapes.undated(frames["search_term_daily"], FIRST, LAST).write_csv(path)
    drop(page, site, path)
    page.get_by_role("button", name="Load").click()
    assert "/intake/files/" in page.url, "the browser itself asks for the days"
    page.locator("input[name=first]").fill(FIRST.isoformat())
    page.locator("input[name=last]").fill(LAST.isoformat())
    page.get_by_role("button", name="Load").click()
    expect(page.locator(".job", has_text="terms.csv").first).to_contain_text("✓ Search terms by day", timeout=30_000)


@pytest.mark.parametrize("pause", [0, 5, 40, 120])
def test_a_key_pressed_while_the_evidence_closes_or_a_page_loads_does_its_work(page, site, pause):
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    for _ in range(3):
        page.keyboard.press("j")
        page.keyboard.press("Enter")
        expect(page.locator("#drawer svg.luck")).to_be_visible()
        page.keyboard.press("Escape")
        page.wait_for_timeout(pause)
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_be_visible()
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog")).to_be_hidden()
    page.keyboard.press("]")
    page.wait_for_url("**/reach/**", wait_until="commit")
    page.wait_for_function("() => window.earlyKeys !== undefined")
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_be_visible()
