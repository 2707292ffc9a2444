"""A running site (web and worker processes on the demo database) and Chromium looking at it."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from urllib.parse import urlsplit

import pytest
from playwright.sync_api import Browser, Page, StorageState, expect, sync_playwright
from tests.conftest import Demo, port_from

from nimbus_reef.store.people import accounts, marketplace_links, plans
from nimbus_reef.store.people.accounts import Account

# A limit only ends what hangs: the machine that runs the tests may be busy.
expect.set_options(timeout=20_000)

CHROMIUM_ARGUMENTS = [
    "--no-sandbox",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    "--disable-gpu",
]


@dataclass
class Site:
    """Where the site runs, and its processes."""

    base: str
    demo: Demo
    environment: dict[str, str]
    processes: dict[str, subprocess.Popen[bytes]] = field(default_factory=dict)

    def start(self, name: str, *arguments: str) -> None:
        """Starts `reef` with these arguments."""
        self.processes[name] = subprocess.Popen(
            [sys.executable, "-m", "nimbus_reef", *arguments], env=self.environment, start_new_session=True
        )

    def kill(self, name: str) -> None:
        """kill -9, as a power cut would."""
        os.killpg(self.processes[name].pid, signal.SIGKILL)
        self.processes[name].wait()


@pytest.fixture(scope="session")
def site(demo: Demo) -> Iterator[Site]:
    port = port_from(8890)
    environment = os.environ | {
        "REEF_VAR": str(demo.config.var),
        "REEF_PORT": str(port),
        "REEF_WEB_WORKERS": "1",
        "REEF_LOG_LEVEL": "WARNING",
        "REEF_SIGN_IN_LIMIT": "1000 per minute",
        "PYTHONPATH": os.pathsep.join(sys.path),
    }
    # Their marketplace does not run here: a worker would only say so, on the pages of other tests.
    for link in marketplace_links.links(demo.store):
        marketplace_links.remove(demo.store, link.account_id, None)
    made = Site(f"http://127.0.0.1:{port}", demo, environment)
    made.start("web", "serve")
    made.start("worker", "worker")
    for _ in range(200):
        try:
            urllib.request.urlopen(f"{made.base}/alive", timeout=1).close()
            break
        except OSError:
            time.sleep(0.1)
    yield made
    for process in made.processes.values():
        process.terminate()
    for process in made.processes.values():
        process.wait(timeout=20)


@pytest.fixture(scope="session")
def chromium() -> Iterator[Browser]:
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=CHROMIUM_ARGUMENTS)
        yield browser
        browser.close()


@pytest.fixture(scope="session")
def signed_in(chromium: Browser, site: Site) -> StorageState:
    """What a browser keeps once somebody has signed in."""
    context = chromium.new_context()
    made = context.new_page()
    made.goto(f"{site.base}/sign-in")
    made.get_by_label("address").fill("demo@nimbus-reef.example")
    made.get_by_label("password").fill(site.demo.password)
    made.get_by_role("button", name="Sign in").click()
    made.wait_for_url("**/pulse/**")
    kept = context.storage_state()
    context.close()
    return kept


@pytest.fixture
def refused() -> list[str]:
    """Words of the errors that a test brings about by what it asks for."""
    return []


@pytest.fixture
def page(chromium: Browser, site: Site, signed_in: StorageState, refused: list[str]) -> Iterator[Page]:
    """
    A signed-in page at 1280×800. Whatever it does, it must log no error but what is refused, and
    ask no other host.
    """
    context = chromium.new_context(
        viewport={"width": 1280, "height": 800}, accept_downloads=True, storage_state=signed_in
    )
    made = context.new_page()
    errors: list[str] = []
    hosts: set[str] = set()
    made.on("console", lambda message: errors.append(message.text) if message.type == "error" else None)
    made.on("pageerror", lambda problem: errors.append(str(problem)))
    made.on("request", lambda request: hosts.add(urlsplit(request.url).netloc))
    yield made
    context.close()
    assert [text for text in errors if not any(words in text for words in refused)] == []
    assert hosts <= {urlsplit(site.base).netloc}


@contextmanager
def lent_account(site: Site, key: str, currency: str) -> Iterator[Account]:
    """An account for one test. It is archive afterwards, because other tests expect the two demo accounts only."""
    made = accounts.by_key(site.demo.store, key) or accounts.add(
        site.demo.store,
        key=key,
        brand_name="Fernhollow",
        marketplace="Tidemarkt",
        country="DE",
        currency=currency,
        locale="en_IE",
        timezone="Europe/Berlin",
        target_acos=0.28,
    )
    accounts.rest(site.demo.store, made.id, None, resting=False)
    yield made
    accounts.rest(site.demo.store, made.id, None, resting=True)


@pytest.fixture
def empty_plan(site):
    def clear():
        for account in accounts.all_accounts(site.demo.store):
            ids = [each.id for each in plans.planned(site.demo.store, account.id)]
            if ids:
                plans.remove_many(site.demo.store, account.id, 1, ids)

    clear()
    yield
    clear()


@pytest.fixture
def counted(page):
    """Presses keys, and knows how many."""

    class Keys:
        count = 0

        def press(self, *keys):
            for key in keys:
                page.keyboard.press(key)
                self.count += 1

        def type(self, text):
            self.press(*text)

        def filter(self, metric, value, *, chip):
            self.press("/")
            expect(page.get_by_label("Metric")).to_be_focused()
            self.type(metric)
            self.press("Tab", "Tab")
            self.type(value)
            self.press("Enter")
            expect(page.locator(".chip", has_text=chip)).to_be_visible()

    return Keys()
