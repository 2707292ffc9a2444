"""Whole tasks in Chromium, by mouse and by keyboard, and what axe-core says of each view."""

import csv
import io

import pytest
from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import expect
from tests.conftest import LAST_DAY

from nimbus_reef.formats.tables import Sheet, SheetColumn, write_xlsx

pytestmark = pytest.mark.browser

FOREIGN = [
    "Kampagne",
    "Ad group name",
    "Day",
    "Shopper searched",
    "Bid on",
    "Matching",
    "Times shown",
    "Clicks",
    "Purchases",
    "Cost (EUR)",
    "Revenue (EUR)",
]


@pytest.fixture
def workbook(tmp_path):
    """Ten days of another season under foreign headers, with a totals line."""
    rows = [
        [
            "Winter · broad",
            "Winter lamps",
            f"{day:02}.02.2026",
            term,
            "lamp",
            "Broad match",
            900,
            30,
            orders,
            27.5,
            orders * 30.0,
        ]
        for day in range(1, 11)
        for term, orders in (("lamp for winter", 3), ("lamp second hand", 0))
    ]
    totals = ["Total", "", "", "", "", "", *[sum(row[index] for row in rows) for index in range(6, 11)]]
    path = tmp_path / "winter.xlsx"
    with path.open("wb") as file:
        write_xlsx(file, [Sheet("report", [SheetColumn(header) for header in FOREIGN], [*rows, totals])])
    return path


def test_from_a_dropped_workbook_to_the_sheet_read_back(page, site, workbook, empty_plan, tmp_path):
    """Drop, map, load; filter, open, accept two; download, edit, read back."""
    page.goto(f"{site.base}/pulse/")
    page.get_by_role("link", name="Intake").click()
    page.set_input_files("input[type=file]", workbook)
    page.wait_for_url("**/intake/files/*")
    expect(page.get_by_text("This looks like “Search terms by day”")).to_be_visible()
    page.get_by_label("Their column for campaign", exact=True).select_option("Kampagne")
    page.get_by_role("button", name="Load").click()
    job = page.locator(".job", has_text="winter.xlsx").first
    expect(job).to_contain_text("✓ Search terms by day", timeout=20_000)
    expect(job).to_contain_text("€ 550.00".replace(" ", "\u00a0"))
    expect(job).to_contain_text("totals line")

    page.get_by_role("link", name="Targeting").click()
    page.get_by_role("link", name="Targets", exact=True).click()
    page.get_by_text("add filter").click()
    page.get_by_label("Value").first.fill("28")
    page.get_by_role("button", name="Add").click()
    expect(page.locator(".chip", has_text="ACOS > 28 %")).to_be_visible()
    page.get_by_text("add filter").click()
    page.get_by_label("Metric").select_option("clicks")
    page.get_by_label("Comparison").select_option("ge")
    page.get_by_label("Value").first.fill("10")
    page.get_by_role("button", name="Add").click()
    expect(page.locator(".chip")).to_have_count(2)
    assert "where=acos%3Agt%3A28" in page.url
    assert "where=clicks%3Age%3A10" in page.url

    for number in (0, 1):
        page.locator("tr[data-row] .name").nth(number).click()
        expect(page.locator("tr[data-row]").nth(number)).to_have_class("open")
        expect(page.locator("#drawer svg.luck")).to_be_visible()
        page.get_by_role("button", name="Accept").click()
        expect(page.locator("#drawer")).to_contain_text("In the plan")
        expect(page.locator("#strip")).to_contain_text(f"{number + 1} change")

    page.get_by_role("link", name="Open plan").click()
    with page.expect_download() as download:
        page.get_by_role("link", name="Sheet as CSV").click()
    rows = list(csv.DictReader(io.StringIO(download.value.path().read_text())))
    assert len(rows) == 2
    bid = next(row for row in rows if row["field"] == "bid")
    rows[rows.index(bid)]["new_value"] = "0.33"
    edited = tmp_path / "edited.csv"
    with edited.open("w", newline="") as file:
        writer = csv.DictWriter(file, rows[0].keys())
        writer.writeheader()
        writer.writerows(rows)
    page.set_input_files("input[name=sheet]", edited)
    page.get_by_role("button", name="Upload", exact=True).click()
    expect(page.get_by_text("1 value changed, 0 changes leave the plan, 1 stay unchanged.")).to_be_visible()
    expect(page.get_by_role("button", name="Apply")).to_be_focused()
    page.keyboard.press("Enter")
    expect(page.get_by_text("Sheet applied: 1 changed, 0 removed, 1 unchanged.")).to_be_visible()
    expect(page.locator("input[name=new_value]").first).to_have_value("0.33")


