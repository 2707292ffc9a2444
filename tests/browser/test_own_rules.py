"""Own rules written in the browser: several conditions, an order, a preview; saved from a table's filters."""

from playwright.sync_api import expect

from nimbus_reef.store.people import accounts, plans, rules


def conditions(page, *wanted):
    for number, (metric, comparison, value) in enumerate(wanted, 1):
        page.get_by_label(f"Condition {number}: metric").select_option(metric)
        page.get_by_label(f"Condition {number}: comparison").select_option(comparison)
        page.get_by_label(f"Condition {number}: value").fill(value)


def save(page, action, value="", **chosen):
    page.locator("select[name=do]").select_option(action)
    page.locator("input[name=value]").fill(value)
    for name, choice in chosen.items():
        page.locator(f"select[name={name}]").select_option(choice)
    page.get_by_role("button", name="Save rule").click()
    expect(page.locator(".notice")).to_contain_text("Rule saved")


def test_two_rules_are_written_ordered_and_run(page, site, empty_plan):
    """Without an order: paused; above 60 % with ten clicks: cut by 20 %. A row follows the first rule it meets."""
    page.goto(f"{site.base}/rules/targets?account=fernhollow-de")
    conditions(page, ("acos", "ge", "60"), ("clicks", "ge", "10"))
    save(page, "bid by", "-20", none="above")
    conditions(page, ("orders", "eq", "0"), ("clicks", "ge", "10"), ("state", "is", "enabled"))
    save(page, "pause", every="7")
    rows = page.locator("tbody tr")
    expect(rows).to_have_count(2)
    follow = [int(text) for text in page.locator("tbody td:nth-child(4)").all_inner_texts()]
    page.get_by_label("Rule 2 up").click()
    expect(rows.first).to_contain_text("pause")
    after = [int(text) for text in page.locator("tbody td:nth-child(4)").all_inner_texts()]
    assert after[0] > follow[1], "what spent and sold nothing met both, and now follows the pause"
    page.keyboard.press("a")
    expect(page.locator("h1")).to_contain_text("Preview:")
    page.locator("[name=asked]").check() if page.locator("[name=asked]").count() else None
    page.locator("button[name=sure]").click()
    expect(page.locator(".notice")).to_contain_text("added to the plan")
    made = [each.change for each in plans.planned(site.demo.store, 1)]
    assert {each.field for each in made} == {"state", "bid"}
    assert all(each.reason.startswith("Own rule: ") for each in made)
    account = accounts.by_key(site.demo.store, "fernhollow-de")
    assert "targets" in rules.runs(site.demo.store, account.id)
    for number in (2, 1):
        page.goto(f"{site.base}/rules/targets?account=fernhollow-de")
        page.get_by_label(f"Remove rule {number}").click()
    expect(page.locator(".answer")).to_contain_text("No rules on targets yet")


def test_a_rule_begins_with_the_filters_of_its_table(page, site):
    page.goto(f"{site.base}/targeting/campaigns?account=fernhollow-de&where=verdict:is:above%20target&where=age:gt:30")
    page.get_by_role("link", name="rules").click()
    expect(page.get_by_label("Condition 1: value")).to_have_value("above target")
    expect(page.get_by_label("Condition 2: metric")).to_have_value("age")
    page.get_by_label("Condition 3: metric").select_option("state")
    assert "paused" in page.locator("#options-3 option").evaluate_all("each => each.map(o => o.value)")
