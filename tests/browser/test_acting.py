"""
Acting where one stands: own actions on many rows, causes set back, negatives with what else they
stop; steps counted.
"""

import pytest
from playwright.sync_api import expect

from nimbus_reef.core.model import Verdict
from nimbus_reef.store.people import plans


def test_bids_above_target_are_cut_by_an_own_action(page, site, empty_plan, counted):
    """Over 30 % and ten clicks: bids cut by 20 %, all of it by keyboard."""
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    counted.press("/")
    expect(page.get_by_label("Metric")).to_be_focused()
    counted.press("Tab", "Tab")
    counted.type("30")
    counted.press("Enter")
    expect(page.locator(".chip", has_text="ACOS > 30 %")).to_be_visible()
    counted.press("/")
    expect(page.get_by_label("Metric")).to_be_focused()
    counted.type("cl")
    counted.press("Tab", "ArrowDown", "Tab")
    counted.type("10")
    counted.press("Enter")
    expect(page.locator(".chip", has_text="clicks ≥ 10")).to_be_visible()
    counted.press("X")
    expect(page.locator(".picked")).to_be_visible()
    counted.press("t")
    expect(page.get_by_label("Action")).to_be_focused()
    page.get_by_label("Action").select_option("bid by")
    counted.press("Tab")
    counted.type("-20")
    counted.press("Enter")
    expect(page.locator(".answer")).to_contain_text("bids lowered")
    assert plans.planned(site.demo.store, 1) == [], "nothing is done before it was seen"
    counted.press("Enter")
    expect(page.locator(".notice")).to_contain_text("added to the plan")
    made = [each.change for each in plans.planned(site.demo.store, 1)]
    assert {each.field for each in made} == {"bid"}
    for each in made:
        assert float(each.new_value) == pytest.approx(float(each.old_value) * 0.8, abs=0.006)
    assert counted.count <= 24
    expect(page.locator("tr[data-row]", has_text="in the plan").first).to_be_visible()


def test_from_the_price_per_click_to_the_raises_of_a_day_set_back_in_six_clicks(page, site, empty_plan):
    clicks = 0

    def click(found):
        nonlocal clicks
        found.click()
        clicks += 1

    page.goto(f"{site.base}/movement/why?account=fernhollow-de")
    click(page.locator(".steps a", has_text="CPC"))
    click(page.locator(".by-day a").first)
    expect(page.locator(".chip")).to_be_visible()
    day = page.locator(".chip").inner_text().split()[0]
    rows = page.locator("tr[data-row]").count()
    click(page.get_by_label("Select this page"))
    click(page.get_by_role("button", name="Undo selected"))
    expect(page.locator("h1")).to_contain_text("to undo: preview")
    click(page.get_by_role("button", name="to plan"))
    expect(page.locator(".notice")).to_contain_text("added to the plan")
    made = plans.planned(site.demo.store, 1)
    assert 0 < len(made) <= rows
    assert all(float(each.change.new_value) < float(each.change.old_value) for each in made), f"raises of {day}"
    assert clicks <= 6


def test_negatives_show_every_other_search_that_they_stop(page, site, empty_plan):
    """Terms with ten clicks and no order, as phrases: what else goes is seen before."""
    page.goto(f"{site.base}/targeting/terms?account=fernhollow-de&where=clicks:ge:10&where=orders:eq:0")
    page.keyboard.press("X")
    page.keyboard.press("t")
    page.get_by_label("Action").select_option("negative phrase")
    page.keyboard.press("Enter")
    expect(page.locator(".answer")).to_contain_text("Their negatives also stop")
    page.locator("summary", has_text="Other searches the negatives block").click()
    expect(page.locator("details.block li").first).to_be_visible()
    page.locator("button[name=sure]").focus()
    page.keyboard.press("Enter")
    expect(page.locator(".notice")).to_contain_text("added to the plan")
    kinds = {each.change.match_type for each in plans.planned(site.demo.store, 1)}
    assert "negative_phrase" in kinds
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("#strip")).to_contain_text("0 changes")


def test_a_proposal_is_taken_on_its_row_and_the_plan_is_worked_in(page, site, empty_plan):
    """a on a row; on the plan select, take out, undo, type a value and leave the field."""
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de&where=verdict:is:fine&where=orders:gt:0")
    expect(page.locator("tr[data-row] .take").first).to_be_visible()
    for number in range(2):
        page.keyboard.press("j")
        page.keyboard.press("a")
        expect(page.locator("tr[data-row]").nth(number)).to_contain_text("in the plan")
    expect(page.locator("#strip")).to_contain_text("2 changes")
    page.get_by_role("link", name="Open plan").click()
    expect(page.get_by_role("heading", name="Plan")).to_be_visible()
    page.keyboard.press("j")
    page.keyboard.press("x")
    page.keyboard.press("Delete")
    expect(page.locator("#strip")).to_contain_text("1 change")
    page.keyboard.press("u")
    expect(page.locator("#strip")).to_contain_text("2 changes")
    field = page.locator("input[name=new_value]").first
    field.fill("0.21")
    page.locator("h1").click()
    expect(page.locator("input[name=new_value]").first).to_have_value("0.21")
    page.locator("input[name=new_value]").first.fill("9.00")
    page.keyboard.press("Enter")
    expect(page.locator("h1")).to_have_text("Is this intended?")
    page.get_by_role("link", name="No, keep").click()
    expect(page.locator("input[name=new_value]").first).to_have_value("0.21")