def test_the_same_by_keyboard_from_the_filter_on(page, site, empty_plan):
    """No mouse: filter, walk the rows, evidence, accept, take back, next area."""
    page.goto(f"{site.base}/targeting/targets")
    page.keyboard.press("/")
    expect(page.get_by_label("Metric")).to_be_focused()
    page.keyboard.press("Tab")
    page.keyboard.press("Tab")
    page.keyboard.type("28")
    page.keyboard.press("Enter")
    expect(page.locator(".chip", has_text="ACOS > 28 %")).to_be_visible()
    page.keyboard.press("j")
    expect(page.locator("tr[data-row] .name").nth(0)).to_be_focused()
    page.keyboard.press("j")
    page.keyboard.press("k")
    page.keyboard.press("Enter")
    expect(page.locator("#drawer svg.luck")).to_be_visible()
    page.keyboard.press("a")
    expect(page.locator("#strip")).to_contain_text("1 change")
    page.keyboard.press("u")
    expect(page.locator("#strip")).to_contain_text("0 changes")
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    expect(page.locator("tr[data-row]").nth(1)).to_have_class("open")
    page.keyboard.press("a")
    expect(page.locator("#strip")).to_contain_text("1 change")
    page.keyboard.press("Escape")
    expect(page.locator("#drawer")).to_be_hidden()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_be_visible()
    page.keyboard.press("Escape")
    for area in ("reach", "findings"):
        page.keyboard.press("]")
        page.wait_for_url(f"**/{area}/**")
    page.keyboard.press("]")
    page.wait_for_url("**/plan/**")
    expect(page.locator("tr[data-row]")).to_have_count(1)


def test_a_link_shows_a_colleague_the_same_thing(page, site):
    """The address alone brings back filters, sort and the open drawer; back undoes a step."""
    page.goto(f"{site.base}/targeting/terms?where=clicks:ge:10&sort=-clicks")
    page.locator("tr[data-row] .name").first.click()
    expect(page.locator("#drawer svg.luck")).to_be_visible()
    name = page.locator("#drawer h2").inner_text()
    address = page.url
    page.goto("about:blank")
    page.goto(address)
    expect(page.locator("#drawer h2")).to_have_text(name)
    expect(page.locator("#drawer svg.luck")).to_be_visible()
    expect(page.locator(".chip")).to_have_count(1)
    page.locator(".chip").click()
    expect(page.locator(".chip")).to_have_count(0)
    page.go_back()
    expect(page.locator(".chip")).to_have_count(1)


def test_rows_are_selected_and_accepted_by_keyboard(page, site, empty_plan):
    """x selects, A shows what is proposed, Enter accepts it, the notice takes it back."""
    page.goto(f"{site.base}/targeting/targets?where=verdict:is:costly")
    for _ in range(3):
        page.keyboard.press("j")
        page.keyboard.press("x")
    expect(page.locator(".picked")).to_contain_text("3 selected")
    page.keyboard.press("A")
    expect(page.locator("h1")).to_have_text("Preview: 3 targets")
    expect(page.get_by_role("button", name="Add 3 to plan")).to_be_focused()
    page.keyboard.press("Enter")
    expect(page.locator(".notice")).to_contain_text("3 changes added to the plan")
    expect(page.locator("#strip")).to_contain_text("3 changes")
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("#strip")).to_contain_text("0 changes")


COSTLY_TARGETS = "Targets above target ACOS"


