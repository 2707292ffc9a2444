"""
Takes one picture of each main view of a running demo into docs/screenshots/.

.venv/bin/python scripts/shots.py http://127.0.0.1:8800 PASSWORD [FOLDER] [NAME ...]
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from pathlib import Path

from playwright.sync_api import Page, ViewportSize, sync_playwright

CHROMIUM_ARGUMENTS = [
    "--no-sandbox",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
]
SIZE = ViewportSize(width=1280, height=800)


def sign_in(page: Page, base: str, password: str) -> None:
    """Signs the demo person in."""
    page.goto(f"{base}/sign-in")
    page.get_by_label("address").fill("demo@nimbus-reef.example")
    page.get_by_label("password").fill(password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/pulse/**")


def pulse(page: Page, base: str) -> None:
    """Every brand account."""
    page.goto(f"{base}/pulse/")
    page.wait_for_load_state("networkidle")


def findings(page: Page, base: str) -> None:
    """Everything found, two findings selected."""
    page.goto(f"{base}/findings/?account=fernhollow-de")
    for _ in range(2):
        page.keyboard.press("j")
        page.keyboard.press("x")


def targeting(page: Page, base: str) -> None:
    """Targets with much spend and few orders, one of them opened."""
    page.goto(f"{base}/targeting/targets?account=pellwick-gb&where=spend:ge:40&where=orders:le:2")
    page.locator("tr[data-row] .name").nth(2).click()
    page.wait_for_selector("#drawer svg")


def campaigns(page: Page, base: str) -> None:
    """Campaigns above target, the second opened."""
    page.goto(f"{base}/targeting/campaigns?account=fernhollow-de&where=verdict:is:above target")
    page.locator("tr[data-row] .name").nth(1).click()
    page.wait_for_selector("#drawer svg")


def reach(page: Page, base: str) -> None:
    """Phrases that were never bought, one of them opened."""
    page.goto(f"{base}/reach/phrases?account=fernhollow-de&where=status:is:proposed")
    page.locator("tr[data-row] .name").nth(2).click()
    page.wait_for_selector("#drawer svg")


def intake(page: Page, base: str) -> None:
    """Where files are dropped, and what is held."""
    page.goto(f"{base}/intake/")


def at(path: str, wait: str = "") -> Callable[[Page, str], None]:
    """A view at an address, once something stands on it; its first row opened where that is asked."""

    def go(page: Page, base: str) -> None:
        page.goto(f"{base}{path}")
        if wait:
            page.wait_for_selector(wait)

    return go


def families(page: Page, base: str) -> None:
    """Families, the first with a shift opened, in whichever days one is proposed."""
    for days in ("last-14", "last-30", "last-60", "last-90"):
        page.goto(f"{base}/catalog/families?account=fernhollow-de&window={days}")
        for name in page.locator("tr[data-row] a.name").all()[:12]:
            page.goto(f"{base}{name.get_attribute('href')}")
            if page.locator("#drawer .shifted").count():
                return
            page.go_back()


def finding(page: Page, base: str) -> None:
    """A finding opened as itself."""
    page.goto(f"{base}/findings/?account=fernhollow-de")
    page.locator(".finding a.name[href*='growth-not-worth']").first.click()
    page.wait_for_selector(".sides")


def plan(page: Page, base: str) -> None:
    """The plan with a few accepted changes."""
    page.goto(f"{base}/plan/")
    if page.locator("tr[data-row]").count() < 5:
        for view, where in (
            ("targets", "verdict:is:above target"),
            ("targets", "orders:eq:0"),
            ("terms", "orders:eq:0"),
        ):
            page.goto(f"{base}/targeting/{view}?where={where}")
            rows = page.locator("tr[data-row]")
            for row in [rows.nth(number).get_attribute("data-row") for number in (0, 2, 3)]:
                page.goto(f"{base}/targeting/{view}?where={where}&open={row}")
                accept = page.locator("#drawer").get_by_role("button", name="Accept")
                if accept.count():
                    accept.click()
                    page.locator("#drawer").get_by_text("In the plan").wait_for()
    page.goto(f"{base}/plan/")


_LONG = 240_000
"""Milliseconds for what a worker does."""


def sending(page: Page, base: str) -> None:
    """All bids that are proposed, sent: what the marketplace said to each row. Take it after the others."""
    page.goto(f"{base}/targeting/targets?account=fernhollow-de")
    page.wait_for_selector("tr[data-row]")
    for key in ("X", "A"):
        page.keyboard.press(key)
        page.wait_for_timeout(500)
    page.wait_for_selector(".sure")
    page.keyboard.press("a")
    page.wait_for_timeout(3_000)
    page.goto(f"{base}/plan/sendings/new?account=fernhollow-de")
    page.locator("[name=reason]").fill("First audit of this account")
    page.locator("form.sure button.solid").click()
    page.wait_for_selector(".answer b.loss", timeout=_LONG)


def outcome(page: Page, base: str) -> None:
    """What became of them seventeen days later, one opened. Take it after `sending`."""
    page.goto(f"{base}/marketplace/?account=fernhollow-de")
    page.get_by_label("Days").fill("17")
    page.get_by_role("button", name="Pass").click()
    page.wait_for_selector("tr:has-text('Targets by day') :text('loaded')", timeout=_LONG)
    page.wait_for_selector(".answer:has-text('All reports are loaded')", timeout=_LONG)
    page.wait_for_selector("progress", state="detached", timeout=_LONG)
    page.goto(f"{base}/outcome/?account=fernhollow-de")
    page.wait_for_selector(".sums", timeout=_LONG)
    page.locator("tr[data-row]:not(:has-text('paused')) .name").first.click()
    page.wait_for_selector("#drawer .outcome")


VIEWS = {
    "pulse": pulse,
    "findings": findings,
    "targeting": targeting,
    "reach": reach,
    "ranks": at("/reach/ranks?account=fernhollow-de&by=rival&where=category:is:Seed trays"),
    "intake": intake,
    "plan": plan,
    "standing": at("/standing/tree?account=fernhollow-de", ".tree svg"),
    "movement": at("/movement/drift?account=fernhollow-de", ".drift svg"),
    "families": families,
    "placements": at("/delivery/placements?account=fernhollow-de", "svg.solved"),
    "hours": at("/delivery/hours?account=pellwick-gb", ".grid-of-hours"),
    "campaigns": campaigns,
    "solver": at("/targeting/solver?account=fernhollow-de&category=Grow+lights&format=product", ".course svg"),
    "trends": at(
        "/movement/trends?account=fernhollow-de&whose=product:SW-20-SLATE&metric=spend,sales,cvr,acos&smooth=7",
        ".chart svg",
    ),
    "finding": finding,
    "report": at("/findings/report?account=fernhollow-de"),
    "sending": sending,
    "outcome": outcome,
}


def main(base: str, password: str, folder: str = "docs/screenshots", *names: str) -> None:
    """Takes the pictures."""
    target = Path(folder)
    target.mkdir(parents=True, exist_ok=True)
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path="/usr/bin/chromium-headless-shell", args=CHROMIUM_ARGUMENTS)
        page = browser.new_page(viewport=SIZE)
        page.on("console", lambda message: print(message.type, message.text) if message.type == "error" else None)
        page.on("pageerror", lambda problem: print("error", problem))
        sign_in(page, base, password)
        for name in names or VIEWS:
            page.set_viewport_size(SIZE)
            VIEWS[name](page, base)
            page.wait_for_timeout(400)
            page.screenshot(path=target / f"{name}.png")
        browser.close()


if __name__ == "__main__":
    main(*sys.argv[1:])