def test_a_whole_finding_is_accepted_with_one_key_and_undone_with_one(page, site, empty_plan):
    page.goto(f"{site.base}/findings/?account=fernhollow-de")
    page.locator(".finding a.name[href*='with-its-product']").first.click()
    expect(page.locator("h1")).to_contain_text("products above target ACOS on all their targets")
    count = int(page.get_by_role("button", name="Accept all").inner_text().split()[2])
    assert count > 1
    page.keyboard.press("A")
    expect(page.locator("h1")).to_contain_text("Preview")
    page.keyboard.press("Enter")
    expect(page.locator(".notice")).to_contain_text(f"{count} changes added to the plan")
    page.get_by_role("button", name="Undo").click()
    expect(page.locator("#strip")).to_contain_text("0 changes")


def test_what_is_selected_stays_so_over_pages_and_goes_into_the_plan_together(page, site, empty_plan):
    """
    Selected on two pages, told on both, forgotten with other filters, acted on at once, and cleared
    when it was done.
    """
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    picks, count = page.locator("tbody input.pick"), page.locator(".picked b")
    picks.first.check()
    page.get_by_role("link", name="next →").click()
    expect(page.locator("nav[aria-label=Pages]")).to_contain_text("page 2")
    expect(count).to_have_text("1 selected, 1 of them on other pages")
    picks.nth(1).check()
    expect(count).to_have_text("2 selected, 1 of them on other pages")
    page.get_by_role("link", name="← previous").click()
    expect(picks.first).to_be_checked()
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de&where=clicks:ge:5")
    expect(page.locator(".picked")).to_be_hidden()
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de&page=2")
    expect(count).to_have_text("2 selected, 1 of them on other pages")
    page.keyboard.press("A")
    expect(page.locator(".answer, .notice").first).to_be_visible()
    expect(page.locator("main")).to_contain_text("2 targets")
    page.go_back()
    expect(count).to_contain_text("2 selected")
    page.get_by_role("button", name="clear").click()
    expect(page.locator(".picked")).to_be_hidden()
    page.reload()
    expect(page.locator(".picked")).to_be_hidden()


def test_a_verdict_says_what_it_means_on_focus(page, site):
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    said = page.locator("tbody td.words span[title]").first
    assert "Chance of being above target" in said.get_attribute("title")
    page.locator("a.name").first.click()
    told = page.locator(".drawer figcaption span[title]")
    told.focus()
    page.keyboard.press("Shift+Tab")
    page.keyboard.press("Tab")
    expect(page.locator("#tip")).to_contain_text("Chance of being above target")


def test_a_proposal_for_a_row_that_is_gone_by_now_goes_nowhere(page, site, empty_plan):
    """
    As where the rows changed while the cells were on their way; the others find theirs, and nothing is said to be
    wrong.
    """

    def with_one_more(route):
        answer = route.fetch()
        gone = '<template><td class="words offered" id="o999999999" hx-swap-oob="true">gone</td></template>'
        route.fulfill(response=answer, body=answer.text() + gone)

    page.route("**/targeting/targets/offers*", with_one_more)
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    expect(page.locator("td.offered button").first).to_be_visible()
    expect(page.locator("#o999999999")).to_have_count(0)


def test_a_key_held_down_undoes_one_step_and_not_those_before_it(page, site, empty_plan):
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    for count in (1, 2, 3):
        page.locator("button.take").first.click()
        expect(page.locator("#strip")).to_contain_text(f"{count} change")
    page.goto(f"{site.base}/plan/?account=fernhollow-de")
    for _ in range(6):
        page.keyboard.down("u")
        page.wait_for_timeout(150)
    page.keyboard.up("u")
    expect(page.locator(".notice")).to_contain_text("Undone: 1 change as before.")
    expect(page.locator("#strip")).to_contain_text("2 changes")
    page.keyboard.press("u")
    expect(page.locator("#strip")).to_contain_text("1 change")


def test_a_long_form_is_not_left_by_chance_with_something_typed_in_it(page, site):
    """The browser asks, once something differs; not where nothing was typed, and not for what was saved."""
    asked = []

    def stay(dialog):
        asked.append(dialog.type)
        dialog.dismiss()

    page.goto(f"{site.base}/accounts/fernhollow-de")
    page.once("dialog", stay)
    away = page.get_by_role("link", name="Accounts").first
    field = page.locator("form.settings input.figure").first
    before = field.input_value()
    field.fill("25")
    away.click(no_wait_after=True)
    page.wait_for_timeout(500)
    assert asked == ["beforeunload"]
    expect(field).to_have_value("25")
    page.once("dialog", stay)
    page.locator("form.settings button[type=submit]").first.click()
    expect(page.locator(".notice")).to_be_visible()
    away.click()
    page.wait_for_url("**/accounts/")
    assert len(asked) == 1
    page.goto(f"{site.base}/accounts/fernhollow-de")
    page.locator("form.settings input.figure").first.fill(before)
    page.locator("form.settings button[type=submit]").first.click()
    expect(page.locator(".notice")).to_be_visible()