def test_a_finding_is_opened_put_away_and_brought_back(page, site):
    page.goto(f"{site.base}/findings/")
    block = page.locator("section.finding", has_text=COSTLY_TARGETS)
    name = block.locator("tr[data-row] .name .text").first.inner_text()
    first = block.locator("tr[data-row]").first.get_attribute("data-row")
    rows = page.locator("tr[data-row]").evaluate_all("rows => rows.map(row => row.dataset.row)")
    for _ in range(rows.index(first) + 1):
        page.keyboard.press("j")
    page.keyboard.press("Enter")
    expect(page.locator("#drawer svg.luck")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.locator("#drawer")).to_be_hidden()
    assert "/findings/" in page.url
    page.keyboard.press("z")
    page.keyboard.press("z")
    block.get_by_label("forever").check()
    block.get_by_label("because").fill("known and wanted")
    block.get_by_role("button", name="Snooze").click()
    expect(page.locator("h2", has_text="Snooze")).to_be_visible()
    expect(page.locator(".block tbody")).to_contain_text("known and wanted")
    page.get_by_role("button", name=f"Bring back {name}").click()
    expect(page.locator(".notice")).to_contain_text("1 finding shown again")


def test_columns_and_a_view_of_ones_own(page, site):
    page.goto(f"{site.base}/targeting/terms")
    page.keyboard.press("c")
    page.get_by_role("link", name="evidence", exact=True).click()
    expect(page.locator("thead")).to_contain_text("needed CVR")
    page.keyboard.press("v")
    page.get_by_label("save filters").fill("my evidence")
    page.get_by_role("button", name="Keep", exact=True).click()
    page.goto(f"{site.base}/targeting/terms")
    page.keyboard.press("v")
    page.get_by_role("link", name="my evidence").click()
    expect(page.locator("thead")).to_contain_text("needed CVR")


def test_the_scope_bar_offers_names_and_narrows(page, site):
    page.goto(f"{site.base}/targeting/targets")
    page.locator(".scope summary", has_text="campaign").click()
    expect(page.locator("#all-campaign option")).not_to_have_count(0)
    name = page.locator("#all-campaign option").nth(3).get_attribute("value")
    page.get_by_label("campaign", exact=True).fill(name)
    page.keyboard.press("Enter")
    expect(page.locator(".scope")).to_contain_text(name)
    expect(page.locator("tbody .where").first).to_contain_text(name)


def test_choosing_a_metric_changes_what_it_can_be_compared_with(page, site):
    page.goto(f"{site.base}/targeting/targets")
    page.keyboard.press("/")
    page.get_by_label("Metric").select_option("verdict")
    expect(page.get_by_label("Value").last).to_be_visible()
    page.get_by_label("Value").last.select_option("too early to tell")
    page.get_by_role("button", name="Add").click()
    expect(page.locator(".chip", has_text="verdict is too early to tell")).to_be_visible()
    expect(page.locator("tbody .mark.above")).to_have_count(0)


def test_another_brand_and_window_by_the_scope_bar(page, site):
    page.goto(f"{site.base}/pulse/")
    page.locator(".scope summary").first.click()
    page.get_by_role("link", name="Pellwick, GB GBP").click()
    page.wait_for_url("**account=pellwick-gb**")
    expect(page.locator(".scope")).to_contain_text("25 %")
    page.keyboard.press("w")
    page.get_by_role("link", name="last 7 days").click()
    page.wait_for_url("**window=last-7**")
    last = LAST_DAY.replace(day=LAST_DAY.day - 3)
    expect(page.locator(".scope")).to_contain_text(f"{last.day} Nov")


def test_from_a_weak_metric_to_its_product_and_why_by_keyboard(page, site):
    """Standing → products, sorted by the weak metric → the drawer → its trend, without a mouse."""
    page.goto(f"{site.base}/standing/products?account=fernhollow-de&window=last-20&sort=cvr")
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    drawer = page.locator("#drawer")
    expect(drawer).to_contain_text("CVR:")
    expect(drawer).to_contain_text("Why its ACOS moved")
    assert "open=" in page.url
    page.keyboard.press("Escape")
    expect(drawer).to_be_hidden()
    page.keyboard.press("]")
    page.wait_for_url("**/movement/**")


