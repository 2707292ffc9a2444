"""
What an account may set otherwise than is usual: one register of name, default, unit, what it changes.

A field of `Settings` is a setting; what is told of it stands beside its default. Rates are fractions here and per cent
where people type them, money is in units of the account's currency.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from enum import StrEnum
from functools import cache
from typing import Any, Final

from nimbus_reef.core.bids import STANDARD_LIMITS, STANDARD_RULE, STEP_DOWN, STEP_UP, BidLimits, BidRule, Goal, Pace
from nimbus_reef.core.budgets import STANDARD as IDLE
from nimbus_reef.core.budgets import IdleLimits
from nimbus_reef.core.costly_words import STANDARD as OUT
from nimbus_reef.core.costly_words import WordLimits
from nimbus_reef.core.families import COSTLY_INDEX, KEPT_SHARE, LEAST_SHARE
from nimbus_reef.core.hours import STANDARD as DRY
from nimbus_reef.core.hours import DryLimits
from nimbus_reef.core.keyword_coverage import STANDARD as COVERAGE
from nimbus_reef.core.listings import SIDE_DAYS, PageLimits
from nimbus_reef.core.listings import STANDARD as FULL_PAGE
from nimbus_reef.core.model import Placement
from nimbus_reef.core.movement import STANDARD as TOLD
from nimbus_reef.core.movement import MovementLimits
from nimbus_reef.core.own_overlaps import OWN_FIRST
from nimbus_reef.core.placements import BASE_SHARE
from nimbus_reef.core.rank_gaps import STANDARD as BATTLES
from nimbus_reef.core.search_shares import STANDARD as SHARES
from nimbus_reef.core.structure import STANDARD as STEERABLE
from nimbus_reef.core.structure import StructureLimits
from nimbus_reef.core.unbought import CAREFUL, LEAST_GAIN, PAYS_AT


class Holds(StrEnum):
    """What a setting's value is."""

    COUNT = "count"
    RATE = "rate"
    MONEY = "money"
    FIGURE = "figure"
    WORDS = "words"
    TEXT = "text"
    CHOICE = "choice"


class SettingGroup(StrEnum):
    """Where a setting stands among the others."""

    JUDGING = "targets and margins"
    BIDS = "bids"
    PLAN = "questions in the plan"
    WORDS = "own words"
    CHECKS = "limits of checks"
    REPORT = "client report"


class PaceChoice(StrEnum):
    """How far a bid moves in one audit: by how often the account is audited, or as chosen."""

    BY_REPEAT = "by how often you audit"
    HALF = Pace.HALF.value
    AT_ONCE = Pace.AT_ONCE.value
    STEPS = Pace.STEPS.value


REPEATED_MONTHLY: Final = 28
"""Days between audits from which on a bid moves all of the way at once: nobody comes back to do the other half."""


@dataclass(frozen=True, slots=True)
class AccountSetting:
    """
    One setting. unit: what stands behind its figure; changes: which figures it moves; least, most: what can be meant,
    both included; options: what can be chosen.
    """

    key: str
    label: str
    group: SettingGroup
    holds: Holds
    unit: str
    changes: str
    default: Any
    least: float
    most: float
    options: tuple[str, ...] = ()


def _set(
    default: Any,
    label: str,
    group: SettingGroup,
    holds: Holds,
    changes: str,
    unit: str = "",
    least: float = 0,
    most: float = 1e6,
) -> Any:
    return field(
        default=default,
        metadata={
            "label": label,
            "group": group,
            "holds": holds,
            "changes": changes,
            "unit": unit,
            "least": least,
            "most": most,
        },
    )


def _choice(default: StrEnum, label: str, group: SettingGroup, changes: str) -> Any:
    """One of a few words."""
    options = tuple(each.value for each in type(default))
    return field(
        default=default.value,
        metadata={
            "label": label,
            "group": group,
            "holds": Holds.CHOICE,
            "changes": changes,
            "unit": "",
            "least": 0,
            "most": 0,
            "options": options,
        },
    )


