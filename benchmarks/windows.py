"""
Days nobody asked for before: each page beside the bare group-bys of the rows it shows, interleaved,
medians of five.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Final

import polars as pl

from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.engine import Store

HEADING: Final = "## Days nobody asked for"
_BACK: Final = (3, 5, 9, 11, 13)
_DAYS: Final = 30
_LENGTHS: Final = 10
"""Pages take turns with so many lengths of window, so that none has days that another has asked for."""
_WEEKS: Final = 56
_TRADE: Final = ("total_orders", "total_sales")


@dataclass(frozen=True)
class GroupBy:
    """
    One bare group-by of mapped day files, of so many windows up to the window's end, or so many days where days says
    them.
    """

    kind: str
    keys: tuple[str, ...]
    measures: Sequence[str] = MEASURES
    windows: int = 1
    days: int = 0


_TARGETS: Final = GroupBy("target_daily", ("target_id",))
_ADS: Final = GroupBy("product_ad_daily", ("product_ad_id",))
_TRADED: Final = GroupBy("product_sales_daily", ("product_id",), _TRADE)
_HOURS: Final = (
    GroupBy("hourly", ("campaign_id", "weekday", "hour")),
    GroupBy("hourly", ("campaign_id", "day")),
    GroupBy("hourly", ("hour",)),
)
BARE: Final[Mapping[str, tuple[GroupBy, ...]]] = {
    "targeting/targets": (_TARGETS,),
    "targeting/terms": (GroupBy("search_term_daily", ("target_term_id",)),),
    "targeting/words": (GroupBy("search_term_daily", ("target_term_id",)),),
    "standing/tree": (
        GroupBy("product_ad_daily", ("product_ad_id",), windows=2),
        GroupBy("campaign_daily", ("campaign_id",), windows=2),
    ),
    "standing/products": (GroupBy("product_ad_daily", ("product_ad_id",), windows=2),),
    "movement/drift": (GroupBy("product_ad_daily", ("product_ad_id",), windows=2),),
    "movement/drift?by=keyword": (
        GroupBy("target_daily", ("target_id",), windows=2),
        GroupBy("product_ad_daily", ("product_ad_id",), windows=2),
    ),
    "findings/": (_TARGETS, GroupBy("search_term_daily", ("target_term_id",))),
    "catalog/families": (
        _ADS,
        _TRADED,
        GroupBy("product_ad_daily", ("product_ad_id", "day"), ("spend",), days=_WEEKS),
        GroupBy("product_sales_daily", ("product_id", "day"), ("total_sales",), days=_WEEKS),
    ),
    "catalog/ads": (_ADS,),
    "catalog/gaps": (_ADS, _TRADED),
    "catalog/listings": (_ADS, GroupBy("product_ad_daily", ("product_ad_id", "day"), MEASURES, days=_DAYS + 14)),
    "catalog/structure": (_TARGETS,),
    "catalog/catch-all": (_TARGETS, _ADS, _TRADED),
    "delivery/placements": (GroupBy("placement_daily", ("campaign_id", "placement")),),
    "delivery/hours": _HOURS,
    "delivery/budgets": _HOURS,
}
"""The rows that a page shows, as the group-bys that nothing could do without."""


@dataclass(frozen=True)
class Fresh:
    """Seconds of a page on days not asked for, of its second answer, and of its bare group-bys."""

    page: str
    first: float
    second: float
    bare: float
    ratio: float
    spread: tuple[float, float]


def measure(store: Store, account_id: int, newest: date, ask: Callable[[str, Window, bool], float]) -> list[Fresh]:
    """All pages; ask: seconds until the first answer of a page, or its second."""
    entries = []
    for number, (page, bare) in enumerate(BARE.items()):
        taken = []
        days, shift = _DAYS - number % _LENGTHS, number // _LENGTHS
        for back in _BACK:
            last = newest - timedelta(days=4 + back + shift)
            window = Window(last - timedelta(days=days - 1), last)
            floor = sum(_seconds(store, account_id, each, window) for each in bare)
            taken.append((floor, ask(page, window, False), ask(page, window, True)))
        ratios = [first / floor for floor, first, _ in taken]
        floor, first, second = (statistics.median(each) for each in zip(*taken, strict=True))
        entries.append(Fresh(page, first, second, floor, statistics.median(ratios), (min(ratios), max(ratios))))
    return entries


def _seconds(store: Store, account_id: int, wanted: GroupBy, window: Window) -> float:
    begun = time.perf_counter()
    length = wanted.days or wanted.windows * window.days
    days = Window(window.last - timedelta(days=length - 1), window.last)
    versions = snapshots.versions(store, account_id, wanted.kind, days)
    columns = [key for key in wanted.keys if key not in ("day", "weekday")]
    rows = snapshots.read(store, account_id, wanted.kind, versions, [*columns, *wanted.measures])
    keys = [pl.col("day").dt.weekday().alias(key) if key == "weekday" else pl.col(key) for key in wanted.keys]
    rows.group_by(keys).agg(pl.col(wanted.measures).cast(pl.Int64).sum()).collect()
    return time.perf_counter() - begun


def section(taken: Sequence[Fresh]) -> str:
    """The part of docs/benchmarks.md about them."""
    rows = [
        f"| `/{each.page}` | {each.bare * 1000:.0f} | {each.first * 1000:.0f} | {each.ratio:.1f} |"
        f" {each.spread[0]:.1f}–{each.spread[1]:.1f} | {each.second * 1000:.0f} | {each.second / each.bare:.1f} |"
        for each in taken
    ]
    return "\n".join(
        [
            HEADING,
            "",
            (
                f"The same account; five windows of {_DAYS - _LENGTHS + 1} to {_DAYS} days for each page, which no"
                " other page had, the page and the bare group-bys of the rows it shows on mapped files in turn,"
                " medians, in a warm process. Where 5,000 rows or more have to be judged, the first answer is what"
                " they come to, and the second the page with its verdicts. Owed: first answer ≤ 2 ×, findings ≤ 4 ×;"
                " the second ≤ 4 × their bare group-by."
            ),
            "",
            "| page | bare ms | first answer ms | × | range of × | then with verdicts ms | × |",
            "|---|---|---|---|---|---|---|",
            *rows,
            "",
        ]
    )
