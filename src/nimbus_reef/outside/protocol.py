"""What a marketplace can be asked for, whichever it is. `outside.http` asks one that speaks our own interface."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from enum import StrEnum
from pathlib import Path
from typing import Protocol

SheetRow = Mapping[str, str]
"""A row of the change sheet, by its columns."""


class RowState(StrEnum):
    """What became of a row that was sent."""

    PENDING = "pending"
    APPLIED = "applied"
    REFUSED = "refused"


class ReportState(StrEnum):
    """How far a report is that was asked for."""

    WAITING = "waiting"
    READY = "ready"
    GONE = "gone"


@dataclass(frozen=True, slots=True)
class MarketAccountDays:
    """
    An account as its marketplace tells of it: its name there, the first day there are reports of, today, how many days
    its reports mature, their kinds, and whether its world is simulated.
    """

    name: str
    first_day: date
    today: date
    maturing_days: int
    kinds: tuple[str, ...]
    simulated: bool


@dataclass(frozen=True, slots=True)
class RowResult:
    """What a marketplace said to a row, by its number in the sheet: in a code, and in words."""

    row: int
    state: RowState
    code: str
    message: str


@dataclass(frozen=True, slots=True)
class Results:
    """What is known of a sending: by which name it can be asked about, whether all is said, the day it holds from."""

    receipt: str
    done: bool
    day: date
    rows: tuple[RowResult, ...]


@dataclass(frozen=True, slots=True)
class ReportFile:
    """A report's file, and the day on which the marketplace told it."""

    path: Path
    as_of: date


class Marketplace(Protocol):
    """
    One account of a marketplace.

    Every method raises MarketplaceAway where it does not answer in good time, and MarketplaceRefused where it says no.
    What changes anything there carries a key: the same key again is the same request.
    """

    def account(self) -> MarketAccountDays:
        """The account, and what day it is there."""
        ...

    def send(self, rows: Sequence[SheetRow], key: str) -> Results:
        """Sends rows of a change sheet."""
        ...

    def results(self, receipt: str) -> Results:
        """What is known by now of a sending."""
        ...

    def held(self, rows: Sequence[SheetRow]) -> dict[int, str | None]:
        """What the field of each row stands at now, by its number; None where there is no such thing."""
        ...

    def request(self, kind: str, first: date, last: date, key: str) -> str:
        """Asks for a report; a name by which to fetch it."""
        ...

    def report_state(self, handle: str) -> ReportState:
        """How far a report is."""
        ...

    def report(self, handle: str, path: Path) -> ReportFile:
        """Writes a report that is ready into a file."""
        ...

    def changes_since(self, moment: str) -> list[Mapping[str, str]]:
        """Changes made there since a moment in ISO form, by anybody."""
        ...

    def pass_days(self, days: int) -> date:
        """Lets days of a simulated world pass; the new today."""
        ...
