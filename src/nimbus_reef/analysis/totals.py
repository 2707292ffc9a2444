"""What the part of an account that is looked at comes to, day by day, from one report."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.model import MEASURES
from nimbus_reef.store.reading import campaign_frames, product_frames
from nimbus_reef.store.reading.facts import Facts

_PRODUCTS = "product_ad_daily"


@dataclass(frozen=True, slots=True)
class Totals:
    """
    source: the report; now, then: first_day, day and measures (money in micro-units) of each held day
    or block; held_now, held_then: how many days of the windows it holds.
    """

    source: str
    now: pl.DataFrame
    then: pl.DataFrame | None
    held_now: int = 0
    held_then: int = 0


def totals(facts: Facts, selection: Selection) -> Totals | None:
    """
    Daily sums of both windows, never of two reports; None where none holds them. All of the
    account from the first report that holds it; a part of it from the product ads, or where those are
    not held, by campaign from that report.
    """
    account, window, against, part = selection.account, selection.window, selection.against, selection.part
    windows = [window, *([against] if against else [])]
    source = facts.total_source(account.id, windows)
    if part and facts.held_days(account.id, _PRODUCTS, window):
        source = _PRODUCTS
    if source is None or (part.of_products and source != _PRODUCTS):
        return None
    frames = [_days(facts, selection.at(each), source) for each in windows]
    entries = [facts.held_days(account.id, source, each) for each in windows]
    return Totals(source, frames[0], frames[1] if against else None, entries[0], entries[1] if against else 0)


def _days(facts: Facts, selection: Selection, source: str) -> pl.DataFrame:
    account, window = selection.account, selection.window
    if not selection.part:
        return facts.by_day(account.id, source, window, MEASURES)
    if source == _PRODUCTS:
        ads = selection.within(facts, product_frames.named_ads(facts, account.id, window))
        return product_frames.ad_days(facts, account.id, window, ads.select("product_ad_id"), by_month=True)
    rows = selection.within(facts, campaign_frames.campaign_days(facts, account.id, window, source))
    return rows.group_by("day", "first_day").agg(pl.col(MEASURES).sum()).sort("day", "first_day")


def summed(days: pl.DataFrame) -> dict[str, int]:
    """The sums of a window."""
    return {name: int(days[name].sum()) for name in MEASURES}
