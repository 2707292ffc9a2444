"""What each report adds, in the order of its worth to an audit, and what is possible with those held."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Final

from nimbus_reef.formats.kinds import KINDS


@dataclass(frozen=True, slots=True)
class Possible:
    """
    What a kind of report adds. also: other reports that would bring it too, less well; opens: the endpoint
    and view that show it.
    """

    kind: str
    what: str
    opens: tuple[str, str]
    also: tuple[str, ...] = ()


ORDER: Final = (
    Possible(
        "search_term_daily",
        "wasted search terms with what a negative would also stop, words to block, search terms to promote; "
        "alone also keywords and totals of clicks with a term",
        ("targeting.table", "terms"),
    ),
    Possible(
        "target_daily",
        "keywords above target with all their clicks, and the bid each is worth",
        ("targeting.table", "targets"),
        ("search_term_daily",),
    ),
    Possible(
        "targets", "the bids: proposals to change them, what is live and what is paused", ("targeting.table", "targets")
    ),
    Possible(
        "product_ad_daily",
        "product ads wasting spend, spend on the wrong variation, what moved ACOS",
        ("catalog.view", "ads"),
    ),
    Possible("campaigns", "budgets, bid adjustments, portfolios and formats", ("delivery.view", "budgets")),
    Possible(
        "catalog",
        "families, eligibility, margins and break-even; product names protect against harmful negatives",
        ("catalog.view", "families"),
    ),
    Possible(
        "product_sales_daily",
        "total sales: TACOS, organic sales, selling products without ads",
        ("catalog.view", "gaps"),
    ),
    Possible(
        "placement_daily", "placements, off-site spend, base bid and adjustments", ("delivery.view", "placements")
    ),
    Possible("hourly", "strong and weak hours, campaigns out of budget and missed sales", ("delivery.view", "hours")),
    Possible(
        "campaign_daily",
        "complete totals of campaigns and the account",
        ("standing.view", "tree"),
        ("target_daily", "placement_daily", "product_ad_daily"),
    ),
    Possible("peer_benchmarks", "every metric against category peers", ("standing.view", "tree")),
    Possible("listings", "incomplete pages, conversion drops after a listing change", ("catalog.view", "listings")),
    Possible(
        "product_ads",
        "which products are advertised, with or without traffic",
        ("catalog.view", "gaps"),
        ("product_ad_daily",),
    ),
    Possible("ad_groups", "paused ad groups, so that nothing is proposed for them", ("catalog.view", "structure")),
    Possible("query_funnel", "shares of search queries, and where shoppers drop off", ("standing.view", "queries")),
    Possible(
        "keyword_ranks",
        "phrases that you never bought and that would pay, rank gaps, what rivals pay for",
        ("reach.view", "phrases"),
        ("query_funnel",),
    ),
    Possible("phrase_lists", "phrases from anywhere, asked whether they would pay", ("reach.view", "phrases")),
    Possible(
        "rivals", "whose brand a phrase names, and who your rivals are", ("reach.view", "rivals"), ("keyword_ranks",)
    ),
    Possible("sales_hourly", "organic sales by hour next to ad sales", ("delivery.view", "hours")),
    Possible("changes", "changes made, on every trend, to undo them", ("movement.view", "trends")),
    Possible("boosts", "active boosts in the highest possible bid", ("delivery.view", "boosts")),
    Possible("events", "sale events to plan boosts for", ("delivery.view", "boosts")),
    Possible("peer_format_mix", "the mix of ad formats against peers", ("standing.view", "formats")),
)
"""Every kind that a page shows, the most useful first."""


@dataclass(frozen=True, slots=True)
class PossibleLine:
    """A line of the list: which report, what it adds, how that stands."""

    title: str
    what: str
    state: str
    loaded: bool
    opens: tuple[str, str]


def lines(names: Collection[str]) -> list[PossibleLine]:
    """All kinds in the order of their worth; held: those that anything is held of."""
    return [
        PossibleLine(KINDS[each.kind].title, each.what, _state(each, names), each.kind in names, each.opens)
        for each in ORDER
    ]


def _state(each: Possible, names: Collection[str]) -> str:
    if each.kind in names:
        return "possible"
    stand_in = next((kind for kind in each.also if kind in names), None)
    return f"in part, from {KINDS[stand_in].title.lower()}" if stand_in else "not yet"
