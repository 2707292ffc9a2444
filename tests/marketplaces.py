"""A simulated marketplace for tests: its service in a thread, a client of it, and an account that is linked to it."""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import date
from pathlib import Path

import httpx
from werkzeug.serving import make_server

from nimbus_reef.market.accounts import MarketAccounts
from nimbus_reef.market.app import ServicePace, make_app
from nimbus_reef.market.faults import Faults
from nimbus_reef.market.record import Client, Record
from nimbus_reef.outside.http import HttpMarketplace
from nimbus_reef.store.people import plans
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.record.engine import Store
from tests.planned import BID, PROMISE

AT_ONCE = ServicePace(row=0.0, change_set=0.0, report=0.0)
SEED, DAYS, LAST = 11, 60, date(2026, 11, 20)
QUICK = httpx.Timeout(5.0, connect=2.0)


@dataclass
class Running:
    """A service that runs: its record, faults, where it is asked, and who may."""

    record: Record
    accounts: MarketAccounts
    faults: Faults
    url: str
    client: Client

    def asked(self, seconds: float = 20.0, tries: int = 30) -> HttpMarketplace:
        """A client of it."""
        return HttpMarketplace(
            self.url, self.client.key, self.client.secret, timeout=QUICK, tries=tries, seconds=seconds
        )


@contextmanager
def running(
    folder: Path,
    pace: ServicePace = AT_ONCE,
    *,
    key: str = "fernhollow-de",
    seed: int = SEED,
    days: int = DAYS,
    last: date = LAST,
) -> Iterator[Running]:
    """The service on a free port; what it remembers lies in the folder."""
    record = Record(folder / "market.db")
    client = record.add_client(key, seed, days, last)
    accounts, faults = MarketAccounts(record), Faults()
    server = make_server("127.0.0.1", 0, make_app(accounts, faults, pace), threaded=True)
    thread = threading.Thread(target=server.serve_forever, daemon=True)
    thread.start()
    try:
        yield Running(record, accounts, faults, f"http://127.0.0.1:{server.port}", client)
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


def plan_bids(store: Store, account_id: int, person_id: int, service: Running, *bids: str) -> list[Planned]:
    """Bids of targets of the simulated account, in the plan."""
    held = service.accounts.account(service.client).settings.things["target"]
    for key, bid in zip(held, bids, strict=False):
        campaign, group, target, match_type = key
        change = replace(
            BID,
            campaign=campaign,
            ad_group=group,
            target=target,
            match_type=match_type,
            old_value=held[key]["bid"],
            new_value=bid,
        )
        plans.accept_packages(store, account_id, person_id, [[(change, PROMISE)]])
    return plans.planned(store, account_id)


def bid_row(row: int, held: dict[tuple[str, ...], dict[str, str]], place: int, new: str) -> dict[str, str]:
    """A row of a change sheet that sets the bid of a target, by its place among those that are held."""
    key = list(held)[place]
    names = ("campaign", "ad_group", "target", "match_type")
    return {
        "row": str(row),
        "action": "update",
        "entity": "target",
        **dict(zip(names, key, strict=True)),
        "field": "bid",
        "old_value": held[key]["bid"],
        "new_value": new,
    }