def test_an_arrow_of_the_drift_chart_is_reached_and_opened_by_keyboard(page, site):
    page.goto(f"{site.base}/movement/drift?account=fernhollow-de&window=last-20")
    arrow = page.locator("a.arrow").first
    words = arrow.get_attribute("aria-label")
    arrow.focus()
    page.keyboard.press("Enter")
    expect(page.locator("#drawer h2")).to_have_text(words.partition(":")[0])
    expect(page.locator("a.arrow.here, tr.open")).not_to_have_count(0)


def test_labels_of_the_drift_chart_do_not_cover_each_other(page, site):
    page.goto(f"{site.base}/movement/drift?account=fernhollow-de&window=last-20&show=all")
    boxes = page.evaluate(
        "[...document.querySelectorAll('.arrow text.name, .acos-name')].map((e) => { const b ="
        " e.getBoundingClientRect(); return [b.left + 1, b.top + 3, b.right - 1, b.bottom - 3]; })"
    )
    assert len(boxes) > 10
    meet = [
        (one, other)
        for number, one in enumerate(boxes)
        for other in boxes[number + 1 :]
        if one[0] < other[2] and other[0] < one[2] and one[1] < other[3] and other[1] < one[3]
    ]
    assert meet == []


def test_an_audit_is_closed_and_the_next_one_says_what_changed(page, site):
    page.goto(f"{site.base}/findings/?account=fernhollow-de")
    page.get_by_role("button", name="Close this audit").click()
    expect(page.get_by_role("status")).to_contain_text("Audit closed")
    expect(page.locator(".answer")).to_contain_text("0 findings new")
    page.keyboard.press("p")
    page.wait_for_url("**/findings/report**")
    expect(page.get_by_role("heading", level=1)).to_contain_text("advertising report")
    page.go_back()
    page.get_by_role("button", name="reopen").click()
    expect(page.get_by_role("status")).to_contain_text("reopened")


VIEWS = {
    "targets": "/targeting/targets?where=acos:gt:28",
    "terms": "/targeting/terms",
    "pulse": "/pulse/",
    "intake": "/intake/",
    "findings": "/findings/",
    "plan": "/plan/",
    "words": "/targeting/words",
    "report": "/findings/report",
    "changes": "/movement/changes",
    "opened": "/findings/costly-targets",
    "accounts": "/accounts/",
    "settings": "/accounts/fernhollow-de",
    "people": "/people",
    "me": "/me",
    "trail": "/trail",
    "tree": "/standing/tree",
    "products": "/standing/products",
    "formats": "/standing/formats",
    "path": "/standing/path",
    "queries": "/standing/queries",
    "peers": "/standing/peers",
    "drift": "/movement/drift?window=last-20&show=all",
    "ledger": "/movement/ledger?window=last-20&metric=acos",
    "why": "/movement/why?window=last-20",
    "trends": "/movement/trends?whose=product:GL-STRIP-90CM",
    "shape": "/standing/shape",
    "families": "/catalog/families",
    "ads": "/catalog/ads",
    "eligibility": "/catalog/eligibility",
    "gaps": "/catalog/gaps",
    "listings": "/catalog/listings",
    "structure": "/catalog/structure",
    "duplicates": "/catalog/duplicates",
    "campaigns": "/targeting/campaigns",
    "ad groups": "/targeting/ad-groups",
    "notes": "/notes/",
    "labels": "/labels/",
    "names": "/catalog/names",
    "catch-all": "/catalog/catch-all",
    "placements": "/delivery/placements?by=campaign",
    "hours": "/delivery/hours",
    "budgets": "/delivery/budgets",
    "boosts": "/delivery/boosts?percent=20&from_hour=18&to_hour=22",
    "error": "/nowhere",
}


