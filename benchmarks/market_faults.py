"""
The marketplace on bad days: each fault at each moment, on an installation of real processes.

Change sheets are sent and days are fetched while requests fail, or while a part of the installation is killed. After each
run three things are held against the marketplace's own log: nothing was lost, nothing was sent twice, every row's
result is what the marketplace says it is.

    python benchmarks/market_faults.py [--write] [--runs 5]
    python benchmarks/market_faults.py --soak 20 [--accounts 20] [--write]
"""

from __future__ import annotations

import argparse
import random
import sys
import tempfile
import threading
import time
import uuid
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import Any, Final

import httpx
import polars as pl

from benchmarks.installation import Installation, Person, environment_of, until
from nimbus_reef import config
from nimbus_reef.cli import wiring
from nimbus_reef.core.changes import Action, Change, ChangeState, Entity
from nimbus_reef.core.promises import Promise
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import StoreAway
from nimbus_reef.formats import change_sheet
from nimbus_reef.jobs import marketplaces
from nimbus_reef.jobs.queue import ask_marketplace, make_queue
from nimbus_reef.market.faults import Fault
from nimbus_reef.market.record import Client, Record
from nimbus_reef.outside.http import HttpMarketplace
from nimbus_reef.store.loading import report_orders
from nimbus_reef.store.people import accounts, marketplace_links, people, plans, sendings
from nimbus_reef.store.people.sendings import SendingState
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts

DOCUMENT: Final = Path(__file__).resolve().parents[1] / "docs" / "reliability.md"
MARKERS: Final = {
    False: ("<!-- marketplace -->", "<!-- marketplace end -->"),
    True: ("<!-- marketplace soak -->", "<!-- marketplace soak end -->"),
}
"""Between which the tables stand in the document: that of the matrix, and that of the soak."""
KEY: Final = "fernhollow-de"
SEED, DAYS, LAST = 11, 40, date(2026, 11, 20)
ROWS: Final = 5
SECOND: Final = "second worker"
PATIENCE: Final = 240.0
NOTHING: Final = Promise(
    ("2026-10-01", "2026-10-30"), 0, 0, 0, 0, 1, 1, 1, 0.3, {"spend": (0, 0, 0), "sales": (0, 0, 0)}
)
SENDING: Final[Sequence[tuple[str, str]]] = (
    ("sign-in", "/v1/token"),
    ("sheet sent", "/v1/change-sets"),
    ("results asked", "/v1/change-sets/"),
)
FETCHING: Final[Sequence[tuple[str, str]]] = (("report ordered", "/v1/reports"), ("report asked", "/v1/reports/"))
OF_REQUESTS: Final = {
    "connection lost before": Fault.DROP_BEFORE,
    "connection lost after": Fault.DROP_AFTER,
    "no answer in time": Fault.SLOW,
    "429": Fault.THROTTLE,
    "503": Fault.ERROR,
}
KILLED: Final = ("worker", "market", "web", "database")
DELAYS: Final = (0.0, 0.2, 0.6, 1.2)
"""Seconds after which a part is killed: before the sheet leaves, while it does, among the answers."""


@dataclass
class Tried:
    """A fault at a moment: how often it was tried, and what went wrong."""

    fault: str
    moment: str
    runs: int = 0
    wrong: list[str] = field(default_factory=list)
    seconds: list[float] = field(default_factory=list)


class _Parts(Installation):
    """An installation with a marketplace, and more workers where asked for."""

    def start(self, name: str) -> None:
        """Starts a part and waits until it answers."""
        if name == SECOND:
            first = self.parts.pop("worker")
            super().start("worker")
            self.parts |= {SECOND: self.parts.pop("worker"), "worker": first}
            return
        super().start(name)
        if name == "market":
            until(lambda: _answers(self.config.market_port))


def _answers(port: int) -> bool:
    with suppress(httpx.HTTPError):
        return httpx.get(f"http://127.0.0.1:{port}/v1/openapi.json", timeout=2).is_success
    return False


