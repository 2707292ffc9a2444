"""A new account, from its marketplace to an outcome: linked, audited, sent, mended, sent again, judged, taken back."""

import re
from datetime import timedelta

import pytest
from playwright.sync_api import expect
from tests.browser.conftest import lent_account
from tests.marketplaces import LAST, running

from nimbus_reef.core.changes import ChangeState
from nimbus_reef.store.people import plans, sendings

KEY = "fern-loop"
LONG = 240_000
"""Milliseconds for what a worker does: sixty days of reports are loaded."""


@pytest.fixture
def there(site, tmp_path):
    """An empty account, and a marketplace that has sixty days of it."""
    with running(tmp_path / "market") as service, lent_account(site, KEY, "EUR") as account:
        yield service, account


def test_from_a_link_to_an_outcome_and_back(page, site, there, empty_plan):
    """By the pages alone: nothing is loaded by hand, and what the marketplace refuses is mended and sent again."""
    service, account = there
    store = site.demo.store
    here = f"account={KEY}"
    page.goto(f"{site.base}/marketplace/?{here}")
    page.get_by_label("address").fill(service.url)
    page.get_by_label("client").fill(service.client.key)
    page.get_by_label("secret").fill(service.client.secret)
    page.get_by_role("button", name="Save").click()
    expect(page.locator(".answer")).to_contain_text("All reports are loaded", timeout=LONG)

    page.goto(f"{site.base}/targeting/targets?{here}")
    expect(page.locator("tr[data-row]").first).to_be_visible(timeout=LONG)
    page.keyboard.press("X")
    page.keyboard.press("A")
    expect(page.locator("h1")).to_contain_text("Preview")
    page.keyboard.press("a")
    expect(page.locator("#strip")).not_to_contain_text("0 changes", timeout=LONG)

    page.goto(f"{site.base}/plan/?{here}")
    page.keyboard.press("t")
    expect(page.locator("h1")).to_have_text("Send changes")
    page.get_by_label("Reason for sending it anyway").fill("the first audit")
    page.keyboard.press("Enter")
    expect(page.locator(".answer")).to_contain_text("failed", timeout=LONG)
    expect(page.locator("td.words .loss").first).to_have_text("The lowest bid is 0.10.")
    failed = [each for each in plans.planned(store, account.id) if each.state is ChangeState.FAILED]
    sheet = page.url
    page.get_by_role("link", name="Fix them in the plan").click()
    for each in failed:
        page.locator(f"#value-{each.id}").fill("0.10")
        with page.expect_response(re.compile("/value$")):
            page.locator(f"#value-{each.id}").press("Enter")
        # The page as it came back, not what was typed.
        expect(page.locator(f"input[name=was-new_value][value='0.10'] ~ #value-{each.id}")).to_be_visible()
    page.goto(sheet)
    page.keyboard.press("a")
    expect(page.locator("h1")).to_have_text("Send changes")
    page.keyboard.press("a")
    expect(page.locator(".answer")).to_contain_text(re.compile("All .* done"), timeout=LONG)
    assert plans.planned(store, account.id) == []
    assert len(service.record.events([service.client.key])) == 2, "each sheet arrived once"

    page.goto(f"{site.base}/marketplace/?{here}")
    page.get_by_label("Days").fill("17")
    page.get_by_role("button", name="Pass").click()
    last = LAST + timedelta(days=17)
    expect(page.locator("tr", has_text="Targets by day")).to_contain_text(str(last), timeout=LONG)
    expect(page.locator(".answer")).to_contain_text("All reports are loaded", timeout=LONG)

    page.goto(f"{site.base}/outcome/?{here}")
    expect(page.locator(".sums")).to_contain_text("Profit after ads", timeout=LONG)
    expect(page.locator(".answer").first).to_contain_text("promised")
    page.get_by_role("link", name=re.compile("^did not")).click()
    expect(page.locator(".judge [aria-current]")).to_contain_text("did not")
    expect(page.locator(".chip", has_text="did not")).to_be_visible()
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    expect(page.locator("#drawer")).to_contain_text("Why it was proposed")
    page.goto(f"{site.base}/outcome/sheets?{here}")
    first = sendings.sendings(store, account.id)[-1]
    sent = page.locator(".block", has_text="Sent before a first audit was closed")
    expect(sent.get_by_role("link", name=f"sheet {first.id + 1},")).to_be_visible()
    page.goto(f"{site.base}/plan/sendings/{first.id}?{here}")
    page.keyboard.press("b")
    expect(page.locator(".notice")).to_contain_text("added to the plan")
    carried_out = {each.change.row: each.change for each in sendings.changes_of(store, first.id)}
    back = plans.planned(store, account.id)
    assert back
    assert {each.change.finding for each in back} == {"taken back"}
    values = {(each.change.target, each.change.old_value, each.change.new_value) for each in back}
    assert values <= {(each.target, each.new_value, each.old_value) for each in carried_out.values()}
