"""
Takes one picture of each main view of a running demo into docs/screenshots/.

.venv/bin/python scripts/shots.py http://127.0.0.1:8800 PASSWORD [FOLDER] [NAME ...]
"""

from __future__ import annotations

import os
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


def mapping(page: Page, base: str) -> None:
    """A workbook with strange headers, mapped but not loaded."""
    page.goto(f"{base}/intake/")
    page.set_input_files("input[type=file]", _sample("search-terms-as-others-write-them.xlsx"))
    page.wait_for_url("**/intake/files/*")


def _sample(name: str) -> Path:
    return Path(os.environ.get("REEF_VAR", "var")) / "demo" / "fernhollow-de" / name


def at(path: str, wait: str = "") -> Callable[[Page, str], None]:
    """A view at an address, once something stands on it; its first row opened where that is asked."""

    def go(page: Page, base: str) -> None:
        page.goto(f"{base}{path}")
        if wait:
            page.wait_for_selector(wait)

    return go


def families(page: Page, base: str) -> None:
    """Families, one with a shift opened."""
    page.goto(f"{base}/catalog/families?account=fernhollow-de&window=last-14")
    rows = page.locator("tr[data-row]", has_text="+").locator("a.name")
    rows.first.click()
    page.wait_for_selector("#drawer .shifted")


def finding(page: Page, base: str) -> None:
    """A finding opened as itself."""
    page.goto(f"{base}/findings/?account=fernhollow-de")
    page.locator(".finding a.name[href*='growth-not-worth']").first.click()
    page.wait_for_selector(".sides")


def preview(page: Page, base: str) -> None:
    """What is proposed on all that are filtered, before it is done."""
    page.goto(f"{base}/targeting/targets?account=fernhollow-de&where=acos:gt:30&where=clicks:ge:10")
    for key in ("X", "A"):
        page.keyboard.press(key)
        page.wait_for_timeout(200)
    page.wait_for_selector(".sure")


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


VIEWS = {
    "pulse": pulse,
    "findings": findings,
    "targeting": targeting,
    "reach": reach,
    "ranks": at("/reach/ranks?account=fernhollow-de&by=rival&where=category:is:Seed trays"),
    "intake": intake,
    "mapping": mapping,
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
    "preview": preview,
    "report": at("/findings/report?account=fernhollow-de"),
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
