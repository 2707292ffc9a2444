"""Server time of every page on the account at size, judged ahead by a worker, and what one process holds at its true
peak.

REEF_VAR=/tmp/large .venv/bin/reef demo --size large
REEF_VAR=/tmp/large .venv/bin/python benchmarks/pages.py [--write]
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from pathlib import Path

import polars as pl
from flask.testing import FlaskClient

from benchmarks import windows
from nimbus_reef import config
from nimbus_reef.cli import demo, large, wiring
from nimbus_reef.config import Config
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs.queue import make_queue
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.engine import Store
from nimbus_reef.web.factory import compile_templates, make_app, quieten_collector

ROUNDS = 60
PROCESSES = 5
"""How many show every page for the first time."""
WORKER_STARTS = 20.0
"""Seconds until a worker that has just started has nothing left to do."""
OTHER_WINDOWS = (29, 28, 27, 26)
BROWSER = {"Accept-Encoding": "gzip, deflate, br, zstd"}
"""What browsers send, so that packing the page is part of its time."""
DOCUMENT = Path("docs/benchmarks.md")
HEADING = "## Pages at size"
PAGES = (
    "pulse/",
    "intake/",
    "standing/tree",
    "standing/products",
    "standing/formats",
    "standing/path",
    "standing/queries",
    "standing/shape",
    "movement/drift",
    "movement/drift?show=all",
    "movement/drift?by=keyword",
    "movement/ledger?metric=acos",
    "movement/ledger?by=campaign",
    "movement/why",
    "movement/trends",
    "pulse/mover",
    "movement/ledger?by=keyword",
    "targeting/campaigns",
    "targeting/ad-groups",
    "targeting/targets",
    "targeting/targets?where=advice:is:stays&cols=bids",
    "targeting/campaigns?cols=bids",
    "targeting/terms",
    "targeting/words",
    "findings/",
    "plan/",
    "catalog/families",
    "catalog/families?show=all",
    "catalog/ads",
    "catalog/eligibility",
    "catalog/gaps",
    "catalog/listings",
    "catalog/structure",
    "catalog/duplicates",
    "catalog/names",
    "catalog/catch-all",
    "delivery/placements",
    "delivery/placements?by=campaign",
    "delivery/hours",
    "delivery/budgets",
    "delivery/boosts",
)


@dataclass(frozen=True)
class Taken:
    """
    Seconds of one page: the first time since everything was loaded, in processes that have shown another page of usual
    days; then the middle and the 95th of a hundred of those after it; busy: the 95th of the processor's time, which a
    machine's other work does not lengthen; other: the quickest first time of a few windows that nobody has asked for
    before; mb: the most that the process held for itself while it showed the page of usual days for the first time, and
    while it showed those windows with their verdicts.
    """

    page: str
    first: Sequence[float]
    p50: float
    p95: float
    busy: float
    other: float
    mb: tuple[int, int]


class Peak:
    """The most that this process holds for itself, looked at every four milliseconds."""

    def __init__(self) -> None:
        self._most, self._done = 0, threading.Event()
        threading.Thread(target=self._look_on, daemon=True).start()

    def _look_on(self) -> None:
        while not self._done.wait(0.004):
            self._most = max(self._most, _anonymous())

    def taken(self) -> int:
        """The most since this was asked last, in MB."""
        most, self._most = max(self._most, _anonymous()), 0
        return most // 1024


def _anonymous() -> int:
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) for line in lines if line.startswith("RssAnon"))


def first_of(client: FlaskClient, page: str, peak: Peak) -> tuple[float, int]:
    """Seconds until its first answer of usual days, and the most that the process held for it."""
    peak.taken()
    seconds = ask(client, address(page))[0]
    return seconds, peak.taken()


def first_elsewhere() -> list[dict[str, float]]:
    """The same seconds in processes of their own, one after the other."""
    run = [sys.executable, "-m", "benchmarks.first_pages"]
    return [
        json.loads(subprocess.run(run, check=True, capture_output=True, text=True).stdout.splitlines()[-1])
        for _ in range(PROCESSES - 1)
    ]


def measure(client: FlaskClient, page: str, newest: date, peak: Peak, first: Sequence[float], most: int) -> Taken:
    """Asks for a page again and again, then for other windows of it."""
    whole = address(page)
    middle, late, busy = again(client, page)
    peak.taken()
    last = newest - timedelta(days=4)
    windows_asked = [f"{whole}&window={last - timedelta(days=back)}..{last}" for back in OTHER_WINDOWS]
    others = [ask(client, each)[0] for each in windows_asked]
    ask(client, f"{windows_asked[-1]}&answer=second")
    return Taken(page, first, middle, late, busy, min(others), (most, peak.taken()))


def again(client: FlaskClient, page: str) -> tuple[float, float, float]:
    """One round: the middle, the 95th, and the 95th of the processor's time."""
    ask(client, f"{address(page)}&answer=second")
    taken, busy = zip(*(ask(client, address(page)) for _ in range(ROUNDS)), strict=True)
    return statistics.median(taken), _p95(taken), _p95(busy)