@pytest.mark.parametrize("view", ["targets", "terms", "words"])
def test_all_that_are_filtered_by_each_verdict_are_accepted(page, site, empty_plan, view):
    """
    Select all, see what it does, do it: whatever the rows are judged, the page answers, and one
    step takes it back.
    """
    for verdict in Verdict:
        page.goto(f"{site.base}/targeting/{view}?account=fernhollow-de&where=verdict:is:{verdict.value}")
        if not page.locator("tr[data-row]").count():
            continue
        page.keyboard.press("X")
        page.keyboard.press("A")
        expect(page.locator("h1")).to_contain_text("Preview", timeout=60_000)
        if page.locator("button[name=sure]").count():
            if page.locator("input[name=asked]").count():
                page.locator("input[name=asked]").check()
            page.locator("button[name=sure]").click()
            expect(page.locator(".notice").first).to_contain_text("added to the plan", timeout=60_000)
            page.get_by_role("button", name="Undo").click()
        expect(page.locator("#strip")).to_contain_text("0 changes")


@pytest.mark.parametrize("path", ["/catalog/ads", "/delivery/placements?by=campaign", "/catalog/duplicates"])
def test_all_rows_of_a_page_are_selected_and_accepted_by_the_same_keys_elsewhere(page, site, empty_plan, path):
    page.goto(f"{site.base}{path}{'&' if '?' in path else '?'}account=fernhollow-de")
    expect(page.locator("tr[data-row] input.pick, tr[data-row] input[name=rows]").first).to_be_visible()
    page.keyboard.press("X")
    expect(page.locator("#bulk")).to_contain_text("selected")
    page.keyboard.press("A")
    expect(page.locator("h1")).to_contain_text("Preview", timeout=60_000)


def test_all_that_are_filtered_are_counted_as_all_of_them(page, site):
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de&where=clicks:ge:1")
    shown = page.locator(".totals b").first.inner_text()
    assert int(shown.replace(",", "")) > 100
    page.keyboard.press("X")
    expect(page.locator(".picked b")).to_have_text(f"{shown} selected")


def test_enter_adds_a_filter_of_words(page, site):
    page.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    page.keyboard.press("/")
    page.get_by_label("Metric").select_option("verdict")
    page.locator("select[name=value]").select_option("above target")
    page.locator("select[name=value]").press("Enter")
    expect(page.locator(".chip", has_text="above target")).to_be_visible()


def test_without_script_all_that_are_filtered_can_be_accepted(chromium, site, page, empty_plan):
    context = chromium.new_context(java_script_enabled=False, storage_state=page.context.storage_state())
    plain = context.new_page()
    plain.goto(f"{site.base}/targeting/targets?account=fernhollow-de&where=verdict:is:costly&where=orders:gt:3")
    expect(plain.locator("thead .pick")).to_be_hidden()
    plain.locator("input[name=all]").check()
    plain.get_by_role("button", name="Accept proposals").click()
    expect(plain.locator("h1")).to_contain_text("Preview")
    context.close()


def test_the_page_of_a_product_s_raises_does_not_narrow_the_pages_after_it(page, site):
    page.goto(f"{site.base}/standing/products?account=fernhollow-de")
    page.locator("tr[data-row] .name").first.click()
    page.locator("#drawer a", has_text="raises of its bids").click()
    expect(page.locator(".chip")).to_be_visible()
    page.locator("#rail a", has_text="Targeting").click()
    expect(page.locator(".scope .part", has_text="product").first).to_contain_text("all")


def test_own_actions_stay_on_a_narrow_screen_and_high_contrast_keeps_its_marks(chromium, site, page):
    context = chromium.new_context(viewport={"width": 390, "height": 844}, storage_state=page.context.storage_state())
    narrow = context.new_page()
    narrow.goto(f"{site.base}/targeting/targets?account=fernhollow-de")
    narrow.locator("tbody input.pick").first.check()
    for field in ("Action", "By or to"):
        box = narrow.get_by_label(field).bounding_box()
        assert box["x"] >= 0
        assert box["x"] + box["width"] <= 390
    context.close()
    context = chromium.new_context(forced_colors="active", storage_state=page.context.storage_state())
    plain = context.new_page()
    plain.goto(f"{site.base}/targeting/targets?account=fernhollow-de")

    def selection(css, value):
        return plain.locator(css).first.evaluate(f"each => getComputedStyle(each).{value}")

    assert selection(".rail .here .node", "backgroundColor") != selection(
        ".rail li:not(.here):not(.gone) .node", "backgroundColor"
    )
    assert "underline" in selection(".views a[aria-current]", "textDecorationLine")
    context.close()
