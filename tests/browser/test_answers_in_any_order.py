"""
What is asked for twice, or while something else is on its way: the last wish is shown, said by the address, and acted
on.
"""

import re

import pytest
from playwright.sync_api import expect

pytestmark = pytest.mark.browser
TARGETS = "/targeting/targets?account=fernhollow-de"


@pytest.fixture
def held(page):
    """Keeps back what is asked for at an address, until each is let through."""

    class Held:
        def __init__(self):
            self.routes = []

        def at(self, pattern):
            page.route(re.compile(pattern), lambda route: self.routes.append(route))

        def let(self, number):
            """Lets the one through that came as this one, and waits for its answer."""
            route = self.routes[number]
            with page.expect_event("requestfinished", lambda request: request == route.request):
                route.continue_()

        def wait(self, count):
            for _ in range(400):
                if len(self.routes) >= count:
                    return
                page.wait_for_timeout(50)
            raise AssertionError(f"{len(self.routes)} of {count} were asked for")

    return Held()


@pytest.fixture
def targets(page, site):
    page.goto(f"{site.base}{TARGETS}")
    expect(page.locator("td.offered button").first).to_be_visible()
    return page


@pytest.mark.parametrize("order", [(0, 1), (1, 0)])
def test_the_evidence_is_of_the_row_clicked_last(targets, held, order):
    """Whichever answer comes first: drawer, marked row and address are of one row."""
    rows = targets.locator("tr[data-row]")
    key = rows.nth(1).get_attribute("data-row")
    held.at("targets/evidence")
    rows.nth(0).locator(".name").click()
    rows.nth(1).locator(".name").click()
    held.wait(2)
    for number in order:
        held.let(number)
    expect(targets.locator("#drawer svg.luck")).to_be_visible()
    expect(targets.locator("#drawer input[name=row]").first).to_have_value(key)
    expect(targets.locator("tr.open")).to_have_attribute("data-row", key)
    assert f"open={key}" in targets.url


@pytest.mark.parametrize("order", [(0, 1), (1, 0)])
def test_the_table_is_sorted_by_what_was_clicked_last(targets, held, order):
    """Whichever answer comes first: rows and address are of one order."""
    heads = targets.locator("thead th")
    held.at("sort=")
    heads.filter(has_text="clicks").get_by_role("link").click()
    heads.filter(has_text="orders").get_by_role("link").click()
    held.wait(2)
    for number in order:
        held.let(number)
    expect(targets.locator("th[aria-sort]")).to_contain_text("orders")
    expect(targets).to_have_url(re.compile("sort=-orders"))


def test_evidence_that_is_closed_before_it_comes_stays_closed(targets, held):
    rows = targets.locator("tr[data-row] .name")
    rows.nth(0).click()
    expect(targets.locator("#drawer svg.luck")).to_be_visible()
    held.at("targets/evidence")
    rows.nth(1).click()
    held.wait(1)
    targets.keyboard.press("Escape")
    expect(targets.locator("#drawer")).to_be_hidden()
    held.let(0)
    targets.wait_for_timeout(200)
    expect(targets.locator("#drawer")).to_be_hidden()
    assert "open=" not in targets.url


def test_a_table_sorted_beside_the_evidence_keeps_it_in_the_address(targets):
    """Drawer and marked row stay, and the address shows a colleague both, the order and the row."""
    targets.locator("tr[data-row] .name").nth(0).click()
    expect(targets.locator("#drawer svg.luck")).to_be_visible()
    name = targets.locator("#drawer h2").inner_text()
    targets.locator("thead th", has_text="clicks").get_by_role("link").click()
    expect(targets).to_have_url(re.compile("sort=-clicks.*open="))
    expect(targets.locator("tr.open .name .text")).to_have_text(name)
    targets.goto(targets.url)
    expect(targets.locator("#drawer h2")).to_have_text(name)
    expect(targets.locator("th[aria-sort]")).to_contain_text("clicks")


