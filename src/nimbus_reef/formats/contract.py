"""
The report kinds and their columns: the open file contract, as data.

docs/data-contract.md is the prose of it; a test holds the two together.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Final

from nimbus_reef.core.model import MEASURES, MONEY_MEASURES, Bidding, Format, MatchType, State, Targeting


class Holds(StrEnum):
    """What a column's cells are."""

    DATE = "date"
    TEXT = "text"
    COUNT = "count"
    MONEY = "money"
    SHARE = "share"
    PERCENT = "percent"
    RANK = "rank"
    CHOICE = "choice"


@dataclass(frozen=True, slots=True)
class Column:
    """
    One column of a report kind.

    words: how other people's reports head such a column. aliases: other spellings of
    a choice's values, letters only, lower case, on top of the values themselves.
    """

    name: str
    holds: Holds
    required: bool = True
    words: tuple[str, ...] = ()
    aliases: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_measure(self) -> bool:
        """True for what is counted and summed."""
        return self.name in MEASURES


class Replaces(StrEnum):
    """What a newly loaded file takes the place of."""

    DAYS = "days"
    KEYS = "keys"


@dataclass(frozen=True, slots=True)
class ReportKind:
    """A kind of report: what a row is, its columns, and its key besides the day."""

    name: str
    title: str
    row_is: str
    columns: tuple[Column, ...]
    key: tuple[str, ...]
    replaces: Replaces = Replaces.DAYS

    @property
    def has_campaign(self) -> bool:
        """True when rows belong to a campaign, and so to an ad format."""
        return any(column.name == "campaign" for column in self.columns)

    @property
    def has_days(self) -> bool:
        """True when a row belongs to a day."""
        return any(column.name == "date" for column in self.columns)

    def column(self, name: str) -> Column:
        """A column by its name in the contract."""
        return next(column for column in self.columns if column.name == name)


def _own_words(enum: type[StrEnum]) -> dict[str, str]:
    return {value.value.replace("_", " "): value.value for value in enum}


_MEASURE_WORDS: Final[dict[str, tuple[str, ...]]] = {
    "impressions": ("impressions", "impr", "views", "shown", "times shown", "ad views"),
    "clicks": ("clicks", "click count", "ad clicks", "visits from ads"),
    "spend": ("spend", "cost", "ad spend", "costs", "total cost", "amount spent", "ad cost"),
    "orders": ("orders", "purchases", "conversions", "total orders", "order count", "ad orders"),
    "units": ("units", "units sold", "items sold", "quantity", "pieces", "total units"),
    "sales": ("sales", "revenue", "ad sales", "total sales", "turnover", "sales value"),
}


def _measures() -> tuple[Column, ...]:
    return tuple(
        Column(
            name,
            Holds.MONEY if name in MONEY_MEASURES else Holds.COUNT,
            required=name != "units",
            words=_MEASURE_WORDS[name],
        )
        for name in MEASURES
    )


_DATE = Column("date", Holds.DATE, words=("date", "day", "report date", "on"))
_CAMPAIGN = Column("campaign", Holds.TEXT, words=("campaign", "campaign name", "name of campaign"))
_CAMPAIGN_ID = Column("campaign_id", Holds.TEXT, False, ("campaign id", "campaign number"))
_AD_GROUP = Column("ad_group", Holds.TEXT, words=("ad group", "ad group name", "adgroup", "group"))
_AD_GROUP_ID = Column("ad_group_id", Holds.TEXT, False, ("ad group id", "ad group number"))
_TARGET = Column(
    "target", Holds.TEXT,
    words=("target", "keyword", "targeting", "keyword text", "target text", "bid on"),
)  # fmt: skip
_TARGET_ID = Column("target_id", Holds.TEXT, False, ("target id", "keyword id"))
_MATCH_TYPE = Column(
    "match_type", Holds.CHOICE, words=("match type", "match", "matching", "target type"),
    aliases={
        **_own_words(MatchType), "exact match": "exact", "phrase match": "phrase",
        "broad match": "broad", "automatic": "auto", "product": "item", "items": "item",
        "categories": "category", "neg exact": "negative_exact", "neg phrase": "negative_phrase",
        "neg item": "negative_item",
    },
)  # fmt: skip
_STATE = Column(
    "state", Holds.CHOICE, words=("state", "status"),
    aliases={
        **_own_words(State), "active": "enabled", "on": "enabled", "running": "enabled",
        "live": "enabled", "inactive": "paused", "off": "paused", "stopped": "paused",
        "ended": "archived", "deleted": "archived",
    },
)  # fmt: skip
_OPTIONAL_STATE = Column("state", Holds.CHOICE, False, _STATE.words, _STATE.aliases)
_SKU = Column("sku", Holds.TEXT, words=("sku", "product", "article", "product code", "article number"))
_YES_NO = {
    "yes": "yes",
    "no": "no",
    "true": "yes",
    "false": "no",
    "y": "yes",
    "n": "no",
    "1": "yes",
    "0": "no",
}