@dataclass
class Matrix:
    """Sends and fetches under faults, and holds what came of it against the marketplace's log."""

    parts: _Parts
    key: str
    market: HttpMarketplace
    record: Record
    account_id: int
    person_id: int
    rng: random.Random
    tried: list[Tried] = field(default_factory=list)
    sent: int = 0

    # --- a sheet ---------------------------------------------------------------------------

    def sheet(self, tried: Tried, during: Callable[[], None]) -> None:
        """Sends a sheet of a few rows, one of which fails, while something goes wrong."""
        store = self.parts.store
        rows = self._rows()
        before = self._carried_out()
        packages = [[(each, NOTHING)] for each in rows]
        planned = plans.accept_packages(store, self.account_id, self.person_id, packages).planned
        key = uuid.uuid4().hex
        number = sendings.hand_over(store, self.account_id, self.person_id, planned, key)
        began = time.monotonic()
        ask_marketplace(store, make_queue(self.parts.config, store), self.account_id)
        during()
        answered = _in_time(lambda: sendings.one(store, self.account_id, number).state is SendingState.ANSWERED)
        tried.runs += 1
        tried.seconds.append(time.monotonic() - began)
        if not answered:
            tried.wrong.append(f"sheet {number} was not answered in {PATIENCE:.0f} s")
        tried.wrong += self._held_against(number, key, rows, before)
        left = [each.id for each in plans.planned(store, self.account_id)]
        if left:
            plans.remove_many(store, self.account_id, self.person_id, left)

    def _rows(self) -> list[Change]:
        """Bids of a few targets moved by some cents, one of them below what the marketplace takes."""
        names = target_frames.targets(Facts(self.parts.store), self.account_id)
        keys = [
            tuple(str(part) for part in row)
            for row in names.select("campaign", "ad_group", "target", "match_type").rows()
        ]
        chosen = self.rng.sample(keys, ROWS * 3)
        asked = [change_sheet.as_row(replace(_moved(key, "", "1"), row=n)) for n, key in enumerate(chosen)]
        held = self.market.held(asked)
        found: list[Change] = []
        for number, key in enumerate(chosen):
            now = held.get(number)
            if now and len(found) < ROWS:
                new = "0.05" if not found else f"{0.2 + self.rng.randrange(5, 90) / 100:.2f}"
                if new != now:
                    found.append(_moved(key, now, new))
        return found

    def _carried_out(self) -> Counter[tuple[str, ...]]:
        """How often each target's bid was changed at the marketplace."""
        own = _once_back(lambda: self.market.changes_since(""))
        return Counter((each["campaign"], each["ad_group"], each["target"], each["match_type"]) for each in own)

    def _held_against(
        self, number: int, key: str, rows: Sequence[Change], before: Counter[tuple[str, ...]]
    ) -> list[str]:
        wrong = []
        taken = [each for each in self.record.events([self.key]) if each.key == key]
        if len(taken) != 1:
            wrong.append(f"sheet {number} was taken {len(taken)} times")
        after = self._carried_out()
        answered = _once_back(lambda: sendings.changes_of(self.parts.store, number))
        results = {_key(each.change): each for each in answered}
        for each in rows:
            name = _key(each)
            done = after[name] - before[name]
            said = results.get(name)
            if said is None or said.result is ChangeState.SENT:
                wrong.append(f"row {each.target} of sheet {number} has no result")
            elif (said.result is ChangeState.DONE) != (done == 1):
                wrong.append(f"row {each.target} of sheet {number} is {said.result}, done {done} times")
        self.sent += len(rows)
        return wrong

    # --- reports ---------------------------------------------------------------------------

    def day(self, tried: Tried, during: Callable[[], None]) -> None:
        """Lets a day pass and waits for its reports, while something goes wrong."""
        store = self.parts.store
        today = self.market.pass_days(1)
        marketplace_links.hurry(store, self.account_id)
        during()
        began = time.monotonic()

        def there() -> bool:
            ask_marketplace(store, make_queue(self.parts.config, store), self.account_id)
            link = marketplace_links.link(store, self.account_id)
            newest = Facts(store).newest_day(self.account_id)
            waiting = list(report_orders.waiting(store, self.account_id))
            return newest is not None and (today - newest).days == 1 and not waiting and link is not None

        fetched = _in_time(there)
        tried.runs += 1
        tried.seconds.append(time.monotonic() - began)
        if not fetched:
            tried.wrong.append(f"the day before {today} was not there in {PATIENCE:.0f} s")
        tried.wrong += self.differences(today)

    def differences(self, today: date) -> list[str]:
        """Where days in the record are not what the marketplace says now."""
        facts = Facts(self.parts.store)
        wrong = []
        with tempfile.TemporaryDirectory() as folder:
            window = Window(date.fromordinal(today.toordinal() - 10), date.fromordinal(today.toordinal() - 1))
            handle = self.market.request("target_daily", window.first, window.last, uuid.uuid4().hex)
            until(lambda: self.market.report_state(handle).value == "ready")
            path = self.market.report(handle, Path(folder) / "r.csv").path
            theirs = pl.read_csv(path, infer_schema_length=0).with_columns(pl.col("clicks").cast(pl.Int64))
            day = next(name for name in theirs.columns if name in ("date", "day"))
            said = dict(theirs.group_by(day).agg(pl.col("clicks").sum()).rows())
        for number in range(window.days):
            at = date.fromordinal(window.first.toordinal() + number)
            own = int(target_frames.target_sums(facts, self.account_id, Window(at, at))["clicks"].sum())
            if own != said.get(at.isoformat(), 0):
                wrong.append(f"{at}: {own} clicks loaded, {said.get(at.isoformat(), 0)} there")
        return wrong

    # --- faults ----------------------------------------------------------------------------

    def faulty(self, **wanted: Any) -> None:
        """Has the marketplace do so from now on."""
        client = next(each for each in self.record.clients() if each.key == self.key)
        who = {"client_id": client.key, "client_secret": client.secret}

        def ask() -> None:
            url = f"http://127.0.0.1:{self.parts.config.market_port}/v1"
            token = httpx.post(f"{url}/token", json=who).json()["access_token"]
            httpx.put(
                f"{url}/world/faults", json=wanted, headers={"Authorization": f"Bearer {token}"}
            ).raise_for_status()

        _once_back(ask)

    def killing(self, part: str, delay: float) -> Callable[[], None]:
        """Kill -9 of a part after a while, and its start."""

        def kill() -> None:
            time.sleep(delay)
            self.parts.kill(part)
            time.sleep(0.3)
            self.parts.start(part)

        return kill


