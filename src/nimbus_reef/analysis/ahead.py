"""
Judging ahead: what the usual days of an account come to, worked out before anybody asks.

What is worked out lies on the disk_cache (`store.reading.disk_cache`), from where every process takes it; so this
returns nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import date
from typing import Any, Final

from nimbus_reef.analysis import agreement, bid_advice, groups, movement, out_of_budget, pulse, query_shares, standing
from nimbus_reef.analysis.catalog import ads, catch_all, families, gaps, pages, structure
from nimbus_reef.analysis.catalog.files import NEEDS as CATALOG
from nimbus_reef.analysis.delivery import budgets, hours, placements
from nimbus_reef.analysis.delivery.files import NEEDS as DELIVERY
from nimbus_reef.analysis.findings import SOURCES, findings, without
from nimbus_reef.analysis.judged import Judged, judged_ads, judged_targets, judged_terms, judged_words
from nimbus_reef.analysis.judged_proposals import sources
from nimbus_reef.analysis.lacking import lacking
from nimbus_reef.analysis.reach import coverage, market, overlaps, pool, ranks, shares
from nimbus_reef.analysis.selection import Selection, asked
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.targeting import Aims
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.hidden_findings import PutAway
from nimbus_reef.store.reading import delivery_frames, target_frames
from nimbus_reef.store.reading.facts import TARGET_SOURCES, TOTAL_SOURCES, Facts

DAYS: Final = ("last-30", "last-7", "last-14", "last-60", "last-90")
"""The usual days, those looked at first before the others; the month of the newest day besides."""
_Work = tuple[tuple[str, ...], Callable[[Facts, Selection], Any]]
"""The reports of which any one makes it, and how it is made."""
_ADS: Final = CATALOG["ads"]


def _agreeing(facts: Facts, selection: Selection) -> Any:
    """What Intake says of reports that differ, whatever the window."""
    newest = facts.newest_day(selection.account.id)
    return agreement.differences(facts, selection.account, newest) if newest else []


_ROWS: Final[Sequence[_Work]] = (
    (sources(Subject.TARGET), judged_targets),
    (sources(Subject.TARGET), bid_advice.advised),
    (sources(Subject.TERM), judged_terms),
    (_ADS, judged_ads),
    (sources(Subject.PHRASE), judged_words),
)
_PAGES: Final[Sequence[_Work]] = (
    (CATALOG["families"], families.listed),
    (CATALOG["families"], families.rows),
    (CATALOG["families"], families.profit_by_week),
    (TARGET_SOURCES, lambda facts, selection: groups.rows(facts, selection, groups.CAMPAIGNS)),
    (TARGET_SOURCES, lambda facts, selection: groups.rows(facts, selection, groups.AD_GROUPS)),
    (_ADS, ads.listed),
    (CATALOG["gaps"], gaps.products),
    (CATALOG["gaps"], gaps.unadvertised),
    (CATALOG["gaps"], gaps.concentration),
    (CATALOG["eligibility"], gaps.ineligible),
    (CATALOG["gaps"], catch_all.usual_clicks),
    (CATALOG["listings"], pages.listed),
    (CATALOG["duplicates"], structure.duplicates),
    (CATALOG["structure"], structure.faults),
    (DELIVERY["placements"], lambda facts, selection: placements.judged(facts, selection, "account")),
    (DELIVERY["placements"], placements.judged),
    *(
        (DELIVERY["hours"], work)
        for work in (hours.grid, hours.by_hour, hours.found_segments, out_of_budget.hours, hours.judged)
    ),
    (DELIVERY["budgets"], budgets.campaign_rows),
    (DELIVERY["budgets"], budgets.moved),
    (_ADS, standing.standing_data),
    (_ADS, standing.account_places),
    (_ADS, standing.mix),
    (_ADS, standing.compared_products),
    (("query_funnel",), query_shares.shares),
    (market.SOURCES, pool.pool),
    ((market.LISTS,), ranks.gaps),
    ((market.LISTS, "rivals"), ranks.rivals),
    ((market.LISTS,), coverage.rows),
    ((market.LISTS,), overlaps.rows),
    (TARGET_SOURCES, shares.top_of_search),
    (("search_term_daily",), shares.small_shares),
    (_ADS, lambda facts, selection: standing.groups(facts, selection, "category")),
    (_ADS, lambda facts, selection: standing.groups(facts, selection, "format")),
    (TOTAL_SOURCES, _agreeing),
)
_AGAINST: Final[Sequence[_Work]] = (
    (_ADS, standing.standing_data),
    (
        sources(Subject.TARGET),
        lambda facts, selection: target_frames.target_sums(facts, selection.account.id, selection.window),
    ),
    (
        sources(Subject.TERM),
        lambda facts, selection: target_frames.term_sums(facts, selection.account.id, selection.window),
    ),
)
"""What pages hold beside it, of the days compared with."""
_MOVED: Final[Mapping[str, tuple[str, ...]]] = {
    "product": TOTAL_SOURCES,
    "campaign": TOTAL_SOURCES,
    "keyword": TARGET_SOURCES,
}
"""What pages of movement show first, of which it is told who moved it."""


ASKED: Final[Mapping[str, Callable[..., Any]]] = {
    Judged.TARGETS: judged_targets,
    Judged.TERMS: judged_terms,
    Judged.ADS: judged_ads,
    "advised bids": bid_advice.advised,
    "words": judged_words,
    "phrases never bought": pool.pool,
    "findings": without,
    "sums": Facts.sums,
    "month grid": Facts.month_grid,
    "hour sums": delivery_frames.hour_sums,
    "hours of part": hours.sums,
    "hours out of budget": out_of_budget.hours,
    "usual clicks": catch_all.usual_clicks,
    "cheap clicks": catch_all.target_days,
}
"""What another process may ask for besides, by what it is called in `judged.asked_of_helper` and `Facts.if_many`."""

SUMS: Final = frozenset({"sums", "month grid", "hour sums", "hours of part"})
"""Those of them that a page shows before its verdicts."""


def selections(facts: Facts, account: Account, aims: Aims) -> Iterator[Selection]:
    """The usual looks at an account, each compared with what it usually is."""
    newest = facts.newest_day(account.id)
    if newest is None:
        return
    seen = set()
    for text in ("", *DAYS, f"{newest:%Y-%m}"):
        selection = asked(facts, account, aims, text)
        if selection is not None and selection.window not in seen:
            seen.add(selection.window)
            yield selection


def steps(facts: Facts, selection: Selection, away: Sequence[PutAway], today: date) -> Iterator[Callable[[], Any]]:
    """What is worked out for one look, piece by piece, so that whoever does it can stop between two."""
    for needed, work in (*_ROWS, (SOURCES, _findings(away, today)), *_PAGES):
        if lacking(facts, selection.account, selection.window, needed) is None:
            yield lambda work=work: work(facts, selection)  # type: ignore[misc]
    yield lambda: pulse.beat(facts, selection, today)
    if selection.against is None:
        return
    then = selection.at(selection.against)
    for needed, work in _AGAINST:
        if lacking(facts, selection.account, selection.against, needed) is None:
            yield lambda work=work: work(facts, then)  # type: ignore[misc]
    for by, needed in _MOVED.items():
        if not any(lacking(facts, selection.account, days, needed) for days in (selection.window, selection.against)):
            yield lambda by=by: movement.sides(facts, selection, by)  # type: ignore[misc]


def _findings(away: Sequence[PutAway], today: date) -> Callable[[Facts, Selection], Any]:
    return lambda facts, selection: findings(facts, selection, away, today)
