"""The marketplace's accounts in memory, made anew from what is on record when the service starts."""

from __future__ import annotations

import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from typing import Any, Final

import polars as pl

from nimbus_reef.market.record import DAYS, ROWS, AccountEvent, Client, Record
from nimbus_reef.sim import account
from nimbus_reef.sim.account import MarketAccount
from nimbus_reef.sim.settings import SaidOfRow, refused
from nimbus_reef.sim.vocabulary import BRANDS

TRY_AGAIN: Final = refused("try_again", "The marketplace was busy with this row. Send it again.")


@dataclass
class MarketAccounts:
    """accounts: by key, each made when it is first asked for. answers: what was said to each change set, by event."""

    record: Record
    accounts: dict[str, MarketAccount] = field(default_factory=dict)
    answers: dict[int, list[SaidOfRow]] = field(default_factory=dict)
    lock: threading.RLock = field(default_factory=threading.RLock)

    def account(self, client: Client) -> MarketAccount:
        """A client's account, as all that happened to it left it."""
        with self.lock:
            if client.key not in self.accounts:
                spec = next(each for each in BRANDS if each.key == client.brand)
                opened = account.opened(spec, client.seed, client.days, client.last_day)
                for event in self.record.events([client.key]):
                    self._happen(opened, event)
                self.accounts[client.key] = opened
            return self.accounts[client.key]

    def _happen(self, own: MarketAccount, event: AccountEvent) -> None:
        if event.what == DAYS:
            own.pass_days(int(event.body["days"]))
            return
        rows, busy = event.body["rows"], set(event.body["busy"])
        taken = [row for place, row in enumerate(rows) if place not in busy]
        at = datetime.fromtimestamp(event.at, UTC).strftime("%H:%M:%SZ")
        said = iter(own.take(taken, f"{own.today.isoformat()}T{at}", "interface"))
        self.answers[event.seq] = [TRY_AGAIN if place in busy else next(said) for place in range(len(rows))]

    def send(
        self, client: Client, key: str, rows: Sequence[Mapping[str, Any]], busy: Sequence[int], at: float
    ) -> tuple[AccountEvent, list[SaidOfRow]]:
        """Takes a change set, once for each key; busy: rows that it finds no time for."""
        with self.lock:
            own = self.account(client)
            event, new = self.record.note(client.key, ROWS, key, {"rows": list(rows), "busy": list(busy)}, at)
            if new:
                self._happen(own, event)
            return event, self.answers[event.seq]

    def change_set(self, client: Client, number: int) -> tuple[AccountEvent, list[SaidOfRow]] | None:
        """A change set and what was said to its rows; None where the client sent none of that number."""
        with self.lock:
            self.account(client)
            found = [each for each in self.record.events([client.key]) if each.seq == number and each.what == ROWS]
            return (found[0], self.answers[number]) if found else None

    def held(self, client: Client, rows: Sequence[Mapping[str, str]]) -> list[str | None]:
        """What the field of each row stands at now; None where there is no such thing."""
        with self.lock:
            settings = self.account(client).settings
            return [settings.held(row) for row in rows]

    def pass_days(self, client: Client, days: int, at: float) -> date:
        """Lets days pass; the new today."""
        with self.lock:
            own = self.account(client)
            event, _ = self.record.note(client.key, DAYS, None, {"days": days}, at)
            self._happen(own, event)
            return own.today

    def report(self, client: Client, kind: str, first: date, last: date) -> tuple[pl.DataFrame, date]:
        """A report's rows, and the day on which it tells them."""
        with self.lock:
            own = self.account(client)
            return own.report(kind, first, last), own.today
