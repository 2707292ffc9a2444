"""What each report makes possible, in the order of its worth to an audit, and what is possible with those held."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Final

from nimbus_reef.formats.kinds import KINDS


@dataclass(frozen=True, slots=True)
class Possible:
    """
    What a kind of report makes possible. also: other reports that would bring it too, less well; opens: the endpoint
    and view that show it.
    """

    kind: str
    what: str
    opens: tuple[str, str]
    also: tuple[str, ...] = ()


ORDER: Final = (
    Possible(
        "search_term_daily",
        "costly search terms with what a negative would also stop, words to shut out, winners to promote; "
        "by themselves also keywords and totals, as far as clicks have a term",
        ("targeting.table", "terms"),
    ),
    Possible(
        "target_daily",
        "costly keywords, whole: all their clicks, and the bid each is worth",
        ("targeting.table", "targets"),
        ("search_term_daily",),
    ),
    Possible(
        "targets",
        "the bids themselves: proposals to move them, what runs and what does not",
        ("targeting.table", "targets"),
    ),
    Possible(
        "product_ad_daily",
        "products that drain an ad group, families with money on the wrong child, who moved the cost of sale",
        ("catalog.view", "ads"),
    ),
    Possible(
        "campaigns",
        "budgets, placements’ adjustments, portfolios and formats to look at one by one",
        ("delivery.view", "budgets"),
    ),
    Possible(
        "catalog",
        "families, eligibility, margins and break-even; what a product is called guards its negatives",
        ("catalog.view", "families"),
    ),
    Possible(
        "product_sales_daily",
        "all trade: TACOS, organic sales, products that sell and are not advertised",
        ("catalog.view", "gaps"),
    ),
    Possible(
        "placement_daily",
        "where on the marketplace money earns, off-site spend, base bid and adjustments together",
        ("delivery.view", "placements"),
    ),
    Possible("hourly", "hours that earn, budgets that run dry and what that costs", ("delivery.view", "hours")),
    Possible(
        "campaign_daily",
        "totals of campaigns and account that hold every click",
        ("standing.view", "tree"),
        ("target_daily", "placement_daily", "product_ad_daily"),
    ),
    Possible("peer_benchmarks", "how every metric stands against category peers", ("standing.view", "tree")),
    Possible(
        "listings",
        "pages that lack something, and conversion that fell when a page changed",
        ("catalog.view", "listings"),
    ),
    Possible(
        "product_ads",
        "what is advertised at all, with traffic or without",
        ("catalog.view", "gaps"),
        ("product_ad_daily",),
    ),
    Possible(
        "ad_groups",
        "ad groups that are paused, so that nothing is proposed for what does not run",
        ("catalog.view", "structure"),
    ),
    Possible("query_funnel", "shares of search queries, and where shoppers are lost", ("standing.view", "queries")),
    Possible("sales_hourly", "organic sales by hour beside those of ads", ("delivery.view", "hours")),
    Possible("changes", "what somebody changed, on every trend, to be set back", ("movement.view", "trends")),
    Possible("boosts", "raises in force in the real highest bid", ("delivery.view", "boosts")),
    Possible("events", "sale events to plan raises for", ("delivery.view", "boosts")),
    Possible("peer_format_mix", "the mix of ad formats against peers", ("standing.view", "formats")),
)
"""Every kind that a page shows, the most useful first."""


@dataclass(frozen=True, slots=True)
class PossibleLine:
    """A line of the list: which report, what it makes possible, how that stands."""

    title: str
    what: str
    state: str
    held: bool
    opens: tuple[str, str]


def lines(held: Collection[str]) -> list[PossibleLine]:
    """All kinds in the order of their worth; held: those that anything is held of."""
    return [
        PossibleLine(KINDS[each.kind].title, each.what, _state(each, held), each.kind in held, each.opens)
        for each in ORDER
    ]


def _state(each: Possible, held: Collection[str]) -> str:
    if each.kind in held:
        return "possible"
    stand_in = next((kind for kind in each.also if kind in held), None)
    return f"in part, from {KINDS[stand_in].title.lower()}" if stand_in else "not yet"