def _key(of: Change) -> tuple[str, ...]:
    return of.campaign, of.ad_group, of.target, of.match_type


def _moved(key: tuple[str, ...], old: str, new: str) -> Change:
    campaign, group, target, match_type = key
    return Change(0, Action.UPDATE, Entity.TARGET, campaign, "bid", new, old, group, target, match_type)


def _once_back(ask: Callable[[], Any]) -> Any:
    """The answer, waited for while a part is being started again."""
    end = time.monotonic() + PATIENCE
    while True:
        try:
            return ask()
        except Exception:
            if time.monotonic() > end:
                raise
            time.sleep(0.2)


def _in_time(holds: Callable[[], bool]) -> bool:
    end = time.monotonic() + PATIENCE
    while time.monotonic() < end:
        with suppress(StoreAway):
            if holds():
                return True
        time.sleep(0.15)
    return False


@contextmanager
def installation(folder: Path, count: int = 1) -> Iterator[list[Matrix]]:
    """A fresh one with so many accounts, each with its history and its marketplace."""
    settings = {
        "REEF_VAR": str(folder),
        "REEF_PORT": str(wiring.free_port("127.0.0.1", 8960)),
        "REEF_MARKET_PORT": str(wiring.free_port("127.0.0.1", 8961)),
        "REEF_DATABASE_PORT": str(wiring.free_port("127.0.0.1", 3766)),
        "REEF_WEB_WORKERS": "1",
        "REEF_LOG_LEVEL": "ERROR",
    }
    conf = config.load(settings)
    parts = _Parts(conf, None, environment_of(settings), Person("a@example.com", "a long password"))  # type: ignore[arg-type]
    wiring.private_server(conf)
    parts.start("database")
    try:
        wiring.migrate(conf)
        parts.store = wiring.open_store(conf)
        who = people.add(
            parts.store, email="a@example.com", name="Ann", password="a long password", role=people.Role.OWNER
        )
        record = Record(conf.market / "market.db")
        clients = [record.add_client(f"{KEY}.{number}", SEED, DAYS, LAST) for number in range(count)]
        for name in ("market", "worker", "web"):
            parts.start(name)
        yield [_linked(parts, record, client, who.id) for client in clients]
    finally:
        parts.end()


