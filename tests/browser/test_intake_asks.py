"""
What a file leaves open is asked on its mapping, in Chromium: a currency, two columns that match alike; a broken sheet
is refused in words.
"""

import pytest
from playwright.sync_api import expect
from tests.browser.conftest import lent_account

KEY = "asking-de"


@pytest.fixture
def account(site):
    with lent_account(site, KEY, "EUR") as made:
        yield made


def windows(path):
    head = (
        "Day,Campaign name,Impr.,Clicks,Spend (USD),Cost per click,7 day orders,14 day orders,7 day sales,14 day"
        " sales\n"
    )
    rows = [
        f"2026-08-{n:02d},Old lamps | exact,{900 + n * 13},{20 + n},{10 + n}.50,0.5{n % 9}"
        f",{n % 3},{n % 3 + n % 2},{(n % 3) * 20}.50,{(n % 3 + n % 2) * 20}.50\n"
        for n in range(1, 29)
    ]
    path.write_text(head + "".join(rows))
    return path


def test_a_currency_and_two_windows_are_asked_and_answered(page, site, account, tmp_path):
    page.goto(f"{site.base}/intake/?account={KEY}")
    page.set_input_files("input[type=file]", windows(tmp_path / "windows.csv"))
    page.wait_for_url("**/intake/files/*")
    expect(page.locator(".answer")).to_contain_text("2 columns to choose: orders, sales")
    expect(page.locator(".answer")).to_contain_text("Not loaded: Cost per click")
    expect(page.get_by_label("Their column for spend")).to_have_value("Spend (USD)")
    expect(page.get_by_label("Their column for orders")).to_have_value("")
    expect(page.locator("main")).to_contain_text("never above impressions in 28 of 28 rows")
    page.get_by_role("button", name="Load").click()
    expect(page.get_by_label("Their column for orders")).to_be_visible()  # the browser holds it back
    page.get_by_label("Their column for orders").select_option("7 day orders")
    expect(page.get_by_role("row", name="orders whole number")).to_contain_text("2")  # its cells are shown
    expect(page.get_by_label("Their column for orders")).to_have_value("7 day orders")
    page.get_by_label("Their column for sales").select_option("7 day sales")
    page.get_by_label("1 USD =").fill("0.5")
    page.get_by_role("button", name="Load").click()
    job = page.locator(".job", has_text="windows.csv").first
    expect(job).to_contain_text("✓ Campaigns by day", timeout=20_000)
    spend = sum(10 + n + 0.5 for n in range(1, 29)) / 2
    expect(job).to_contain_text(f"{spend:,.2f}")


def test_a_broken_sheet_is_refused_in_words_while_others_work(page, site, empty_plan, tmp_path, refused):
    refused.append("422")
    broken = tmp_path / "changes.xlsx"
    broken.write_bytes(b"PK\x03\x04" + bytes(range(256)) * 20)
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de&where=verdict:is:costly&where=orders:gt:0")
    page.keyboard.press("j")
    page.keyboard.press("a")
    expect(page.locator("#strip")).to_contain_text("waiting")
    page.goto(f"{site.base}/plan/?account=fernhollow-de")
    page.set_input_files("input[name=sheet]", broken)
    with page.expect_response("**/plan/read-back") as answer:
        page.locator("form[action*='read-back'] button").first.click()
    assert answer.value.status == 422
    expect(page.locator("body")).to_contain_text("is not a workbook")
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    expect(page.locator("tr[data-row]").first).to_be_visible()


def test_the_header_and_the_separator_are_chosen_with_a_preview(page, site, account, tmp_path):
    """A table in which each row begins as if commas divided it, under a line as wide as that."""
    path = tmp_path / "odd.csv"
    rows = [
        f"2026-07-{n:02};Lamps, old | exact;{900 + n};{30 + n};{6 + n % 5}.50;{n % 3};{n % 3 * 20}.50"
        for n in range(1, 29)
    ]
    path.write_text("\n".join(["all, of it", "Day;Campaign;Impr.;Clicks;Cost;Orders;Revenue", *rows]) + "\n")
    page.goto(f"{site.base}/intake/?account={KEY}")
    page.set_input_files("input[type=file]", path)
    page.wait_for_url("**/intake/files/*")
    separator, header = page.get_by_label("separator"), page.get_by_label("header line")
    separator.select_option("a comma")
    expect(page.locator("section.block th").first).to_have_text("all")
    separator.select_option("a semicolon")
    header.select_option("1")
    expect(page.locator("section.block th").first).to_have_text("all, of it")
    header.select_option("2")
    expect(page.locator("section.block th").nth(3)).to_have_text("Clicks")
    expect(page.locator(".answer")).to_contain_text("This looks like “Campaigns by day”")
    page.get_by_role("button", name="Load").click()
    job = page.locator(".job", has_text="odd.csv").first
    expect(job).to_contain_text("✓ Campaigns by day", timeout=20_000)
    expect(job).to_contain_text("28")
