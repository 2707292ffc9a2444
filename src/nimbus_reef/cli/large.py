"""A demo account at size: many simulated worlds side by side in one account."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, timedelta
from pathlib import Path
from typing import Final

import polars as pl

from nimbus_reef.config import Config
from nimbus_reef.formats.tables import add_csv
from nimbus_reef.jobs import intake
from nimbus_reef.jobs.demo_brands import Step, account_of
from nimbus_reef.sim import brand
from nimbus_reef.sim.vocabulary import FERNHOLLOW
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record.engine import Store


@dataclass(frozen=True, slots=True)
class Size:
    """
    How many worlds, how many days, and over how many files the days are spread. copies: how often each world stands in
    the account, each time under names of its own.
    """

    worlds: int
    days: int
    files: int
    copies: int = 1
    key: str = "fernhollow-large"
    name: str = "Fernhollow at size"


LARGE: Final = Size(43, 90, 3)
"""About 3,000 campaigns, 60,000 targets, 6 million search-term rows."""
HUGE: Final = Size(45, 90, 18, 7, "fernhollow-huge", "Fernhollow at ten times the size")
"""About 23,000 campaigns, 440,000 targets, 50 million search-term rows."""
SIZES: Final = {"large": LARGE, "huge": HUGE}
_DATED: Final = 14
_UNDATED: Final = 9
"""Kinds of reports of a simulated brand with a date in each row, whose days are spread over files, and the others."""
_PREFIXED: Final = ("campaign", "portfolio", "sku", "item_id", "parent_item_id")


def load(config: Config, store: Store, *, seed: int, last_day: date, step: Step, size: Size = LARGE) -> Account:
    """Simulates and loads the large account through the ordinary intake; safe to repeat."""
    spec = replace(FERNHOLLOW, key=size.key, name=size.name)
    folder = config.var / "demo" / spec.key
    folder.mkdir(parents=True, exist_ok=True)
    for old in folder.glob("*.csv"):
        old.unlink()
    for number in range(size.worlds):
        step(f"simulating part {number + 1} of {size.worlds}")
        simulated = brand.simulate(spec, seed + number, size.days, last_day)
        for copy in range(size.copies):
            for kind, frame in simulated.frames.items():
                if (number or copy) and kind.startswith("peer_"):
                    continue  # all of them stand on the same shelves
                _append(folder, kind, _prefixed(frame, number + copy * size.worlds), last_day, size)
    account = account_of(store, spec)
    for path in sorted(folder.glob("*.csv")):
        step(f"loading {path.stem}")
        kind = path.stem.partition("-")[0]
        intake.take(store, account, path, path.name, kind, today=last_day + timedelta(days=1))
        path.unlink()
    return account


def steps(size: Size = LARGE) -> int:
    """How many steps `load` reports, at most."""
    return size.worlds + size.files * _DATED + _UNDATED


def _prefixed(frame: pl.DataFrame, number: int) -> pl.DataFrame:
    """Names of one world, told apart from those of the others."""
    return frame.with_columns(
        pl.concat_str(pl.lit(f"{number + 1:02} "), column).alias(column)
        for column in _PREFIXED
        if column in frame.columns
    )


def _append(folder: Path, kind: str, frame: pl.DataFrame, last_day: date, size: Size) -> None:
    """Rows to the end of their kind's files, one for each stretch of days."""
    if "date" not in frame.columns:
        add_csv(folder / f"{kind}.csv", frame)
        return
    length = -(-size.days // size.files)
    for part in range(size.files):
        last = last_day - timedelta(days=part * length)
        rows = frame.filter(pl.col("date").is_between(last - timedelta(days=length - 1), last))
        if len(rows):
            add_csv(folder / f"{kind}-{last}.csv", rows)
