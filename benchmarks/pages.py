"""Server time of every page on the account at size, and what one process holds after all of them.

REEF_VAR=/tmp/large .venv/bin/reef demo --size large
REEF_VAR=/tmp/large .venv/bin/python benchmarks/pages.py [--write]
"""

from __future__ import annotations

import os
import statistics
import sys
import time
from dataclasses import dataclass
from pathlib import Path

from flask.testing import FlaskClient

from nimbus_reef import config
from nimbus_reef.cli import demo, large, wiring
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.web.factory import make_app, quieten_collector

ROUNDS = 60
BROWSER = {"Accept-Encoding": "gzip, deflate, br, zstd"}
"""What browsers send, so that packing the page is part of its time."""
DOCUMENT = Path("docs/benchmarks.md")
HEADING = "## Pages at size"
PAGES = (
    "pulse/", "intake/", "standing/tree", "standing/products", "standing/formats", "standing/path", "standing/queries",
    "standing/shape", "movement/drift", "movement/drift?show=all", "movement/drift?by=keyword",
    "movement/ledger?metric=acos", "movement/ledger?by=campaign", "movement/why", "movement/trends", "pulse/mover",
    "movement/ledger?by=keyword", "targeting/targets", "targeting/terms", "targeting/words", "findings/", "plan/",
)  # fmt: skip


@dataclass(frozen=True)
class Taken:
    """
    Seconds of one page: the first time, then the middle and the 95th of a hundred of those after
    it; busy: the 95th of the processor's time, which a machine's other work does not lengthen.
    """

    page: str
    cold: float
    p50: float
    p95: float
    busy: float


def measure(client: FlaskClient, page: str) -> Taken:
    """Asks for a page again and again."""
    address = f"/{page}{'&' if '?' in page else '?'}account={large.SPEC.key}"
    taken, busy = [], []
    for _ in range(ROUNDS + 1):
        begun, worked = time.perf_counter(), time.process_time()
        assert client.get(address, headers=BROWSER).status_code == 200, page
        taken.append(time.perf_counter() - begun)
        busy.append(time.process_time() - worked)
    return Taken(page, taken[0], statistics.median(taken[1:]), _p95(taken[1:]), _p95(busy[1:]))


def _p95(values: list[float]) -> float:
    return statistics.quantiles(values, n=20)[-1]


def private_mb() -> int:
    """
    What this process holds for itself, in MB: memory without a file behind it. Libraries and day
    files are mapped, so that all workers share them and they give way when room is short.
    """
    lines = Path("/proc/self/smaps_rollup").read_text().splitlines()
    held = {line.split(":")[0]: int(line.split()[1]) for line in lines if line.endswith("kB")}
    return held["Anonymous"] // 1024


def section(taken: list[Taken], before: int, after: int) -> str:
    """The part of docs/benchmarks.md that this writes."""
    rows = [
        f"| `/{each.page}` | {each.cold:.2f} | {each.p50 * 1000:.0f} | {each.p95 * 1000:.0f} | {each.busy * 1000:.0f} |"
        for each in taken
    ]
    return "\n".join(
        [
            HEADING, "",
            f"`benchmarks/pages.py` on `reef demo --size large` (3,100 campaigns, 60,000 targets, 1,075 products, 90 days), "
            f"{ROUNDS} requests each after the first, packed for a browser, one process, windows of 30 days. "
            "Owed: p95 ≤ 60 ms from cached aggregates.", "",
            "| page | cold s | p50 ms | p95 ms | p95 of processor time, ms |", "|---|---|---|---|---|", *rows, "",
            f"Private memory of the process: {before} MB at its start (libraries, the application), {after} MB after all of "
            "these pages. Owed: ≤ 400 MB. What a worker keeps is bounded by bytes, so the first request after a large page "
            "may have to make a frame again.", "",
        ]
    )  # fmt: skip


def main() -> None:
    """Prints the section; with --write puts it at the end of the document."""
    conf = config.load(dict(os.environ))
    with wiring.running_store(conf) as store:
        app = make_app(conf, store, make_queue(conf, store), secret_key="x", testing=True)
        app.config["WTF_CSRF_ENABLED"] = False
        client = app.test_client()
        client.post("/sign-in", data={"email": demo.DEMO_EMAIL, "password": demo.password(conf)})
        quieten_collector()
        before = private_mb()
        text = section([measure(client, page) for page in PAGES], before, private_mb())
    print(text)
    if "--write" in sys.argv:
        DOCUMENT.write_text(DOCUMENT.read_text().partition(HEADING)[0].rstrip() + "\n\n" + text)


if __name__ == "__main__":
    main()
