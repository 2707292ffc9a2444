"""
Many people at once for some minutes: pages of every area, loads and exports between.

Starts an installation of its own in var/soak (demo brands, everything on loopback), signs people in, lets each look at
one page after the other, and writes what came of it to docs/reliability.md: answers, errors, waiting times, memory of
the web processes all along.
"""

from __future__ import annotations

import argparse
import os
import random
import re
import signal
import statistics
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass, field
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import httpx
import numpy as np

from nimbus_reef.cli import wiring

ROOT = Path(__file__).resolve().parents[1]
DOCUMENT = ROOT / "docs" / "reliability.md"
ACCOUNTS = ("fernhollow-de", "pellwick-gb")
PAGES = (
    "/pulse/",
    "/intake/",
    "/standing/tree",
    "/standing/products",
    "/movement/drift",
    "/movement/ledger",
    "/movement/why",
    "/movement/trends",
    "/catalog/families",
    "/catalog/ads",
    "/catalog/gaps",
    "/catalog/listings",
    "/catalog/structure",
    "/delivery/placements",
    "/delivery/hours",
    "/delivery/budgets",
    "/targeting/targets",
    "/targeting/terms",
    "/targeting/words",
    "/findings/",
    "/plan/",
)
EXPORTS = ("/targeting/terms/export.xlsx", "/targeting/targets/export.csv", "/catalog/ads/export.parquet")
PASSWORD = "a password for the soak"


@dataclass
class Told:
    """What happened: status codes, seconds of each page, what went wrong."""

    codes: Counter[int] = field(default_factory=Counter)
    seconds: list[float] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)
    loads: Counter[str] = field(default_factory=Counter)

    def note(self, answer: httpx.Response, path: str) -> None:
        """One answer."""
        self.codes[answer.status_code] += 1
        self.seconds.append(answer.elapsed.total_seconds())
        if answer.status_code >= 400:
            self.wrong.append(f"{answer.status_code} {path}")


def token_of(page: str) -> str:
    """The token that a form of a page carries."""
    found = re.search(r'name="csrf_token" value="([^"]+)"', page)
    return found[1] if found else ""


def signed_in(base: str, email: str, password: str) -> httpx.Client:
    """A browser in which somebody is signed in."""
    client = httpx.Client(base_url=base, timeout=60, follow_redirects=True)
    form = {"csrf_token": token_of(client.get("/sign-in").text), "email": email, "password": password}
    client.post("/sign-in", data=form).raise_for_status()
    return client


_LOOKING, _BETWEEN_LOADS = (2, 10), 45
"""Seconds that somebody looks at a page, and between two loads."""
_COMING = 20
"""Seconds within which all are there: people do not sign in at one stroke."""


def bravely(work: Callable[..., None], result: Told, *arguments: Any) -> None:
    """What ends somebody's work is an error like any other, never fewer people than are told of."""
    try:
        work(*arguments, result)
    except (httpx.HTTPError, OSError) as problem:
        result.wrong.append(f"{type(problem).__name__}: {problem} ended {work.__name__}")


def selection(base: str, number: int, until: float, result: Told) -> None:
    """One person, page after page, with a breath between."""
    chance = random.Random(number)
    time.sleep(chance.uniform(0, _COMING))
    with closing(signed_in(base, f"person-{number}@example.com", PASSWORD)) as client:
        while time.monotonic() < until:
            days = chance.choice(("last-30", "last-14", "last-7", "last-60"))
            path = f"{chance.choice(PAGES)}?account={chance.choice(ACCOUNTS)}&window={days}"
            if chance.random() < 0.02:
                path = f"{chance.choice(EXPORTS)}?account={chance.choice(ACCOUNTS)}"
            try:
                result.note(client.get(path), path)
            except httpx.HTTPError as problem:
                result.wrong.append(f"{type(problem).__name__} {path}")
            time.sleep(chance.uniform(*_LOOKING))


def load(base: str, password: str, until: float, result: Told) -> None:
    """A day restated again and again, through the page, each time with other figures."""
    with closing(signed_in(base, "demo@nimbus-reef.example", password)) as client:
        number = 0
        while time.monotonic() < until:
            number += 1
            day = date.today() - timedelta(days=2)
            lines = [f"{day},Soak,Soak,term {n},exact,term {n},100,5,{number}.00,1,20.00" for n in range(500)]
            head = "date,campaign,ad_group,target,match_type,search_term,impressions,clicks,spend,orders,sales"
            page = client.get("/intake/?account=pellwick-gb")
            form = {"csrf_token": token_of(page.text), "account": "pellwick-gb"}
            mapped = client.post(
                "/intake/files", data=form, files={"files": (f"soak-{number}.csv", "\n".join([head, *lines]))}
            )
            asked = client.post(f"{mapped.url.path}/load", data=form | {"scope": "display"})
            job = re.search(r"/intake/jobs/(\d+)", asked.text)
            result.codes[asked.status_code] += 1
            end = time.monotonic() + 60
            while job and time.monotonic() < end and "<progress" in client.get(f"/intake/jobs/{job[1]}").text:
                time.sleep(0.3)
            state = client.get(f"/intake/jobs/{job[1]}").text if job else asked.text
            result.loads[
                (
                    "done"
                    if "✓" in state or 'class="job done' in state
                    else "needs a yes"
                    if "needs a yes" in state
                    else "not"
                )
            ] += 1
            time.sleep(_BETWEEN_LOADS)


