"""Reports that tell the same total, held against each other."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.core.windows import Window, last_days
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading.facts import TOTAL_SOURCES, Facts

DIFFER_ABOVE: Final = 0.01
"""Relative difference from which two reports are said to differ."""
_COMPARED_DAYS: Final = 30
_MONEY: Final = ("spend", "sales")


@dataclass(frozen=True, slots=True)
class ReportGap:
    """Two reports that tell different sums of a measure over the days both hold; micro-units."""

    better: str
    other: str
    measure: str
    days: Window
    shared_days: int
    first: int
    second: int


def differences(facts: Facts, account: Account, newest: date) -> list[ReportGap]:
    """
    Where a report's total differs by more than 1 % from that of the first report that gives
    totals, over the days of the usual window that both hold, or the same sums of days.
    """
    window = facts.usual_span(account.id, account.maturing_days) or last_days(
        _COMPARED_DAYS, newest, account.maturing_days
    )
    by_key = {kind: facts.by_day(account.id, kind, window, _MONEY) for kind in TOTAL_SOURCES}
    kinds = [kind for kind in TOTAL_SOURCES if len(by_key[kind])]
    return [each for other in kinds[1:] for each in _between(kinds[0], other, by_key)]


def _between(better: str, other: str, by_key: dict[str, pl.DataFrame]) -> list[ReportGap]:
    both = by_key[better].join(by_key[other], on=["day", "first_day"], suffix="_other").sort("day")
    if both.is_empty():
        return []
    days = Window(both["first_day"].min(), both["day"][-1])  # type: ignore[arg-type]
    held_days = int((both["day"] - both["first_day"]).dt.total_days().sum()) + len(both)
    found = []
    for measure in _MONEY:
        first, second = int(both[measure].sum()), int(both[f"{measure}_other"].sum())
        if abs(first - second) > DIFFER_ABOVE * max(first, second):
            found.append(ReportGap(better, other, measure, days, held_days, first, second))
    return found