def test_evidence_that_comes_after_another_order_leaves_that_in_the_address(targets, held):
    held.at("targets/evidence")
    targets.locator("tr[data-row] .name").nth(0).click()
    held.wait(1)
    targets.locator("thead th", has_text="clicks").get_by_role("link").click()
    expect(targets).to_have_url(re.compile("sort=-clicks"))
    held.let(0)
    expect(targets.locator("#drawer svg.luck")).to_be_visible()
    expect(targets).to_have_url(re.compile("sort=-clicks.*open="))
    expect(targets.locator("tr.open")).to_have_count(1)


def test_what_is_taken_from_a_page_that_is_gone_counts_and_keys_go_on(targets, held, empty_plan):
    """Its row stands in another order by then, and says that it is in the plan."""
    held.at("targets/accept-row")
    row = targets.locator("tr[data-row]", has=targets.locator(".take")).first
    key = row.get_attribute("data-row")
    row.locator(".take").click()
    held.wait(1)
    targets.locator("thead th", has_text="clicks").get_by_role("link").click()
    expect(targets.locator("th[aria-sort]")).to_contain_text("clicks")
    expect(targets.locator("td.offered button").first).to_be_visible()
    held.let(0)
    expect(targets.locator("#strip")).to_contain_text("1 change")
    expect(targets.locator(f"#o{key}")).to_contain_text("in the plan")
    held.at("targets/evidence")
    targets.locator("tr[data-row]", has=targets.locator(f"#o{key}")).locator(".name").click()
    held.wait(2)
    targets.keyboard.press("u")
    held.let(1)
    expect(targets.locator("#strip")).to_contain_text("0 changes")


def test_proposals_of_a_page_that_is_gone_are_left_out(page, site, held):
    """The page that is there by then has asked for its own."""
    held.at("targets/offers")
    page.goto(f"{site.base}{TARGETS}")
    held.wait(1)
    page.locator("thead th", has_text="clicks").get_by_role("link").click()
    held.wait(2)
    page.get_by_role("searchbox").first.fill("zzz")
    page.get_by_role("searchbox").first.press("Enter")
    expect(page.locator("tr[data-row]")).to_have_count(0)
    held.let(0)
    held.let(1)
    page.wait_for_timeout(200)
    expect(page.locator("td.offered")).to_have_count(0)


def test_a_key_waits_for_the_evidence_it_is_meant_for(page, site, held, empty_plan):
    """Accepting at once after opening the next row takes that row's proposal, not that of the row still shown."""
    page.route(re.compile("targets/offers"), lambda route: route.fulfill(body="", content_type="text/html"))
    page.goto(f"{site.base}{TARGETS}&where=verdict:is:costly")
    rows = page.locator("tr[data-row]")
    key = rows.nth(1).get_attribute("data-row")
    rows.nth(0).locator(".name").click()
    expect(page.locator("#drawer svg.luck")).to_be_visible()
    held.at("targets/evidence")
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    held.wait(1)
    page.keyboard.press("a")
    held.let(0)
    expect(page.locator("#strip")).to_contain_text("1 change")
    expect(page.locator("#drawer input[name=row]").first).to_have_value(key)
    expect(page.locator("#drawer")).to_contain_text("In the plan")


def test_a_second_click_on_a_form_that_is_on_its_way_sends_nothing(page, site, held, empty_plan):
    """Nor is the answer to the first lost by it; on the next page, and after going back, it can be sent again."""
    page.goto(f"{site.base}{TARGETS}&where=verdict:is:costly")
    page.locator("tbody input.pick").first.check()
    box = page.get_by_role("button", name="Accept proposals").bounding_box()
    held.at("targets/accept-many")
    for _ in range(2):
        page.mouse.click(box["x"] + 20, box["y"] + 5)
        page.wait_for_timeout(200)
    assert len(held.routes) == 1
    held.let(0)
    expect(page.locator("#strip")).to_contain_text("1 change")
    page.go_back()
    page.locator("tbody input.pick").nth(1).check()
    page.mouse.click(box["x"] + 20, box["y"] + 5)
    held.wait(2)
    held.let(1)
    expect(page.locator("h1")).to_contain_text("Preview: 2 targets")


