"""What a check is, the register of all of them, and how one is run."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, ClassVar

import polars as pl


class AreaKey(StrEnum):
    """Where in the audit a check's money is found."""

    STANDING = "standing"
    MOVEMENT = "movement"
    CATALOG = "catalog"
    DELIVERY = "delivery"
    TARGETING = "targeting"
    REACH = "reach"


@dataclass(frozen=True, slots=True)
class Subject:
    """What one row of a check is; a check on another thing brings its own."""

    name: str

    TARGET: ClassVar[Subject]
    TERM: ClassVar[Subject]
    PHRASE: ClassVar[Subject]
    PRODUCT: ClassVar[Subject]
    CATEGORY: ClassVar[Subject]
    AD: ClassVar[Subject]
    FAMILY: ClassVar[Subject]
    CAMPAIGN: ClassVar[Subject]
    PLACEMENT: ClassVar[Subject]
    KEYWORD: ClassVar[Subject]
    NEW_PHRASE: ClassVar[Subject]


Subject.TARGET = Subject("target")
Subject.TERM = Subject("search term")
Subject.PHRASE = Subject("phrase")
Subject.PRODUCT = Subject("product")
Subject.CATEGORY = Subject("category")
Subject.AD = Subject("product ad")
Subject.FAMILY = Subject("family")
Subject.CAMPAIGN = Subject("campaign")
Subject.PLACEMENT = Subject("placement")
Subject.KEYWORD = Subject("keyword")
Subject.NEW_PHRASE = Subject("new phrase")


class Money(StrEnum):
    """
    What the stake of a check is: part of the overspend, which counts the same money once; money of its own, in no
    headline; sales that are missed; profit that a change is expected to bring; or nothing at stake, and what the rows
    sell now, or what their ads cost now, is told instead.
    """

    OVERSPEND = "overspend"
    OWN = "own money"
    MISSED = "missed sales"
    GAIN = "expected gain"
    EARNED = "sales"
    SPENT = "ad spend"


class Overlap(StrEnum):
    """
    The money that overspend is part of, so that it counts once: of a target, of a search term under its targets, or of
    an ad group or a campaign as a whole, of which the largest of all that is found counts.
    """

    TARGET = "target"
    TERM = "search term"
    AD_GROUP = "ad group"
    CAMPAIGN = "campaign"


@dataclass(frozen=True, slots=True)
class Reading:
    """
    The rows that a check selects from; see `analysis.readings` for their columns, and for who makes them.

    named: rows say themselves what they are called and where they stand, in `name` and `where`. overlap: where its
    overspend stands in the headline; rows then have the ids of that level (campaign_id; of an ad group ad_group_id
    too).
    """

    rows: str
    named: bool = False
    overlap: Overlap | None = None

    TARGETS: ClassVar[Reading]
    TERMS: ClassVar[Reading]
    WORDS: ClassVar[Reading]
    WINNERS: ClassVar[Reading]
    MOVED: ClassVar[Reading]
    FALLS: ClassVar[Reading]
    LOST: ClassVar[Reading]
    GAPS: ClassVar[Reading]
    ADS: ClassVar[Reading]
    FAMILIES: ClassVar[Reading]
    INELIGIBLE: ClassVar[Reading]
    UNADVERTISED: ClassVar[Reading]
    PLACEMENTS: ClassVar[Reading]
    BUDGETS: ClassVar[Reading]
    DUPLICATES: ClassVar[Reading]
    HOURS: ClassVar[Reading]
    BIDS: ClassVar[Reading]
    QUIET: ClassVar[Reading]
    POOL: ClassVar[Reading]


