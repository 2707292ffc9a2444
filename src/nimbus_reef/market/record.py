"""What the marketplace remembers: accounts, what was asked of them, and reports that were ordered. One SQLite file."""

from __future__ import annotations

import json
import secrets
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import Any, Final

_TABLES: Final = """
CREATE TABLE IF NOT EXISTS account (
    key TEXT PRIMARY KEY, seed INTEGER NOT NULL, days INTEGER NOT NULL, last_day TEXT NOT NULL, secret TEXT NOT NULL
);
CREATE TABLE IF NOT EXISTS event (
    seq INTEGER PRIMARY KEY AUTOINCREMENT, account TEXT NOT NULL, what TEXT NOT NULL, key TEXT, body TEXT NOT NULL,
    at REAL NOT NULL, UNIQUE (account, key)
);
CREATE TABLE IF NOT EXISTS report (
    id INTEGER PRIMARY KEY AUTOINCREMENT, account TEXT NOT NULL, key TEXT NOT NULL, kind TEXT NOT NULL,
    first TEXT NOT NULL, last TEXT NOT NULL, at REAL NOT NULL, UNIQUE (account, key)
);
"""
ROWS, DAYS = "rows", "days"


@dataclass(frozen=True, slots=True)
class Client:
    """
    A brand's account: seed, days and last day of its world, and what its owner signs in with. Of several accounts of a
    brand the keys end in a point and more.
    """

    key: str
    seed: int
    days: int
    last_day: date
    secret: str

    @property
    def brand(self) -> str:
        """The key of its brand."""
        return self.key.partition(".")[0]


@dataclass(frozen=True, slots=True)
class AccountEvent:
    """Something that happened to an account: rows of a change sheet, or days that passed; at: seconds since 1970."""

    seq: int
    account: str
    what: str
    key: str | None
    body: dict[str, Any]
    at: float


@dataclass(frozen=True, slots=True)
class Ordered:
    """A report that was ordered."""

    id: int
    account: str
    kind: str
    first: date
    last: date
    at: float


class Conflicting(Exception):
    """The same key was used for something else."""


class Record:
    """The file; every method is a transaction of its own."""

    def __init__(self, file: Path) -> None:
        self.file = file
        file.parent.mkdir(parents=True, exist_ok=True)
        with self._open() as connection:
            connection.executescript(_TABLES)

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        connection = sqlite3.connect(self.file, timeout=30)
        try:
            connection.execute("PRAGMA journal_mode = WAL")
            with connection:
                yield connection
        finally:
            connection.close()

    def add_client(self, key: str, seed: int, days: int, last_day: date) -> Client:
        """The account of a brand, made where it is not there yet."""
        with self._open() as connection:
            connection.execute(
                "INSERT OR IGNORE INTO account VALUES (?, ?, ?, ?, ?)",
                (key, seed, days, last_day.isoformat(), secrets.token_urlsafe(24)),
            )
        return next(each for each in self.clients() if each.key == key)

    def clients(self) -> list[Client]:
        """Every account."""
        with self._open() as connection:
            rows = connection.execute("SELECT key, seed, days, last_day, secret FROM account ORDER BY key").fetchall()
        return [Client(row[0], row[1], row[2], date.fromisoformat(row[3]), row[4]) for row in rows]

    def note(
        self, account: str, what: str, key: str | None, body: dict[str, Any], at: float
    ) -> tuple[AccountEvent, bool]:
        """Notes an event, and whether it is new: the same key is the same one. Conflicting where it was another."""
        text = json.dumps(body, sort_keys=True)
        with self._open() as connection:
            done = connection.execute(
                "INSERT OR IGNORE INTO event (account, what, key, body, at) VALUES (?, ?, ?, ?, ?)",
                (account, what, key, text, at),
            )
            if done.rowcount:
                return AccountEvent(int(done.lastrowid or 0), account, what, key, body, at), True
        before = next(each for each in self.events([account]) if each.key == key)
        if before.what != what or before.body.get("rows") != body.get("rows"):
            raise Conflicting
        return before, False

    def events(self, accounts: Sequence[str]) -> list[AccountEvent]:
        """What happened to accounts, in its order."""
        marks = ", ".join("?" * len(accounts))
        with self._open() as connection:
            rows = connection.execute(
                f"SELECT seq, account, what, key, body, at FROM event WHERE account IN ({marks}) ORDER BY seq",  # noqa: S608
                list(accounts),
            ).fetchall()
        return [AccountEvent(row[0], row[1], row[2], row[3], json.loads(row[4]), row[5]) for row in rows]

    def order(self, account: str, key: str, kind: str, first: date, last: date, at: float) -> Ordered:
        """Orders a report; the same key again is the same order. Conflicting where it was another."""
        with self._open() as connection:
            connection.execute(
                "INSERT OR IGNORE INTO report (account, key, kind, first, last, at) VALUES (?, ?, ?, ?, ?, ?)",
                (account, key, kind, first.isoformat(), last.isoformat(), at),
            )
            found = connection.execute("SELECT id FROM report WHERE account = ? AND key = ?", (account, key)).fetchone()
        ordered = self.ordered(account, int(found[0]))
        assert ordered is not None
        if (ordered.kind, ordered.first, ordered.last) != (kind, first, last):
            raise Conflicting
        return ordered

    def ordered(self, account: str, number: int) -> Ordered | None:
        """An order of an account's; None where there is none of that number."""
        with self._open() as connection:
            row = connection.execute(
                "SELECT id, account, kind, first, last, at FROM report WHERE account = ? AND id = ?", (account, number)
            ).fetchone()
        if row is None:
            return None
        return Ordered(row[0], row[1], row[2], date.fromisoformat(row[3]), date.fromisoformat(row[4]), row[5])