def _linked(parts: _Parts, record: Record, client: Client, person_id: int) -> Matrix:
    """An account that is linked to its marketplace, with all its reports."""
    store = parts.store
    account = accounts.add(
        store,
        key=client.key.replace(".", "-"),
        brand_name="Fernhollow",
        marketplace=f"Tidemarkt {client.key}",
        country="DE",
        currency="EUR",
        locale="en_IE",
        timezone="Europe/Berlin",
        target_acos=0.28,
    )
    url = f"http://127.0.0.1:{parts.config.market_port}"
    marketplace_links.save(
        store,
        account.id,
        None,
        url=url,
        client_id=client.key,
        secret=client.secret,
        key=marketplaces.credentials_key(parts.config),
    )
    ask_marketplace(store, make_queue(parts.config, store), account.id)
    until(lambda: Facts(store).newest_day(account.id) == LAST, 300)
    until(lambda: not list(report_orders.waiting(store, account.id)), 300)
    market = HttpMarketplace(url, client.key, client.secret, tries=60, seconds=120)
    return Matrix(parts, client.key, market, record, account.id, person_id, random.Random(client.key))


def matrix(there: Matrix, runs: int) -> list[Tried]:
    """Every fault at every moment, some times each."""

    def tried(fault: str, moment: str) -> Tried:
        there.tried.append(Tried(fault, moment))
        print(f"{fault}, {moment}", file=sys.stderr)
        return there.tried[-1]

    for name, fault in OF_REQUESTS.items():
        for moment, path in SENDING:
            cell = tried(name, moment)
            for number in range(runs):
                script = [[path, fault.value]] * (1 if fault is Fault.SLOW else 1 + number % 3)
                there.faulty(script=script, slow=12.0 if fault is Fault.SLOW else 0.5)
                there.sheet(cell, lambda: None)
        for moment, path in FETCHING:
            cell = tried(name, moment)
            for number in range(max(1, runs // 3)):
                script = [[path, fault.value]] * (1 if fault is Fault.SLOW else 2 + number)
                there.faulty(script=script, slow=12.0 if fault is Fault.SLOW else 0.5)
                there.day(cell, lambda: None)
    cell = tried("half a sheet refused", "sheet sent")
    for _ in range(runs * 2):
        there.faulty(script=[["/v1/change-sets", Fault.PARTIAL.value]])
        there.sheet(cell, lambda: None)
    cell = tried("lines twice", "report fetched")
    for _ in range(max(2, runs // 2)):
        there.faulty(script=[["/v1/reports", Fault.DUPLICATE.value]] * 3)
        there.day(cell, lambda: None)
    there.faulty()
    for part in KILLED:
        for delay in DELAYS:
            cell = tried(f"kill -9 of the {'marketplace' if part == 'market' else part}", f"{delay} s after")
            for _ in range(runs):
                there.sheet(cell, there.killing(part, delay))
        cell = tried(f"kill -9 of the {'marketplace' if part == 'market' else part}", "while a day is fetched")
        for number in range(max(1, runs // 3)):
            there.day(cell, there.killing(part, DELAYS[number % len(DELAYS)]))
    there.parts.start(SECOND)
    cell = tried("two workers", "sheet sent")
    for _ in range(runs * 3):
        there.sheet(cell, _twice(there))
    cell = tried("two workers", "a day is fetched")
    for _ in range(max(1, runs // 3)):
        there.day(cell, _twice(there))
    return there.tried


def _twice(there: Matrix) -> Callable[[], None]:
    """Asks for the account's marketplace from several sides at once."""

    def ask() -> None:
        store = there.parts.store
        queue = make_queue(there.parts.config, store)
        asking = [threading.Thread(target=ask_marketplace, args=(store, queue, there.account_id)) for _ in range(4)]
        for each in asking:
            each.start()
        for each in asking:
            each.join()

    return ask


def page(found: Sequence[Tried], sent: int) -> str:
    """The table."""
    runs, wrong = sum(each.runs for each in found), sum(len(each.wrong) for each in found)
    lines = [
        f"{runs} runs, {sent:,} rows sent: {wrong} lost, sent twice, or with a wrong result. Held against the marketplace’s own log",
        "after every run. `python benchmarks/market_faults.py --write` writes this table.",
        "",
        "| fault | moment | runs | wrong | seconds, median and most |",
        "|---|---|---|---|---|",
    ]
    for each in found:
        seconds = sorted(each.seconds)
        lines.append(
            f"| {each.fault} | {each.moment} | {each.runs} | {len(each.wrong)} |"
            f" {seconds[len(seconds) // 2]:.1f}, {seconds[-1]:.1f} |"
        )
    return "\n".join(lines)


CHANCES: Final = {
    Fault.THROTTLE: 0.05,
    Fault.ERROR: 0.05,
    Fault.SLOW: 0.05,
    Fault.DROP_BEFORE: 0.03,
    Fault.DROP_AFTER: 0.03,
    Fault.PARTIAL: 0.05,
}
"""How often each fault strikes while many accounts send and fetch."""


def soak(there: Sequence[Matrix], minutes: float) -> list[Tried]:
    """All accounts send sheets and fetch days for some minutes while requests fail; then they are held against the log."""
    there[0].faulty(chances={fault.value: chance for fault, chance in CHANCES.items()}, slow=1.0)
    end = time.monotonic() + 60 * minutes
    found = [(Tried("5 % of each", "sheets"), Tried("5 % of each", "days")) for _ in there]

    def live(own: Matrix, sheets: Tried, days: Tried) -> None:
        while time.monotonic() < end:
            own.sheet(sheets, lambda: None)
            if own.rng.random() < 0.3:
                own.day(days, lambda: None)
            time.sleep(own.rng.uniform(1, 10))

    living = [threading.Thread(target=live, args=(own, *tried)) for own, tried in zip(there, found, strict=True)]
    for each in living:
        each.start()
    for each in living:
        each.join()
    there[0].faulty()
    return [each for pair in found for each in pair]


def soaked(found: Sequence[Tried], sent: int, count: int, minutes: float) -> str:
    """What came of it, in lines."""
    lines = []
    for moment in ("sheets", "days"):
        own = [each for each in found if each.moment == moment]
        seconds = sorted(second for each in own for second in each.seconds)
        wrong = sum(len(each.wrong) for each in own)
        lines.append(
            f"| {moment} | {sum(each.runs for each in own)} | {wrong} | {seconds[len(seconds) // 2]:.1f} |"
            f" {seconds[int(len(seconds) * 0.95)]:.1f} | {seconds[-1]:.1f} |"
        )
    struck = ", ".join(f"{fault.value.replace('_', ' ')} {chance:.0%}" for fault, chance in CHANCES.items())
    return "\n".join(
        [
            f"{count} accounts for {minutes:.0f} minutes, {sent:,} rows sent, requests failing all the while ({struck}):",
            "",
            "| | done | lost, twice or wrong | seconds, median | 95 % | most |",
            "|---|---|---|---|---|---|",
            *lines,
        ]
    )


def main() -> None:
    """Prints the table, or writes it into docs/reliability.md."""
    asked = argparse.ArgumentParser()
    asked.add_argument("--write", action="store_true")
    asked.add_argument("--runs", type=int, default=5)
    asked.add_argument("--soak", type=float, default=0.0)
    asked.add_argument("--accounts", type=int, default=20)
    options = asked.parse_args()
    count = options.accounts if options.soak else 1
    with tempfile.TemporaryDirectory(ignore_cleanup_errors=True) as folder, installation(Path(folder), count) as there:
        found = soak(there, options.soak) if options.soak else matrix(there[0], options.runs)
        sent = sum(each.sent for each in there)
        text = soaked(found, sent, count, options.soak) if options.soak else page(found, sent)
    for each in found:
        for wrong in each.wrong:
            print(f"{each.fault}, {each.moment}: {wrong}", file=sys.stderr)
    print(text)
    if options.write:
        begin, end = MARKERS[bool(options.soak)]
        before, rest = DOCUMENT.read_text(encoding="utf-8").split(begin)
        after = rest.split(end)[1]
        DOCUMENT.write_text(f"{before}{begin}\n{text}\n{end}{after}", encoding="utf-8")


if __name__ == "__main__":
    main()