def address(page: str, account: str = large.LARGE.key) -> str:
    """Of a page of an account."""
    return f"/{page}{'&' if '?' in page else '?'}account={account}"


def visitor(conf: Config, store: Store) -> FlaskClient:
    """Somebody signed in to a web process of its own that has started."""
    app = make_app(conf, store, make_queue(conf, store), secret_key="x", testing=True)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()
    client.post("/sign-in", data={"email": demo.DEMO_EMAIL, "password": demo.password(conf)})
    quieten_collector()
    compile_templates(app)
    return client


def quietest(client: FlaskClient, first: list[Taken]) -> list[Taken]:
    """Two rounds more of every page, some time after the first; of each the one with the smallest 95th."""
    best = {each.page: (each.p50, each.p95, each.busy) for each in first}
    for _ in range(2):
        for page in best:
            best[page] = min(best[page], again(client, page), key=lambda each: each[1])
    return [replace(each, p50=best[each.page][0], p95=best[each.page][1], busy=best[each.page][2]) for each in first]


def ask(client: FlaskClient, address: str) -> tuple[float, float]:
    """Seconds until the answer, and seconds of them that the processor worked for it."""
    begun, worked = time.perf_counter(), time.process_time()
    assert client.get(address, headers=BROWSER).status_code == 200, address
    return time.perf_counter() - begun, time.process_time() - worked


def floor(store: Store, facts: Facts) -> float:
    """The bare group-by of 30 days of search terms on mapped files, the largest report."""
    account = accounts.by_key(store, large.LARGE.key)
    assert account is not None
    newest = facts.newest_day(account.id)
    assert newest is not None
    window = Window(newest - timedelta(days=33), newest - timedelta(days=4))
    taken = []
    for _ in range(5):
        begun = time.perf_counter()
        days = snapshots.versions(store, account.id, "search_term_daily", window)
        rows = snapshots.read(store, account.id, "search_term_daily", days, ["target_term_id", *MEASURES])
        rows.group_by("target_term_id").agg(pl.col(MEASURES).cast(pl.Int64).sum()).collect()
        taken.append(time.perf_counter() - begun)
    return statistics.median(taken)


def _p95(values: Sequence[float]) -> float:
    return statistics.quantiles(values, n=20)[-1]


def private_mb() -> int:
    """
    What this process holds for itself, in MB: memory without a file behind it that the kernel may
    not take back. Libraries and day files are mapped, so that all workers share them and they give
    way when room is short.
    """
    lines = Path("/proc/self/smaps_rollup").read_text().splitlines()
    by_key = {line.split(":")[0]: int(line.split()[1]) for line in lines if line.endswith("kB")}
    return (by_key["Anonymous"] - by_key["LazyFree"]) // 1024


def settled_mb() -> int:
    """The same once the allocator has given back what the last page left, half a second later."""
    for _ in range(4):
        time.sleep(0.4)
        pl.DataFrame({"n": range(1000)}).sort("n")
    return private_mb()