def _limit(default: int, label: str, changes: str, unit: str, least: float, most: float) -> Any:
    """A limit of a check that is counted."""
    return _set(default, label, SettingGroup.CHECKS, Holds.COUNT, changes, unit, least, most)


def _share(default: float, label: str, changes: str, least: float, most: float) -> Any:
    """A limit of a check that is a share."""
    return _set(default, label, SettingGroup.CHECKS, Holds.RATE, changes, "%", least, most)


class OwnBrand(StrEnum):
    """What happens to bids on the own brand: buyers look for it anyway."""

    CUT = "only lowered"
    BOTH = "lowered and raised"


@dataclass(frozen=True, slots=True)
class Settings:
    """All settings of an account."""

    min_clicks: int = _set(
        10,
        "minimum clicks for the simple rule",
        SettingGroup.JUDGING,
        Holds.COUNT,
        "the simple rule in Targeting and its filters",
        "clicks",
        1,
        10_000,
    )
    min_clicks_of: tuple[str, ...] = _set(
        (),
        "minimum clicks for single products, as “SKU 20”",
        SettingGroup.JUDGING,
        Holds.WORDS,
        "the simple rule on their targets",
    )
    least_days_of: tuple[str, ...] = _set(
        (),
        "days before a campaign is judged by its purpose, as “launch 30”",
        SettingGroup.JUDGING,
        Holds.WORDS,
        "younger campaigns of that purpose are never above target",
    )
    maturing_days: int = _set(
        3,
        "days until sales are complete",
        SettingGroup.JUDGING,
        Holds.COUNT,
        "where “last 30 days” ends, maturing days, conversion drops",
        "days",
        0,
        60,
    )
    audit_days: int = _set(
        14,
        "days from one audit to the next",
        SettingGroup.JUDGING,
        Holds.COUNT,
        "when the next audit is due, and from 28 days on bids move all of the way at once",
        "days",
        1,
        92,
    )
    attribution_days: int = _set(
        14,
        "days after a click in which an order counts",
        SettingGroup.JUDGING,
        Holds.COUNT,
        "no figure; it is printed on the report",
        "days",
        1,
        90,
    )
    margin: float = _set(
        0.0,
        "margin before ads for products without one in the catalog",
        SettingGroup.JUDGING,
        Holds.RATE,
        "break-even ACOS, profit after ads, effect on profit in Drift; 0 means unknown",
        "% of sales",
        0,
        0.95,
    )
    goal: str = _choice(Goal.SALES, "bids are to bring", SettingGroup.BIDS, "every proposed bid")
    pace: str = _choice(
        PaceChoice.BY_REPEAT, "how far a bid moves in one audit", SettingGroup.BIDS, "every proposed bid"
    )
    spend_more: float = _set(
        STANDARD_RULE.most_spend - 1,
        "most that all proposed bids together may add to spend",
        SettingGroup.BIDS,
        Holds.RATE,
        "every proposed raise",
        "%",
        0,
        5,
    )
    own_brand: str = _choice(
        OwnBrand.CUT, "bids on your own brand", SettingGroup.BIDS, "raises of targets on your brand"
    )
    bid_floor: float = _set(
        STANDARD_LIMITS.floor, "lowest bid", SettingGroup.BIDS, Holds.MONEY, "every proposed bid", least=0.01, most=1000
    )
    bid_ceiling: float = _set(
        STANDARD_LIMITS.ceiling,
        "highest bid",
        SettingGroup.BIDS,
        Holds.MONEY,
        "every proposed bid",
        least=0.01,
        most=1000,
    )
    step_down: float = _set(
        STEP_DOWN,
        "largest bid cut in one step",
        SettingGroup.BIDS,
        Holds.RATE,
        "every proposed bid, where bids move in steps",
        "%",
        0.01,
        0.95,
    )
    step_up: float = _set(
        STEP_UP, "largest bid raise in one step", SettingGroup.BIDS, Holds.RATE, "as above", "%", 0.01, 5
    )
    opening_least: float = _set(
        STANDARD_LIMITS.opening_least,
        "lowest opening bid of a promoted search term",
        SettingGroup.BIDS,
        Holds.RATE,
        "the first bid of a promoted search term",
        "% of its CPC",
        0.05,
        1,
    )
    opening_most: float = _set(
        STANDARD_LIMITS.opening_most,
        "highest opening bid of a promoted search term",
        SettingGroup.BIDS,
        Holds.RATE,
        "as above",
        "% of its CPC",
        1,
        5,
    )
    raise_top: float = _set(
        1.0,
        "how much the marketplace can raise a bid at top of search",
        SettingGroup.BIDS,
        Holds.RATE,
        "the highest possible bid with dynamic bidding, in Delivery",
        "%",
        0,
        9,
    )
    raise_elsewhere: float = _set(
        0.5, "how much it can raise a bid in rest of search", SettingGroup.BIDS, Holds.RATE, "as above", "%", 0, 9
    )
    raise_product_page: float = _set(
        0.5, "how much it can raise a bid on product pages", SettingGroup.BIDS, Holds.RATE, "as above", "%", 0, 9
    )
    asks_raise: float = _set(
        1.0,
        "ask before raising a bid by more than",
        SettingGroup.PLAN,
        Holds.RATE,
        "values typed on the plan, own bids, sheets uploaded again",
        "%",
        0.05,
        9,
    )
    asks_spend: float = _set(
        500.0,
        "ask before one change adds more spend than",
        SettingGroup.PLAN,
        Holds.MONEY,
        "the same check, by added spend in 30 days",
        "in 30 days",
        1,
        1e7,
    )
    send_spend_share: float = _set(
        0.25,
        "ask for a reason before sending changes that move spend by more than",
        SettingGroup.PLAN,
        Holds.RATE,
        "sending to the marketplace",
        "% of spend",
        0.01,
        9,
    )
    send_sales_share: float = _set(
        0.6,
        "ask for a reason before sending changes to things with more of the sales than",
        SettingGroup.PLAN,
        Holds.RATE,
        "sending to the marketplace",
        "% of sales",
        0.01,
        1,
    )
    send_rows_alone: int = _set(
        0,
        "changes that one person may send without another’s approval; 0 means any number",
        SettingGroup.PLAN,
        Holds.COUNT,
        "sending to the marketplace",
        "changes",
        0,
        1_000_000,
    )
    send_spend_alone: float = _set(
        0.0,
        "spend that one person may move without another’s approval; 0 means any amount",
        SettingGroup.PLAN,
        Holds.MONEY,
        "sending to the marketplace",
        "in 30 days",
        0,
        1e7,
    )
    own_words: tuple[str, ...] = _set(
        (),
        "own brand words",
        SettingGroup.WORDS,
        Holds.WORDS,
        "words never blocked, and the filter “brand”; the brand’s name and the catalog’s brands are included",
    )
    rival_words: tuple[str, ...] = _set(
        (),
        "rival brand words",
        SettingGroup.WORDS,
        Holds.WORDS,
        "the filter “brand” in Targeting; brands in the rivals report are included",
    )
    never_words: tuple[str, ...] = _set(
        (),
        "words never to block",
        SettingGroup.WORDS,
        Holds.WORDS,
        "search terms and words that are never proposed as negatives",
    )
    unwanted_words: tuple[str, ...] = _set(
        (), "words never to bid on", SettingGroup.WORDS, Holds.WORDS, "phrases with one of these words leave Reach"
    )
    size_words: tuple[str, ...] = _set(
        (),
        "words for sizes and colours",
        SettingGroup.WORDS,
        Holds.WORDS,
        "ignored in product names, so that a search for another size can become a negative",
    )
    item_pattern: str = _set(
        "",
        "an example of an item’s id",
        SettingGroup.WORDS,
        Holds.TEXT,
        "search terms of this form are treated as item ids and become item targets",
    )
    phrase_pays: float = _share(
        PAYS_AT,
        "lowest chance that a new phrase pays",
        "Reach: phrases proposed, at the usual price of a click",
        0.05,
        0.99,
    )
    phrase_gain: float = _set(
        LEAST_GAIN,
        "lowest profit of a new phrase in 28 days",
        SettingGroup.CHECKS,
        Holds.MONEY,
        "Reach: phrases proposed",
        "in 28 days",
        0,
        1e6,
    )
    battle_held: int = _limit(
        BATTLES.held, "own rank at which a phrase is left alone", "Reach: rank gaps worth a fight", "or better", 1, 100
    )
    battle_behind: int = _limit(BATTLES.behind, "own rank from which on we are behind", "as above", "or worse", 2, 200)
    battle_rivals: int = _limit(
        BATTLES.rivals, "rank that rivals must hold for a fight", "as above", "or better", 1, 100
    )
    top_share: float = _share(
        SHARES.top, "share of the top of search that is enough", "Reach: room at the top of search", 0.01, 1
    )
    top_sales: float = _set(
        SHARES.sales,
        "lowest ad sales of a target with room at the top",
        SettingGroup.CHECKS,
        Holds.MONEY,
        "Reach: room at the top of search",
        "in 30 days",
        0,
        1e6,
    )
    top_age: int = _limit(SHARES.age, "lowest age of its campaign", "Reach: room at the top of search", "days", 0, 365)
    term_share: float = _share(
        SHARES.share, "impression share of a search term that is enough", "Reach: small shares", 0.01, 1
    )
    term_rank: int = _limit(
        SHARES.rank, "worst rank among advertisers of a search term", "Reach: small shares", "or better", 1, 100
    )
    coverage_young: int = _limit(
        COVERAGE.young, "goal up to 90 days after the launch", "Reach: coverage", "phrases", 0, 100_000
    )
    coverage_year: int = _limit(
        COVERAGE.year, "goal up to a year after the launch", "Reach: coverage", "phrases", 0, 100_000
    )
    coverage_old: int = _limit(COVERAGE.old, "goal of older products", "Reach: coverage", "phrases", 0, 100_000)
    first_rank: int = _limit(
        OWN_FIRST, "own rank at which an ad may buy your own clicks", "Reach: own against own", "or better", 1, 20
    )
    chosen_rivals: tuple[str, ...] = _set(
        (),
        "rivals’ items that ranks are compared with",
        SettingGroup.WORDS,
        Holds.WORDS,
        "Reach: ranks and rivals; without any the eight of each category that rank for most of your phrases",
    )
    rival_sets: tuple[str, ...] = _set(
        (),
        "sets of rivals that are kept by name",
        SettingGroup.WORDS,
        Holds.WORDS,
        "Reach: rivals, where one of them is put in force; each as “name = item item”",
    )
    phrase_caution: float = _share(
        CAREFUL,
        "chance that a new phrase converts below what its bid assumes",
        "Reach: opening bids. Lower is more careful",
        0.05,
        0.5,
    )
    promote_orders: int = _limit(
        2, "orders before a search term is promoted", "Search terms to promote", "orders", 1, 1000
    )
    flat_change: float = _share(
        TOLD.flat, "largest change that counts as no change", "classes of products in Movement and Findings", 0, 0.5
    )
    told_clicks: int = _limit(
        TOLD.clicks, "clicks needed to judge who moved", "Movement: too early to tell", "in each period", 1, 100_000
    )
    told_orders: int = _limit(
        TOLD.orders, "orders needed to judge who moved", "Movement: too early to tell", "in each period", 1, 10_000
    )
    fall_days: int = _limit(
        SIDE_DAYS, "days before and after a listing change", "Conversion drops after a listing change", "days", 3, 60
    )
    word_share: float = _share(
        OUT.factor,
        "share of expected orders up to which a word is blocked",
        "Words to block; above this share: Words to bid down",
        0.05,
        1,
    )
    word_places: int = _limit(
        OUT.cells, "searches and targets that contain a word to block", "Words to block", "at least", 1, 100
    )
    near_budget: float = _share(
        DRY.near_budget,
        "share of the budget spent from which a day counts as out of budget",
        "hours out of budget and what they cost",
        0.5,
        1,
    )
    due_clicks: float = _set(
        DRY.due_clicks,
        "clicks still expected on a day out of budget",
        SettingGroup.CHECKS,
        Holds.FIGURE,
        "hours out of budget and what they cost",
        "at least",
        0.1,
        1000,
    )
    dry_often: float = _share(
        DRY.often,
        "share of days out of budget from which a campaign is listed",
        "Campaigns out of budget during selling hours",
        0.01,
        1,
    )
    idle_below: float = _share(
        IDLE.below, "share of its budget that a campaign with unused budget stays under", "budgets to move", 0.05, 1
    )
    idle_days: float = _share(IDLE.days, "share of days on which it stays under", "budgets to move", 0.1, 1)
    base_share: float = _share(
        BASE_SHARE,
        "share of clicks from which a placement can set the base bid",
        "base bid and adjustments, in Delivery",
        0.01,
        0.3,
    )
    most_targets: int = _limit(
        STEERABLE.targets, "targets in an ad group", "Catalog, Structure: hard to steer", "at most", 1, 10_000
    )
    most_match_types: int = _limit(
        STEERABLE.match_types, "match types in a campaign", "Catalog, structure", "at most", 1, 10
    )
    most_families: int = _limit(STEERABLE.families, "families in an ad group", "Catalog, structure", "at most", 1, 100)
    child_share: float = _share(
        LEAST_SHARE, "share of a family’s spend from which a variation is checked", "Spend on the wrong variation", 0, 1
    )
    child_index: float = _set(
        COSTLY_INDEX,
        "share of sales ÷ share of spend below which a variation is the wrong one",
        SettingGroup.CHECKS,
        Holds.FIGURE,
        "Spend on the wrong variation",
        least=0.01,
        most=1,
    )
    child_kept: float = _share(
        KEPT_SHARE,
        "share of a family’s spend that stays on each variation",
        "how much spend moves away from a variation",
        0,
        0.5,
    )
    least_images: int = _limit(FULL_PAGE.images, "pictures of a page", "Catalog, listings", "at least", 0, 50)
    least_bullets: int = _limit(FULL_PAGE.bullets, "bullets of a page", "Catalog, listings", "at least", 0, 50)
    least_reviews: int = _limit(FULL_PAGE.reviews, "reviews of a product", "Catalog, listings", "at least", 0, 100_000)
    least_rating: float = _set(
        FULL_PAGE.rating,
        "rating of a product",
        SettingGroup.CHECKS,
        Holds.FIGURE,
        "Catalog, listings",
        "at least",
        0,
        5,
    )
    shortest_title: int = _limit(
        FULL_PAGE.title[0], "length of a title", "Catalog, listings", "characters at least", 0, 500
    )
    longest_title: int = _limit(
        FULL_PAGE.title[1], "length of a title", "Catalog, listings", "characters at most", 1, 1000
    )

    report_name: str = _set(
        "", "your name on the report", SettingGroup.REPORT, Holds.TEXT, "the first line of the client’s report"
    )

    @property
    def bid_limits(self) -> BidLimits:
        """What a proposed bid keeps to; steps only where bids move in steps."""
        down, up = (self.step_down, self.step_up) if self.pace == Pace.STEPS else (None, None)
        return BidLimits(self.bid_floor, self.bid_ceiling, down, up, self.opening_least, self.opening_most)

    @property
    def bid_rule(self) -> BidRule:
        """How bids move: without a choice half of the way, or all of it where audits are a month apart."""
        usual = Pace.AT_ONCE if self.audit_days >= REPEATED_MONTHLY else Pace.HALF
        pace = usual if self.pace == PaceChoice.BY_REPEAT else Pace(self.pace)
        return BidRule(pace, 1 + self.spend_more, self.own_brand == OwnBrand.BOTH)

    @property
    def clicks_of_products(self) -> Mapping[str, int]:
        """The minimum clicks of single products, by SKU."""
        entries = (each.rsplit(maxsplit=1) for each in self.min_clicks_of)
        return {sku: int(clicks) for sku, clicks in entries}

    @property
    def days_of_purposes(self) -> Mapping[str, int]:
        """The days before which campaigns of a purpose are not judged, by purpose."""
        entries = (each.rsplit(maxsplit=1) for each in self.least_days_of)
        return {purpose: int(days) for purpose, days in entries}

    @property
    def structure(self) -> StructureLimits:
        """More than these cannot be steered."""
        return StructureLimits(self.most_targets, self.most_match_types, self.most_families)

    @property
    def movement(self) -> MovementLimits:
        """From when on something moved."""
        return MovementLimits(self.flat_change, self.told_clicks, self.told_orders)

    @property
    def words_out(self) -> WordLimits:
        """Which costly words may be shut out."""
        return WordLimits(self.word_share, self.word_places)

    @property
    def dry(self) -> DryLimits:
        """From when on a day, and a campaign, ran dry."""
        return DryLimits(self.near_budget, self.due_clicks, self.dry_often)

    @property
    def idle(self) -> IdleLimits:
        """Which campaigns have budget to give."""
        return IdleLimits(self.idle_below, self.idle_days)

    @property
    def pages(self) -> PageLimits:
        """What a product page should have."""
        return PageLimits(
            self.least_images,
            self.least_bullets,
            self.least_reviews,
            self.least_rating,
            (self.shortest_title, self.longest_title),
        )

    @property
    def raising(self) -> Mapping[Placement, float]:
        """How far the marketplace may raise a bid by itself."""
        return {
            Placement.TOP_OF_SEARCH: self.raise_top,
            Placement.ELSEWHERE_IN_SEARCH: self.raise_elsewhere,
            Placement.PRODUCT_PAGE: self.raise_product_page,
        }