Reading.TARGETS = Reading("judged targets", overlap=Overlap.TARGET)
Reading.TERMS = Reading("judged search terms", overlap=Overlap.TERM)
Reading.WORDS = Reading("judged words")
Reading.WINNERS = Reading("search terms to promote")
Reading.MOVED = Reading("products then and now", named=True)
Reading.FALLS = Reading("conversion drops at listing changes", named=True)
Reading.LOST = Reading("product pages that lost content", named=True)
Reading.GAPS = Reading("categories behind their peers", named=True)
Reading.ADS = Reading("judged product ads", named=True, overlap=Overlap.AD_GROUP)
Reading.FAMILIES = Reading("families and their variations", named=True)
Reading.INELIGIBLE = Reading("ineligible products", named=True)
Reading.UNADVERTISED = Reading("selling products without ads", named=True)
Reading.PLACEMENTS = Reading("judged placements", named=True, overlap=Overlap.CAMPAIGN)
Reading.BUDGETS = Reading("campaigns out of budget", named=True)
Reading.DUPLICATES = Reading("duplicate keywords", named=True)
Reading.HOURS = Reading("judged hours", overlap=Overlap.CAMPAIGN)
Reading.BIDS = Reading("bids to move, by campaign", named=True)
Reading.QUIET = Reading("targets without traffic")
Reading.POOL = Reading("phrases never bought", named=True)


@dataclass(frozen=True, slots=True)
class Check:
    """
    Selects the rows that need the same thing done.

    condition: over the columns of what it reads. gathers: rows that share a cause are one finding. accepts:
    something is proposed for each row by itself, and can be accepted from the list. urgent: told before all others.
    see_all: filters that show about the same rows in the area's table. view: the view that its rows open in, in its own
    area or in another (opens_in); of none they open what their campaign holds. drawer: they open beside that view.
    by_itself: each of its findings is a thing to do of its own, not a row of a table. sentence: why a row is found,
    with its columns in braces and how each is written behind a colon (see `analysis.wording.filled`); what its money
    bought where there is nothing else to say.
    """

    key: str
    area: AreaKey
    subject: Subject
    reads: Reading
    money: Money
    title: str
    question: str
    to_do: str
    condition: pl.Expr
    gathers: bool = False
    accepts: bool = False
    see_all: tuple[str, ...] = ()
    view: str = ""
    opens_in: AreaKey | None = None
    drawer: bool = True
    by_itself: bool = False
    sentence: Callable[[Mapping[str, Any]], str] | None = None
    urgent: bool = False

    def __reduce__(self) -> tuple[Callable[[str], Check], tuple[str]]:
        """A check that is passed on is the one of its key."""
        return registered, (self.key,)


def registered(key: str) -> Check:
    """The check of a key."""
    return CHECKS[key]


@dataclass(frozen=True, slots=True)
class Found:
    """The rows of one check and what they weigh, money in micro-units: stake per 30 days, spend in the window."""

    check: Check
    rows: pl.DataFrame
    stake: int
    spend: int


CHECKS: dict[str, Check] = {}


def register(check: Check) -> Check:
    """Adds a check under its key; two of the same key are a mistake."""
    if check.key in CHECKS:
        raise ValueError(f"check {check.key} is registered twice")
    CHECKS[check.key] = check
    return check


def run(check: Check, read: pl.DataFrame) -> Found:
    """
    Runs one check over all rows of what it reads, largest stake first; where nothing is at stake most sales first.

    read: stake, spend and sales (micro-units) besides what the check's condition needs.
    """
    by, down = (["sales", "spend"], [True, False]) if check.money is Money.EARNED else (["stake", "spend"], True)
    rows = read.filter(check.condition).sort(by, descending=down, maintain_order=True)
    return Found(check, rows, int(rows["stake"].sum()), int(rows["spend"].sum()))


def bought(row: Mapping[str, Any]) -> str:
    """The sentence of a check on rows of which there is nothing else to say: what their money bought."""
    if not row["orders"]:
        return "{clicks:counted click}, no order, {spend:micro} spent"
    return "{clicks:counted click}, {orders:counted order}, ACOS {acos:rate 0}"