@pytest.fixture
def planned(page, site, empty_plan):
    """The plan with three bids in it, sorted; their fields by id."""
    page.goto(f"{site.base}{TARGETS}&where=verdict:is:fine&where=orders:gt:0")
    for number in range(8):
        page.locator("tbody input.pick").nth(number).check()
    page.keyboard.press("A")
    expect(page.locator("form.sure")).to_be_visible()
    page.keyboard.press("a")
    page.wait_for_url("**/targeting/targets?*")
    page.goto(f"{site.base}/plan/?account=fernhollow-de&sort=-row")
    bids = page.locator("input[inputmode=decimal]")
    return [page.locator(f"#{bids.nth(number).get_attribute('id')}") for number in range(3)]


def _type(page, field, text):
    field.click()
    page.keyboard.press("Control+A")
    page.keyboard.type(text)


def test_a_value_typed_on_the_plan_is_kept_by_whichever_way_one_leaves(page, site, held, planned):
    """
    A link followed, another field, Tab; each goes on where it led, with the value kept, and in the
    order of the table.
    """
    first, second, third = planned
    held.at("plan/.*/value")
    _type(page, first, "0.21")
    link = page.locator(".rail a", has_text="Pulse").bounding_box()
    page.mouse.click(link["x"] + 5, link["y"] + 5)
    held.wait(1)
    assert "/plan/" in page.url, "it waits until the value is kept"
    held.let(0)
    page.wait_for_url("**/pulse/**")
    page.unroute_all()
    page.go_back()
    expect(first).to_have_value("0.21")
    _type(page, first, "0.22")
    _type(page, second, "0.23")
    _type(page, third, "0.24")
    page.keyboard.press("Tab")
    with page.expect_download() as sheet:
        page.get_by_role("link", name="Sheet as CSV").click()
    text = sheet.value.path().read_text()
    assert all(f",{value}," in text for value in ("0.22", "0.23", "0.24"))
    assert "sort=-row" in page.url


def test_a_typed_value_that_cannot_be_is_left_to_be_mended_or_asked_about(page, planned, held, refused):
    """
    The link one left by is not followed then: what is wrong with the value, or the question, is on the page; another
    value typed meanwhile is kept after it.
    """
    refused.append("400")
    first, away = planned[0], page.locator(".rail a", has_text="Pulse")
    _type(page, first, "abc")
    away.click(no_wait_after=True)
    expect(page.locator(".notice.bad")).to_contain_text("“abc” is not a number")
    expect(first).to_have_value("abc")
    held.at("plan/.*/value")
    _type(page, first, "9999")
    _type(page, planned[1], "0.31")
    away.click(no_wait_after=True)
    held.wait(1)
    held.let(0)
    expect(page.locator("h1")).to_have_text("Is this intended?")
    page.unroute_all()
    page.get_by_role("link", name="No, keep").click()
    expect(first).not_to_have_value("9999")
    expect(page.locator(".block", has_text="Steps since").locator("li").first).to_contain_text(
        "1 change changed by hand"
    )
    expect(planned[1]).to_have_value("0.31")
    assert "sort=-row" in page.url


def test_an_application_that_cannot_be_reached_is_said_to_be(targets, refused):
    """
    For what was asked and for what was done; the page stays as it was, and works on when there is
    an answer again.
    """
    refused.extend(["ERR_INTERNET_DISCONNECTED", "htmx:sendError", "htmx:afterRequest"])
    targets.context.set_offline(True)
    row = targets.locator("tr[data-row]").first
    row.locator(".name").click()
    expect(targets.locator(".notice.bad")).to_have_text("The application cannot be reached. Try again in a moment.")
    row.locator(".take").click()
    expect(targets.locator(".notice.bad")).to_contain_text("Load the page anew to see whether this was done.")
    targets.context.set_offline(False)
    row.locator(".name").click()
    expect(targets.locator("#drawer svg.luck")).to_be_visible()


