"""
The nouns of the trade: measures, formats, match types, states, and their spelling.

The strings are those of the open file contract (docs/data-contract.md), so a value
is spelt the same in a file, in the database, in a URL and in a frame.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Final

MICRO: Final = 1_000_000
"""Micro-units in one unit of money."""

MEASURES: Final = ("impressions", "clicks", "spend", "orders", "units", "sales")
"""What every daily report counts; spend and sales in micro-units."""

MONEY_MEASURES: Final = frozenset({"spend", "sales"})


class Format(StrEnum):
    """What kind of ad a campaign runs."""

    PRODUCT = "product"
    BRAND = "brand"
    DISPLAY = "display"


SCOPES: Final = ("all", *Format)
"""The label of a batch; stored in facts as its place in this list."""


class Targeting(StrEnum):
    """Who chooses the searches: the marketplace or the manager."""

    AUTO = "auto"
    MANUAL = "manual"


class State(StrEnum):
    """Whether a campaign, ad group, target or product ad runs."""

    ENABLED = "enabled"
    PAUSED = "paused"
    ARCHIVED = "archived"


class MatchType(StrEnum):
    """How a target meets a search; the negative ones keep ads away from it."""

    EXACT = "exact"
    PHRASE = "phrase"
    BROAD = "broad"
    AUTO = "auto"
    ITEM = "item"
    CATEGORY = "category"
    NEGATIVE_EXACT = "negative_exact"
    NEGATIVE_PHRASE = "negative_phrase"
    NEGATIVE_ITEM = "negative_item"

    @property
    def negative(self) -> bool:
        """True for targets that keep ads away from a search."""
        return self.value.startswith("negative_")


class Bidding(StrEnum):
    """Whether the marketplace may move a bid by itself, and which way."""

    FIXED = "fixed"
    DOWN_ONLY = "down_only"
    UP_AND_DOWN = "up_and_down"


class Placement(StrEnum):
    """Where on the marketplace, or outside it, an ad was shown."""

    TOP_OF_SEARCH = "top_of_search"
    ELSEWHERE_IN_SEARCH = "elsewhere_in_search"
    PRODUCT_PAGE = "product_page"
    OFF_SITE = "off_site"


PLACEMENTS: Final[Mapping[str, str]] = {
    Placement.TOP_OF_SEARCH.value: "top of search",
    Placement.ELSEWHERE_IN_SEARCH.value: "rest of search",
    Placement.PRODUCT_PAGE.value: "product pages",
    Placement.OFF_SITE.value: "off-site",
}
"""What each is called."""


class Verdict(StrEnum):
    """What the evidence says about a row's cost of sale against its target."""

    ABOVE = "above target"
    LIKELY_ABOVE = "likely above target"
    TOO_EARLY = "too early to tell"
    WITHIN = "within target"
    NOT_ENOUGH = "not enough data"


FORMER_WORDS: Final[Mapping[str, str]] = {
    "costly": Verdict.ABOVE,
    "leaning costly": Verdict.LIKELY_ABOVE,
    "undecided": Verdict.TOO_EARLY,
    "fine": Verdict.WITHIN,
    "over target": "above target by the rule",
    "within target": "within target by the rule",
}
"""Words of verdicts in addresses and saved views made before they had today's; they stay understood."""


class SimpleVerdict(StrEnum):
    """What the rule of thumb says: so many clicks, then ACOS above target or no order."""

    OVER = "above target by the rule"
    NO_ORDER = "no order"
    UNDER = "within target by the rule"
    FEW_CLICKS = "too few clicks"


def from_micro(micro: float) -> float:
    """Micro-units as units of money."""
    return micro / MICRO
