"""
From an empty installation to the change sheet, and somebody invited: no command line, by keyboard
where one types.
"""

import os
import re
import signal
import subprocess
import sys
import time
from datetime import timedelta

import pytest
from playwright.sync_api import expect
from tests.conftest import LAST_DAY, port_from

from nimbus_reef.sim import brand, shapes
from nimbus_reef.sim.vocabulary import FERNHOLLOW

pytestmark = [pytest.mark.browser, pytest.mark.fault]
FIRST, LAST = LAST_DAY - timedelta(days=32), LAST_DAY - timedelta(days=3)


@pytest.fixture(scope="module")
def printed(tmp_path_factory):
    """The link that a start on an empty folder prints."""
    folder = tmp_path_factory.mktemp("empty")
    environment = os.environ | {
        "REEF_VAR": str(folder),
        "REEF_PORT": str(port_from(9100)),
        "REEF_DATABASE_PORT": str(port_from(3900)),
        "REEF_SIGN_IN_LIMIT": "1000 per minute",
        "PYTHONPATH": os.pathsep.join(sys.path),
    }
    log = folder / "up.log"
    with log.open("wb") as file:
        up = subprocess.Popen(
            [sys.executable, "-m", "nimbus_reef", "up"],
            env=environment,
            stdout=file,
            stderr=file,
            start_new_session=True,
        )
    end = time.monotonic() + 300
    while b"Ctrl-C stops it" not in log.read_bytes():
        assert up.poll() is None, log.read_text()
        assert time.monotonic() < end, log.read_text()
        time.sleep(0.2)
    yield re.search(r"http://\S+/set-up/\S+", log.read_text())[0]
    os.killpg(up.pid, signal.SIGINT)
    up.wait(timeout=30)


@pytest.fixture
def visitor(chromium):
    """A browser that nobody has used."""
    context = chromium.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
    made = context.new_page()
    errors = []
    made.on("pageerror", lambda problem: errors.append(str(problem)))
    yield made
    context.close()
    assert errors == []


def fill(page, *texts):
    """Types one field after the other, Tab between them."""
    for text in texts:
        page.keyboard.type(text)
        page.keyboard.press("Tab")


def test_from_the_printed_link_to_the_sheet_and_an_analyst_at_work(printed, visitor, chromium, tmp_path):
    page, base = visitor, printed.partition("/set-up/")[0]
    page.goto(base)
    expect(page.get_by_text("Open the link that the application printed")).to_be_visible()

    page.goto(printed)
    expect(page.get_by_label("your name")).to_be_focused()
    fill(
        page, "Ann Owner", "ann@example.com", "a long password", "a long password", "Harbour Kiln", "Tidemarkt", "Germ"
    )
    page.keyboard.press("Tab")
    page.keyboard.type("28")
    page.keyboard.press("Enter")
    page.wait_for_url("**/intake/**")
    expect(page.get_by_text("wasted search terms with what a negative would also stop")).to_be_visible()

    path = tmp_path / f"search terms {FIRST} to {LAST}.csv"
    frames = brand.simulate(FERNHOLLOW, 9, 34, LAST_DAY).frames
    shapes.undated(frames["search_term_daily"], FIRST, LAST).write_csv(path)
    page.set_input_files("input[type=file]", path)
    page.wait_for_url("**/intake/files/*")
    expect(page.locator("input[name=first]")).to_have_value(FIRST.isoformat())
    page.keyboard.press("a")
    job = page.locator(".job", has_text=path.name).first
    expect(job).to_contain_text("✓ Search terms by day", timeout=30_000)
    expect(page.get_by_label("Search terms by day: possible, open it")).to_be_visible()

    while page.locator("h1").inner_text() != "Findings":
        before = page.locator("h1").inner_text()
        page.keyboard.press("]")
        expect(page.locator("h1")).not_to_have_text(before)
    page.locator("a.itself", has_text="Wasted search terms").focus()
    page.keyboard.press("Enter")
    expect(page.locator("h1")).to_have_text("Wasted search terms")
    count = int(page.get_by_role("button", name="Accept all").inner_text().split()[2])
    assert count > 3
    page.keyboard.press("A")
    expect(page.locator("h1")).to_contain_text("Preview")
    page.keyboard.press("Enter")
    expect(page.locator(".notice")).to_contain_text(f"{count} changes added to the plan")
    page.get_by_role("link", name="Open plan").focus()
    page.keyboard.press("Enter")
    expect(page.locator("h1")).to_have_text("Plan")
    with page.expect_download() as download:
        page.get_by_role("link", name="Sheet as CSV").click()
    lines = download.value.path().read_text().splitlines()
    assert len(lines) == count + 1

    page.get_by_role("link", name="Settings").click()
    page.get_by_role("link", name="People").click()
    expect(page.get_by_role("button", name="Create link")).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("bo@example.com")
    page.get_by_label("Harbour Kiln, for this person").check()
    page.get_by_role("button", name="Create link").click()
    link = page.locator(".link").input_value()
    assert link.startswith(base)

    context = chromium.new_context(viewport={"width": 1280, "height": 800})
    guest = context.new_page()
    guest.goto(link)
    expect(guest.get_by_label("your name")).to_be_focused()
    fill(guest, "Bo", "another long one", "another long one")
    guest.keyboard.press("Enter")
    guest.wait_for_url("**/targeting/**")
    expect(guest.locator("tr[data-row]").first).to_be_visible()
    guest.goto(f"{base}/me")
    for label, text in (
        ("present", "another long one"),
        ("new, at least", "a third long one"),
        ("repeat new password", "a third long one"),
    ):
        guest.get_by_label(label).fill(text)
    guest.keyboard.press("Enter")
    expect(guest.locator(".notice")).to_contain_text("Password saved")
    context.close()
    page.goto(f"{base}/trail?what=password+changed")
    expect(page.locator("tbody")).to_contain_text("Bo")