def test_what_a_page_asks_for_by_itself_is_asked_for_again(page, site, refused):
    """As how far a load is, while the application starts anew; what was said about it goes with the answer."""
    refused.extend(["ERR_FAILED", "htmx:sendError", "htmx:afterRequest"])
    page.route("**/targeting/targets/offers*", lambda route: route.abort(), times=2)
    page.goto(f"{site.base}{TARGETS}")
    expect(page.locator(".notice.bad")).to_contain_text("cannot be reached")
    expect(page.locator("td.offered button").first).to_be_visible()
    expect(page.locator(".notice.bad")).to_have_count(0)


def test_who_was_signed_out_signs_in_and_is_back_at_the_page(targets, refused, site):
    """From a click on a row, or a form: nothing of the page is taken away before."""
    refused.append("401")
    targets.context.clear_cookies()
    targets.locator("thead th", has_text="clicks").get_by_role("link").click()
    expect(targets.locator("h1")).to_have_text("Sign in")
    targets.get_by_label("address").fill("demo@nimbus-reef.example")
    targets.get_by_label("password").fill(site.demo.password)
    targets.get_by_role("button", name="Sign in").click()
    targets.wait_for_url("**/targeting/targets?account=fernhollow-de")
    expect(targets.locator("tr[data-row]").first).to_be_visible()


def test_a_large_report_of_somebody_signed_out_meanwhile_leads_to_the_sign_in(page, site, refused, tmp_path):
    """It is not sent first, only to end in the middle; nor where there is nobody to send to, which is said."""
    refused.append("ERR_INTERNET_DISCONNECTED")
    report = tmp_path / "large.csv"
    report.write_text("day,campaign,clicks\n" + "2026-11-01,Plant stands,1\n" * 200_000)
    page.goto(f"{site.base}/intake/?account=fernhollow-de")
    page.context.set_offline(True)
    page.set_input_files("form.drop input[type=file]", report)
    expect(page.locator(".notice.bad")).to_contain_text("Nothing was taken in")
    page.context.set_offline(False)
    page.context.clear_cookies()
    page.set_input_files("form.drop input[type=file]", report)
    expect(page.locator("h1")).to_have_text("Sign in")
    assert "next=/intake/" in page.url


def test_a_page_without_the_part_that_was_asked_for_is_shown_whole(targets):
    """As where the figures are gone by now, and the page says so."""
    gone = "<!doctype html><title>Gone</title><main id='work'><h1>No figures in these days</h1></main>"
    targets.route("**/*sort=*", lambda route: route.fulfill(body=gone, content_type="text/html"))
    targets.locator("thead th", has_text="clicks").get_by_role("link").click()
    expect(targets.locator("h1")).to_have_text("No figures in these days")
    expect(targets).to_have_url(re.compile("sort=-clicks"))


def test_a_link_within_a_table_to_another_view_brings_all_of_it(page, site):
    """Its place in the rail, its title, and a drawer for its rows; the evidence of the view before is gone."""
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    page.locator("tr[data-row] .name").first.click()
    expect(page.locator("#drawer svg.luck")).to_be_visible()
    page.get_by_role("link", name="Search terms", exact=True).click()
    page.wait_for_url("**/targeting/terms?*")
    expect(page.locator("#drawer")).to_be_hidden()
    page.goto(f"{site.base}/standing/queries?account=fernhollow-de&where=bought:is:yes")
    page.locator("#page tr[data-row] a.name, #page tbody a[href*='targeting/terms']").first.click()
    page.wait_for_url("**/targeting/terms?*")
    expect(page.locator(".rail a[aria-current=page]")).to_contain_text("Targeting")
    page.locator("tr[data-row] .name").first.click()
    expect(page.locator("#drawer")).to_be_visible()