@cache
def register() -> Mapping[str, AccountSetting]:
    """Every setting by its key, in the order of the page."""
    return {
        each.name: AccountSetting(key=each.name, default=each.default, **each.metadata) for each in fields(Settings)
    }


USUAL: Final = Settings()


def problem(setting: AccountSetting, value: Any) -> str | None:
    """Why a value cannot be meant, or None."""
    if setting.key == "min_clicks_of" and not all(
        len(each.split()) > 1 and each.split()[-1].isdecimal() for each in value
    ):
        return "has to be a SKU and a number of clicks, such as SW-20 15"
    if setting.key == "least_days_of" and not all(
        len(each.split()) > 1 and each.split()[-1].isdecimal() for each in value
    ):
        return "has to be a purpose and a number of days, such as launch 30"
    if setting.holds is Holds.CHOICE:
        return None if value in setting.options else f"has to be one of: {', '.join(setting.options)}"
    if setting.holds in (Holds.WORDS, Holds.TEXT):
        return None
    if not setting.least <= value <= setting.most:
        per = 100 if setting.holds is Holds.RATE else 1
        return f"has to be from {setting.least * per:g} to {setting.most * per:g}"
    return None


def together_problem(settings: Settings) -> str | None:
    """Why settings contradict each other, or None."""
    if settings.bid_floor > settings.bid_ceiling:
        return "The lowest bid is above the highest bid."
    if settings.shortest_title > settings.longest_title:
        return "The shortest title is longer than the longest title."
    return None