@pytest.mark.parametrize("view", VIEWS)
def test_axe_finds_nothing_serious(site, page, view):
    """Contrast, names, roles: on every view, in both schemes, with the drawer open."""
    if view == "error":
        page.route("**/nowhere", lambda route: route.fulfill(response=route.fetch(), status=200))
    page.goto(site.base + VIEWS[view])
    if view in ("targets", "terms", "words", "findings"):
        block = page.locator("section.finding", has_text=COSTLY_TARGETS)
        (block if view == "findings" else page).locator("tr[data-row] .name").first.click()
        page.wait_for_selector("#drawer svg.luck")
    if view in ("products", "drift", "ledger"):
        page.locator("tr[data-row] .name").first.click()
        page.wait_for_selector("#drawer .strips svg")
    if view in ("families", "ads", "gaps", "listings", "duplicates", "placements", "campaigns", "ad groups"):
        page.locator("tr[data-row] a.name").first.click()
        page.wait_for_selector("#drawer:not([hidden]) h3")
    # All rows of a table have the same markup: twelve are enough.
    page.evaluate("document.querySelectorAll('tbody tr:nth-of-type(n + 13)').forEach((row) => row.remove())")
    # In the dark scheme only colours differ. Reporting passes as well would take most of the time.
    for scheme, rules in (("light", {}), ("dark", {"runOnly": ["color-contrast"]})):
        page.emulate_media(color_scheme=scheme)
        found = Axe().run(page, options={"resultTypes": ["violations"], **rules})
        serious = [
            f"{scheme}: {each['id']}: {[node['html'][:120] for node in each['nodes'][:3]]}"
            for each in found.response["violations"]
            if each["impact"] in ("serious", "critical")
        ]
        assert serious == []


def test_the_page_is_usable_at_390_wide(page, site):
    """Nothing but the table's own frame scrolls sideways; the scope folds to one line and unfolds."""
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto(f"{site.base}/targeting/targets")
    page.locator("tr[data-row] .name").first.click()
    expect(page.locator("#drawer").get_by_role("button", name="Accept")).to_be_in_viewport()
    page.keyboard.press("Escape")
    expect(page.locator(".scope .part").first).to_be_hidden()
    page.locator(".fold").click()
    expect(page.locator(".scope .part").first).to_be_visible()
    wide = {}
    for name, address in VIEWS.items():
        if name == "error":
            continue
        page.goto(site.base + address)
        width = page.evaluate("document.documentElement.scrollWidth")
        if width > 390:
            wide[name] = width
    assert wide == {}


def test_what_a_column_means_is_said_on_focus(page, site):
    page.goto(f"{site.base}/targeting/targets")
    page.locator("th a", has_text="wasted").focus()
    page.keyboard.press("Shift+Tab")
    page.keyboard.press("Tab")
    expect(page.get_by_role("tooltip")).to_contain_text("likely spend above target")
    page.keyboard.press("Tab")
    expect(page.get_by_role("tooltip")).not_to_contain_text("overspend")


def test_the_keys_of_the_page_are_listed_first(page, site):
    page.goto(f"{site.base}/plan/")
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("Keys on this page")
    expect(page.get_by_role("dialog").locator("dl").first).to_contain_text("period")


def test_a_report_is_taken_in_wherever_on_the_page_it_falls(page, site):
    """Over Intake, beside the field for it, too; over another page it is said where, and the page stays."""

    def let_go(text):
        made = page.evaluate_handle(
            """(text) => {
                const carried = new DataTransfer();
                carried.items.add(new File([text], "beside.csv", { type: "text/csv" }));
                return carried;
            }""",
            text,
        )
        for what in ("dragover", "drop"):
            page.locator("h1").dispatch_event(what, {"dataTransfer": made})

    report = "day,campaign,impressions,clicks,spend,orders,sales\n2026-11-01,Plant stands,10,1,0.50,0,0\n"
    page.goto(f"{site.base}/pulse/")
    let_go(report)
    expect(page.locator(".notice.bad")).to_have_text("Reports are dropped under Intake.")
    page.goto(f"{site.base}/intake/?account=fernhollow-de")
    let_go(report)
    page.wait_for_url("**/intake/files/*")
    expect(page.locator("main")).to_contain_text("beside.csv")
