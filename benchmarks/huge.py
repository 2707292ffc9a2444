"""The account of ten times the size: how large it is, how long its usual days take to judge, and what its pages cost.

REEF_VAR=/tmp/huge .venv/bin/reef demo --size huge
REEF_VAR=/tmp/huge PYTHONPATH=src:. .venv/bin/python benchmarks/huge.py [--write]
"""

from __future__ import annotations

import os
import resource
import statistics
import subprocess
import sys
import time
from datetime import timedelta
from pathlib import Path
from typing import Final

from flask.testing import FlaskClient
from sqlalchemy import text

from benchmarks.pages import DOCUMENT, HEADING, PAGES, Peak, address, ask, settled_mb
from nimbus_reef import config
from nimbus_reef.analysis import ahead
from nimbus_reef.analysis.judged import Judged, is_judged
from nimbus_reef.cli import demo, large, wiring
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.people import accounts, target_acos
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.engine import Store
from nimbus_reef.web.factory import compile_templates, make_app, quieten_collector

OWN: Final = "## Ten times the size"
ROUNDS = 15
OTHER = (
    "targeting/targets",
    "targeting/terms",
    "findings/",
    "catalog/families",
    "catalog/ads",
    "delivery/placements",
    "delivery/hours",
)


def _megabytes(folder: Path) -> int:
    return sum(file.stat().st_size for file in folder.rglob("*") if file.is_file()) >> 20


def _rows(store: Store, account_id: int) -> dict[str, int]:
    with store.read() as connection:
        cursor = connection.execute(
            text("SELECT kind, SUM(`rows`) AS held FROM day_version WHERE account_id = :account GROUP BY kind"),
            {"account": account_id},
        )
        return {row.kind: int(row.held) for row in cursor}


def _judged(facts: Facts, account: Account, store: Store) -> str:
    """Which of the usual days are judged."""
    usual = ahead.selections(facts, account, target_acos.aims(store, account))
    return (
        ", ".join(f"{selection.window.days} days" for selection in usual if is_judged(facts, selection, Judged.TERMS))
        or "none"
    )


def _warm(client: FlaskClient, page: str) -> tuple[float, float]:
    taken = [ask(client, address(page, large.HUGE.key))[0] for _ in range(ROUNDS)]
    return statistics.median(taken), max(taken)


def main() -> None:
    """Prints the section; with --write puts it into the document, before the pages of the account at size."""
    conf = config.load(dict(os.environ))
    with wiring.running_store(conf) as store:
        account = accounts.by_key(store, large.HUGE.key)
        assert account is not None, "run `reef demo --size huge` first"
        begun = time.perf_counter()
        subprocess.run([sys.executable, "-m", "benchmarks.judge_ahead"], check=True)
        judged = time.perf_counter() - begun
        most = resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss >> 10
        worker = subprocess.Popen([sys.executable, "-m", "nimbus_reef", "worker", "--wait"])
        app = make_app(conf, store, make_queue(conf, store), secret_key="x", testing=True)
        client = app.test_client()
        app.config["WTF_CSRF_ENABLED"] = False
        client.post("/sign-in", data={"email": demo.DEMO_EMAIL, "password": demo.password(conf)})
        quieten_collector()
        compile_templates(app)
        ask(client, address("plan/", large.HUGE.key))
        newest = app.extensions["reef"].facts.newest_day(account.id)
        assert newest is not None
        usual = _judged(app.extensions["reef"].facts, account, store)
        peak = Peak()
        firsts = {page: ask(client, address(page, large.HUGE.key))[0] for page in PAGES}
        at_first = peak.taken()
        warm = {page: _warm(client, page) for page in PAGES}
        lines = [
            f"| `/{page}` | {firsts[page] * 1000:.0f} | {warm[page][0] * 1000:.0f} | {warm[page][1] * 1000:.0f} |"
            for page in PAGES
        ]
        peak.taken()
        last = newest - timedelta(days=4)
        others = []
        for number, page in enumerate(OTHER):
            days = f"&window={last - timedelta(days=29 - number)}..{last}"
            first, second = (
                ask(client, address(page, large.HUGE.key) + days + more)[0] for more in ("", "&answer=second")
            )
            others.append(f"| `/{page}` | {first:.1f} | {second:.1f} | {peak.taken()} |")
        worker.terminate()
        worker.wait()
        rows = _rows(store, account.id)
        words = "\n".join(
            [
                OWN,
                "",
                (
                    f"`benchmarks/huge.py` on `reef demo --size huge`: {sum(rows.values()):,} rows, of them"
                    f" {rows['search_term_daily']:,} of search terms and {rows['target_daily']:,} of targets, 90 days."
                    f" The record takes {_megabytes(conf.var / 'mariadb'):,} MB, day files"
                    f" {_megabytes(conf.snapshots):,} MB, what was worked out {_megabytes(conf.judged):,} MB. A worker"
                    f" judges the usual days ahead for {judged:.0f} s, as many as find room in"
                    f" {conf.judged_bytes >> 20:,} MB ({usual}), with {most:,} MB at its peak."
                ),
                "",
                (
                    "First: in a process that has the usual days from the worker; then the middle and the slowest of"
                    f" {ROUNDS}. The process held {at_first} MB for itself at its peak meanwhile, {settled_mb()} MB at"
                    " the end of all."
                ),
                "",
                "| page | first ms | p50 ms | slowest ms |",
                "|---|---|---|---|",
                *lines,
                "",
                "Days that nobody asked for, a worker on call:",
                "",
                "| page | first answer s | then with verdicts s | peak MB of the web process |",
                "|---|---|---|---|",
                *others,
                "",
            ]
        )
    print(words)
    if "--write" in sys.argv:
        before, pages, after = DOCUMENT.read_text().partition(HEADING)
        DOCUMENT.write_text(before.partition(OWN)[0].rstrip() + "\n\n" + words + "\n" + pages + after)


if __name__ == "__main__":
    main()
