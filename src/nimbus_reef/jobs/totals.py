"""What the part of an account that is looked at comes to, day by day, from one report."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs.narrow import Narrow
from nimbus_reef.store import product_frames
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.facts import Facts

_PRODUCTS = "product_ad_daily"


@dataclass(frozen=True, slots=True)
class Totals:
    """source: the report; now, then: day and measures (money in micro-units) of each held day."""

    source: str
    now: pl.DataFrame
    then: pl.DataFrame | None


def totals(
    facts: Facts, account: Account, window: Window, against: Window | None, narrow: Narrow
) -> Totals | None:
    """
    Daily sums of both windows, never of two reports; null where none holds them. All of the
    account from the first report that holds it; a part of it from the product ads.
    """
    windows = [window, *([against] if against else [])]
    source = _PRODUCTS if narrow else facts.total_source(account.id, windows)
    if source is None:
        return None
    made = [_days(facts, account, each, source, narrow) for each in windows]
    return Totals(source, made[0], made[1] if against else None)


def _days(facts: Facts, account: Account, window: Window, source: str, narrow: Narrow) -> pl.DataFrame:
    if not narrow:
        return facts.by_day(account.id, source, window, MEASURES)
    rows = narrow.part(facts, account, window, product_frames.placed_products(facts, account.id, window))
    return rows.group_by("day").agg(pl.col(MEASURES).sum()).sort("day")


def summed(days: pl.DataFrame) -> dict[str, int]:
    """The sums of a window."""
    return {name: int(days[name].sum()) for name in MEASURES}
