"""The client's report as a file: a PDF where a Chromium is installed, else a page."""

from __future__ import annotations

import re
import shutil
import subprocess
import tempfile
from pathlib import Path
from typing import Final
from urllib.parse import urlencode

import click

from nimbus_reef import config
from nimbus_reef.cli import wiring
from nimbus_reef.errors import BadInput, NotFound

_BROWSERS: Final = ("chromium-headless-shell", "chromium", "chromium-browser", "google-chrome")
_STATIC: Final = Path(__file__).resolve().parent.parent / "web" / "static"
_SECONDS: Final = 120
_URL: Final = re.compile(r"url\((?!data:)[\"']?([^\"')]+)[\"']?\)")
_QUIET: Final = ("--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking")


def _browser() -> str:
    found = next((path for path in map(shutil.which, _BROWSERS) if path), None)
    if found is None:
        raise NotFound("No Chromium is installed.", remedy="Name a file that ends in .html, or print it in a browser.")
    return found


def by_itself(page: str, foot: str) -> str:
    """The page with its styles in it, so that it needs no server; scripts are left out."""
    page = re.sub(r"<script\b.*?</script>", "", page, flags=re.DOTALL)
    styles = "\n".join(each.read_text() for each in sorted(_STATIC.glob("*.css")))
    styles = re.sub(
        r"url\((?!data:)[\"']?([^\"')]+)[\"']?\)", lambda at: f"url('{(_STATIC / at[1]).as_uri()}')", styles
    )
    page = re.sub(r"<link\b[^>]*>", "", page)
    return page.replace("</head>", f"<style>{styles}\n{foot}</style></head>", 1)


@click.command()
@click.option("--account", "key", required=True, help="Key of the account.")
@click.option(
    "--output", "-o", type=click.Path(dir_okay=False, path_type=Path), required=True, help="Ends in .pdf or .html."
)
@click.option("--window", default="", metavar="DAYS", help="last-30, a month, or 2026-09-17..2026-10-16.")
@click.option("--annex", is_flag=True, help="With the audit in detail.")
@click.pass_obj
def report(conf: config.Config, key: str, output: Path, window: str, annex: bool) -> None:
    """Write the client's report of an account as a PDF or a page."""
    if output.suffix not in (".pdf", ".html"):
        raise BadInput(f"“{output.name}” ends in neither .pdf nor .html.", remedy="Name it so.")
    from nimbus_reef.cli import serving

    browser = _browser() if output.suffix == ".pdf" else ""
    asked = {"account": key, "window": window, "annex": "yes" if annex else ""}
    query = urlencode({name: value for name, value in asked.items() if value})
    with wiring.running_store(conf) as store:
        wiring.account(store, key)
        page, foot = serving.pages(conf, store, [f"/findings/report?{query}", f"/findings/report.css?{query}"])
    if not browser:
        output.write_text(by_itself(page, foot))
    else:
        with tempfile.TemporaryDirectory() as folder:
            source = Path(folder) / "report.html"
            source.write_text(by_itself(page, foot))
            printed = f"--print-to-pdf={output.resolve()}"
            subprocess.run(
                [browser, *_QUIET, "--no-pdf-header-footer", printed, source.as_uri()],
                check=True,
                capture_output=True,
                timeout=_SECONDS,
            )
    click.echo(f"{output} is written.")