def _adjustment(place: str) -> Column:
    words = place.replace("_", " ")
    return Column(f"adj_{place}", Holds.PERCENT, False, (f"adj {words}", f"{words} adjustment"))


KINDS: Final[dict[str, ReportKind]] = {
    kind.name: kind
    for kind in (
        ReportKind(
            "campaigns", "Campaigns", "a campaign's settings on a day",
            (
                _DATE, _CAMPAIGN, _CAMPAIGN_ID,
                Column("portfolio", Holds.TEXT, False, ("portfolio", "portfolio name")),
                Column(
                    "format", Holds.CHOICE, words=("format", "ad format", "ad type", "campaign type"),
                    aliases={**_own_words(Format), "product ads": "product", "brand ads": "brand",
                             "display ads": "display"},
                ),
                Column(
                    "targeting", Holds.CHOICE, words=("targeting", "targeting type"),
                    aliases={**_own_words(Targeting), "automatic": "auto"},
                ),
                _STATE,
                Column("daily_budget", Holds.MONEY, words=("daily budget", "budget", "budget per day")),
                Column(
                    "bidding", Holds.CHOICE, False, ("bidding", "bidding strategy", "bid strategy"),
                    {**_own_words(Bidding), "fixed bids": "fixed", "down": "down_only",
                     "up down": "up_and_down"},
                ),
                _adjustment("top_of_search"), _adjustment("product_page"), _adjustment("elsewhere"),
                Column("offsite_limited", Holds.CHOICE, False, ("offsite limited",), _YES_NO),
                Column("start_date", Holds.DATE, False, ("start date", "started", "start")),
            ),
            ("campaign",),
        ),
        ReportKind(
            "targets", "Targets", "a target's settings on a day",
            (
                _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _TARGET, _TARGET_ID,
                _MATCH_TYPE, _STATE,
                Column("bid", Holds.MONEY, False, ("bid", "max bid", "keyword bid", "current bid")),
                Column("ad_group_bid", Holds.MONEY, False, ("ad group bid", "default bid")),
            ),
            ("campaign", "ad_group", "target", "match_type"),
        ),
        ReportKind(
            "target_daily", "Targets by day", "target × day",
            (
                _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _TARGET, _TARGET_ID,
                _MATCH_TYPE, *_measures(),
                Column("top_of_search_share", Holds.SHARE, False,
                       ("top of search share", "top of search impression share")),
            ),
            ("campaign", "ad_group", "target", "match_type"),
        ),
        ReportKind(
            "search_term_daily", "Search terms by day", "term × target × day",
            (
                _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _TARGET, _TARGET_ID,
                _MATCH_TYPE,
                Column("search_term", Holds.TEXT, words=(
                    "search term", "search query", "query", "searched", "shopper searched",
                    "customer search", "search phrase")),
                *_measures(),
                Column("impression_share", Holds.SHARE, False, ("impression share",)),
                Column("impression_rank", Holds.RANK, False, ("impression rank", "rank")),
            ),
            ("campaign", "ad_group", "target", "match_type", "search_term"),
        ),
        ReportKind(
            "product_ad_daily", "Product ads by day", "SKU in ad group × day",
            (
                _DATE, _CAMPAIGN, _CAMPAIGN_ID, _AD_GROUP, _AD_GROUP_ID, _SKU, _OPTIONAL_STATE,
                *_measures(),
            ),
            ("campaign", "ad_group", "sku"),
        ),
        ReportKind(
            "catalog", "Catalog", "a product",
            (
                _SKU,
                Column("item_id", Holds.TEXT, words=("item id", "item", "listing id", "item number")),
                Column("parent_item_id", Holds.TEXT, False, ("parent item id", "parent", "family")),
                Column("title", Holds.TEXT, words=("title", "product title", "product name", "name")),
                Column("brand", Holds.TEXT, False, ("brand", "brand name", "maker")),
                Column("category", Holds.TEXT, False, ("category", "product category", "group")),
                Column("launch_date", Holds.DATE, False, ("launch date", "launched", "first available")),
                Column("price", Holds.MONEY, False, ("price", "selling price", "list price")),
                Column("margin", Holds.PERCENT, False, ("margin", "margin before ads", "margin percent")),
                Column("fulfilment", Holds.CHOICE, False, ("fulfilment", "shipped by", "fulfilled by"),
                       {"marketplace": "marketplace", "merchant": "merchant", "own": "merchant"}),
                Column("ad_eligible", Holds.CHOICE, False, ("ad eligible", "eligible", "may advertise"),
                       _YES_NO),
                Column("ineligible_reason", Holds.TEXT, False, ("ineligible reason", "reason")),
            ),
            ("sku",),
            replaces=Replaces.KEYS,
        ),
    )
}  # fmt: skip


def kind(name: str) -> ReportKind:
    """A report kind by name; a KeyError is a mistake of the caller."""
    return KINDS[name]