def section(taken: list[Taken], bare: float, before: int, after: int, judged: float, shelf_mb: int) -> str:
    """The part of docs/benchmarks.md that this writes."""
    rows = [
        f"| `/{each.page}` | {statistics.median(each.first) * 1000:.0f}"
        f" ({min(each.first) * 1000:.0f}–{max(each.first) * 1000:.0f}) | {each.p50 * 1000:.0f} | {each.p95 * 1000:.0f}"
        f" | {each.busy * 1000:.0f} | {each.other * 1000:.0f} |"
        for each in taken
    ]
    return "\n".join(
        [
            HEADING,
            "",
            (
                "`benchmarks/pages.py` on `reef demo --size large` (3,100 campaigns, 60,000 targets, 1,075 products,"
                f" 90 days), {ROUNDS} requests each after the first, the quietest of three rounds, packed for a"
                " browser, one process, windows of 30 days. Owed: p95 ≤ 60 ms from cached aggregates, ≤ 100 ms the"
                " first time. First: of usual days, judged ahead by a worker, in processes that have them from the"
                f" worker, the middle of {PROCESSES} of them and their range ({judged:.0f} s after the load,"
                f" {shelf_mb:,} MB on disk). Another window: the quickest first answer of four for days that nobody has"
                " asked for before, in a warm process; the bare group-by of 30 days of search terms takes"
                f" {bare * 1000:.0f} ms."
            ),
            "",
            "| page | first ms | p50 ms | p95 ms | p95 of processor time, ms | another window, ms |",
            "|---|---|---|---|---|---|",
            *rows,
            "",
            (
                f"Private memory of the process (anonymous pages, looked at every 4 ms): {before} MB at its start"
                f" (libraries, the application), {max(each.mb[0] for each in taken)} MB at its peak on usual days,"
                f" {max(each.mb[1] for each in taken)} MB at its peak on days that nobody asked for before, which a"
                f" worker on call judges, {after} MB after all of it. Owed: ≤ 400 MB."
            ),
            "",
        ]
    )


def main() -> None:
    """Prints the section; with --write puts it at the end of the document."""
    conf = config.load(dict(os.environ))
    with wiring.running_store(conf) as store:
        # By another process, as a worker is: its memory is its own.
        begun = time.perf_counter()
        subprocess.run([sys.executable, "-m", "benchmarks.judge_ahead"], check=True)
        judged = time.perf_counter() - begun
        shelf_mb = sum(file.stat().st_size for file in conf.judged.rglob("*") if file.is_file()) >> 20
        elsewhere = first_elsewhere()
        worker = subprocess.Popen([sys.executable, "-m", "nimbus_reef", "worker", "--wait"])
        time.sleep(WORKER_STARTS)
        client = visitor(conf, store)
        before = settled_mb()
        facts = client.application.extensions["reef"].facts
        account = accounts.by_key(store, large.LARGE.key)
        assert account is not None, "run `reef demo --size large` first"
        newest = facts.newest_day(account.id)
        assert newest is not None
        bare = floor(store, facts)
        ask(client, address("plan/"))
        peak = Peak()
        firsts = {page: first_of(client, page, peak) for page in PAGES}
        first = [
            measure(client, page, newest, peak, [seconds, *(each[page] for each in elsewhere)], most)
            for page, (seconds, most) in firsts.items()
        ]
        after = settled_mb()
        text = section(quietest(client, first), bare, before, after, judged, shelf_mb)

        def asked(page: str, window: Window, second: bool) -> float:
            answer = "&answer=second" if second else ""
            return ask(client, f"{address(page)}&window={window.first}..{window.last}{answer}")[0]

        text += "\n" + windows.section(windows.measure(store, account.id, newest, asked))
        worker.terminate()
        worker.wait()
    print(text)
    if "--write" in sys.argv:
        DOCUMENT.write_text(DOCUMENT.read_text().partition(HEADING)[0].rstrip() + "\n\n" + text)


if __name__ == "__main__":
    main()