def private_mb(port: int) -> float:
    """Private memory of the web processes together, in MB."""
    total = 0
    for entry in Path("/proc").glob("[0-9]*"):
        try:
            if b"nimbus_reef\0serve" not in (entry / "cmdline").read_bytes():
                continue
            if f"REEF_PORT={port}\0".encode() not in (entry / "environ").read_bytes():
                continue
            total += int(re.search(r"RssAnon:\s+(\d+)", (entry / "status").read_text())[1])  # type: ignore[index]
        except OSError:
            continue
    return total / 1024


def main() -> None:
    """Runs it."""
    ask = argparse.ArgumentParser()
    ask.add_argument("--people", type=int, default=50)
    ask.add_argument("--minutes", type=float, default=10)
    ask.add_argument("--write", action="store_true")
    asked = ask.parse_args()
    folder, port = ROOT / "var" / "soak", wiring.free_port("127.0.0.1", 8750)
    environment = os.environ | {
        "REEF_VAR": str(folder),
        "REEF_PORT": str(port),
        "REEF_DATABASE_PORT": "3350",
        "REEF_LOG_LEVEL": "WARNING",
        "PYTHONPATH": str(ROOT / "src"),
    }
    reef = [sys.executable, "-m", "nimbus_reef"]
    up = subprocess.Popen([*reef, "up", "--demo"], env=environment)
    base = f"http://127.0.0.1:{port}"
    try:
        _wait(base)
        for number in range(asked.people):
            added = subprocess.run(
                [*reef, "user", "add", f"person-{number}@example.com", "--password", PASSWORD, "--role", "owner"],
                env=environment,
                capture_output=True,
                text=True,
                check=False,
            )
            assert added.returncode == 0 or "already" in added.stderr, added.stderr
        result, until = Told(), time.monotonic() + asked.minutes * 60
        password = (folder / "demo-password").read_text().strip()
        work = [
            threading.Thread(target=bravely, args=(selection, result, base, number, until))
            for number in range(asked.people)
        ]
        work.append(threading.Thread(target=bravely, args=(load, result, base, password, until)))
        for each in work:
            each.start()
        memory = []
        while time.monotonic() < until:
            time.sleep(15)
            memory.append(private_mb(port))
            print(f"{memory[-1]:.0f} MB, {sum(result.codes.values()):,} answers", flush=True)
        for each in work:
            each.join()
    finally:
        up.send_signal(signal.SIGINT)
        up.wait(timeout=60)
    text = section(result, asked.people, asked.minutes, memory)
    print(text)
    if asked.write:
        before = DOCUMENT.read_text().partition("\n## Many people at once")[0].rstrip()
        DOCUMENT.write_text(f"{before}\n{text}")


def _wait(base: str) -> None:
    end = time.monotonic() + 600
    while time.monotonic() < end:
        try:
            if httpx.get(f"{base}/ready", timeout=2).status_code == 200:
                return
        except httpx.HTTPError:
            pass
        time.sleep(1)
    raise SystemExit("It did not start.")


def section(result: Told, people: int, minutes: float, memory: list[float]) -> str:
    """What came of it, for the document."""
    cuts = statistics.quantiles(result.seconds, n=100)
    text = " · ".join(f"{statistics.median(part):.0f}" for part in np.array_split(memory, min(5, len(memory))))
    codes = ", ".join(f"{count:,} × {code}" for code, count in sorted(result.codes.items()))
    loads = ", ".join(f"{count} {what}" for what, count in result.loads.items()) or "none"
    wrong = "".join(f"\n- {what}: {count}" for what, count in Counter(result.wrong).most_common(10))
    return f"""
## Many people at once

`make soak`: {people} people for {minutes:g} minutes on the demo brands, a page every {_LOOKING[0]} to {_LOOKING[1]} seconds each, on any of {len(PAGES)} pages and four
lengths of days, two exports in a hundred; a load every {_BETWEEN_LOADS} seconds, after which all of its brand's pages are new. Everything on one machine of {os.cpu_count()} cores, people included.

| people × minutes | answers | errors | p50 ms | p95 ms | p99 ms | memory of web in each fifth of the time, MB | loads |
|---|---|---|---|---|---|---|---|
| {people} × {minutes:g} | {codes} | {len(result.wrong)} | {cuts[49] * 1000:.0f} | {cuts[94] * 1000:.0f} | {cuts[98] * 1000:.0f} | {text} | {loads} |
{wrong}
"""


if __name__ == "__main__":
    main()
