"""
Each piece that is kept for speed, alone: pages with it and without it, in one run on the account at size.

REEF_VAR=var/large .venv/bin/python -m benchmarks.pieces [--write]   (after `reef demo --size large`)
"""

from __future__ import annotations

import json
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable, Mapping
from datetime import timedelta
from pathlib import Path
from typing import Any, Final

from benchmarks.pages import Peak, address, ask, visitor
from nimbus_reef import config
from nimbus_reef.analysis import pending_results, pending_verdicts
from nimbus_reef.cli import large, wiring
from nimbus_reef.store.people import accounts
from nimbus_reef.store.reading import facts as reading
from nimbus_reef.store.reading.cache import Cache, Mapped

PAGES: Final = (
    "targeting/targets",
    "targeting/terms",
    "findings/",
    "standing/tree",
    "movement/drift",
    "catalog/families",
    "delivery/placements",
)
DOCUMENT: Final = Path("docs/benchmarks.md")
HEADING: Final = "## What is kept for speed, piece by piece"
_AGAIN: Final = 9


def without_cache(_client: Any) -> None:
    """Nothing stays in a web process from one answer to the next."""

    def get(_: Cache, _key: Any, make: Callable[[], Any]) -> Any:
        made = make()
        return made.result if isinstance(made, Mapped) else made

    def peek(_: Cache, _key: Any) -> None:
        return None

    Cache.get, Cache.peek = get, peek  # type: ignore[method-assign,assignment]


def without_disk(client: Any) -> None:
    """No process finds what another one worked out, a worker ahead of it included."""
    object.__setattr__(client.application.extensions["reef"].facts, "disk_cache", None)


def without_helper(client: Any) -> None:
    """A web process works out everything itself."""
    object.__setattr__(client.application.extensions["reef"].facts, "helper", None)


def without_pending(_client: Any) -> None:
    """A page is answered once, when all of it is there."""
    pending_verdicts.AT_ONCE = pending_results.MANY = 10**12  # type: ignore[attr-defined]
    reading.MANY = 10**12  # type: ignore[misc]


PIECES: Final[Mapping[str, tuple[Callable[[Any], None], str, str]]] = {
    "results in a web process (`store.reading.cache`)": (without_cache, "again", "a page seen before"),
    "results on disk, made ahead by a worker (`store.reading.disk_cache`, `jobs.ahead`)": (
        without_disk,
        "first",
        "a page of usual days, first in a process",
    ),
    "another process for what takes long (`jobs.helper_process`)": (
        without_helper,
        "other",
        "days that nobody asked for before",
    ),
    "sums first, verdicts after (`analysis.pending_verdicts`, `analysis.pending_results`)": (
        without_pending,
        "other first",
        "the first answer for days that nobody asked for before",
    ),
}


def measured(without: str, back: int) -> dict[str, list[float]]:
    """Seconds of every page (first, again, first answer of other days, all of it) and MB at the peak of the latter."""
    conf = config.load(dict(os.environ))
    store = wiring.open_store(conf)
    client = visitor(conf, store)
    if without:
        PIECES[without][0](client)
    ask(client, address("plan/"))
    account = accounts.by_key(store, large.LARGE.key)
    assert account is not None
    newest = client.application.extensions["reef"].facts.newest_day(account.id)
    last = newest - timedelta(days=4)
    peak = Peak()
    told: dict[str, list[float]] = {}
    for place, page in enumerate(PAGES):
        whole = address(page)
        first = ask(client, whole)[0]
        ask(client, f"{whole}&answer=second")
        again = statistics.median(ask(client, f"{whole}&answer=second")[0] for _ in range(_AGAIN))
        # Other days for every page and every process: what one has worked out the next would find.
        days = f"{whole}&window={last - timedelta(days=back + place)}..{last - timedelta(days=1)}"
        peak.taken()
        early = ask(client, days)[0]
        late = ask(client, f"{days}&answer=second")[0]
        told[page] = [first, again, early, early + late, float(peak.taken())]
    return told


_PLACE: Final = {"first": 0, "again": 1, "other first": 2, "other": 3}


def row(piece: str, with_it: Mapping[str, list[float]], without: Mapping[str, list[float]]) -> str:
    """A line of the table: the pages' times with and without, and how many times as long the latter are."""
    _, what, words = PIECES[piece]
    at = _PLACE[what]
    ratios = {page: without[page][at] / with_it[page][at] for page in PAGES}
    most = max(ratios, key=lambda page: ratios[page])
    middle = statistics.median(ratios.values())
    mb = f"{max(each[4] for each in with_it.values()):.0f} / {max(each[4] for each in without.values()):.0f}"
    return (
        f"| {piece} | {words} | {middle:.1f} × | {ratios[most]:.1f} × (`/{most}`, {with_it[most][at] * 1000:.0f} →"
        f" {without[most][at] * 1000:.0f} ms) | {mb} |"
    )


def main() -> None:
    """Prints the section; with --write puts it into the document."""
    if len(sys.argv) > 2 and sys.argv[1] == "--one":
        print(json.dumps(measured(sys.argv[2], int(sys.argv[3]))))
        return
    conf = config.load(dict(os.environ))
    with wiring.running_store(conf):
        subprocess.run([sys.executable, "-m", "benchmarks.judge_ahead"], check=True)
        worker = subprocess.Popen([sys.executable, "-m", "nimbus_reef", "worker", "--wait"])
        time.sleep(20)
        runs = {}
        for number, piece in enumerate(("", *PIECES)):
            run = [sys.executable, "-m", "benchmarks.pieces", "--one", piece, str(24 - 2 * number)]
            out = subprocess.run(run, check=True, stdout=subprocess.PIPE, text=True).stdout
            runs[piece] = json.loads(out.splitlines()[-1])
        worker.terminate()
        worker.wait()
    lines = [
        HEADING,
        "",
        "`benchmarks/pieces.py` on `reef demo --size large`: the same pages in processes of their own, each with all of it"
        " but one piece. How many times as long they take then: the middle page, and the one that it does most for; private"
        " memory at the peak of days that nobody asked for before, in MB, with / without.",
        "",
        "| piece | what is asked for | middle page | most | MB |",
        "|---|---|---|---|---|",
        *(row(piece, runs[""], runs[piece]) for piece in PIECES),
        "",
    ]
    text = "\n".join(lines)
    print(text)
    if "--write" in sys.argv:
        before, _, after = DOCUMENT.read_text().partition(HEADING)
        rest = after.partition("\n## ")[2]
        DOCUMENT.write_text(before.rstrip() + "\n\n" + text + (f"\n## {rest}" if rest else ""))


if __name__ == "__main__":
    main()
