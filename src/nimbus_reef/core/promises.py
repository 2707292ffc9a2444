"""
What a change promises: spend and sales in 30 days, measured on which rows, compared with what, and when.

The rule by which a promise is judged: "Did it work" in docs/calculations.md.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date
from enum import StrEnum

from nimbus_reef.core import projection
from nimbus_reef.core.changes import Action, Change, Entity, ValueKind, kind_of, number_of, sound
from nimbus_reef.core.outcome import FIRST_DAYS, LAST_DAYS, ClickWorth, Sides, promised_profit
from nimbus_reef.core.projection import Basis, Projected, Range
from nimbus_reef.core.response import USUAL, ClickResponse


class PromiseKind(StrEnum):
    """What a change is held to: profit by another price, spend that stays away, or a new thing that pays."""

    PROFIT = "profit"
    SPEND_STAYS_AWAY = "spend that stays away"
    PAYS = "pays for its clicks"
    NOTHING = "nothing"


class Comparison(StrEnum):
    """What the days after a change are compared with."""

    BEFORE = "its own days before, and what was not touched"
    SEARCHES = "the same searches elsewhere"
    COST = "what its own clicks cost"
    NOTHING = "nothing"


@dataclass(frozen=True, slots=True)
class Promise:
    """
    What an accepted change rests on and promises, kept for holding it to that: the window, what the row did in it,
    its posterior, and the change of spend and sales in 30 days as (low, middle, high). view, row_id: the row it is
    measured on; terms: the search terms that a phrase keeps away, which it is measured on instead. kind, against: what
    it is held to, and what that is compared with; after: from how many days after the change on, and up to how many.
    response: how clicks and prices were taken to answer a bid (see `core.response.ClickResponse`). margin: before ads,
    of what it sells, a fraction; null where not known. profit: that another price promises, a day, in units.
    """

    window: tuple[str, str]
    clicks: int
    orders: int
    spend: float
    sales: float
    a: float
    b: float
    aov: float
    target_acos: float
    projected: Mapping[str, tuple[float, ...]]
    view: str = "targets"
    row_id: str = ""
    terms: tuple[str, ...] = ()
    kind: PromiseKind = PromiseKind.NOTHING
    against: Comparison = Comparison.NOTHING
    after: tuple[int, int] = (0, 0)
    response: tuple[float, float, float] = (USUAL.e, USUAL.spread, USUAL.p)
    margin: float | None = None
    profit: float | None = None

    @property
    def days(self) -> int:
        """How many days it rests on."""
        first, last = (date.fromisoformat(text) for text in self.window)
        return (last - first).days + 1


def as_ranges(projected: Projected) -> dict[str, tuple[float, ...]]:
    """A projection as a promise keeps it; empty where what comes of it is not known."""
    if not projected.known:
        return {}
    ranges = {"spend": projected.spend, "sales": projected.sales}
    return {name: (each.low, each.middle, each.high) for name, each in ranges.items()}


def projected(change: Change, promise: Promise) -> Projected:
    """
    What a change does to spend and sales in 30 days: as accepted, of a bid anew, for it may have
    been edited since.
    """
    if not sound(change):
        return projection.UNKNOWN
    if change.action is Action.CREATE or (change.entity, change.field) != (Entity.TARGET, "bid"):
        if not promise.projected:
            return projection.UNKNOWN
        return Projected(Range(*promise.projected["spend"]), Range(*promise.projected["sales"]))
    old, new = number_of(change.old_value), number_of(change.new_value)
    if old is None or new is None:
        return projection.UNKNOWN
    basis = Basis(promise.days, promise.clicks, promise.spend, promise.sales, promise.a, promise.b, promise.aov)
    return projection.bid_moved(basis, float(old), float(new), ClickResponse(*promise.response))


def guarded(change: Change, promise: Promise, most_raise: float, most_spend: float) -> bool:
    """
    Whether a change is to be asked about: it raises a bid or a budget by more than a share of what it was, or may spend
    more than that much more in 30 days.
    """
    kind, old, new = kind_of(change), number_of(change.old_value), number_of(change.new_value)
    if kind is None or kind.holds is not ValueKind.AMOUNT or old is None or new is None:
        return False
    return raises_beyond(float(old), float(new), projected(change, promise).spend.high, most_raise, most_spend)


def raises_beyond(old: float, new: float, spend: float, most_raise: float, most_spend: float) -> bool:
    """
    Whether an amount rises by more than a share of what it was, or rises and may spend that much
    more (both in units).
    """
    return 0 < old < new and (new / old - 1 > most_raise + 1e-9 or spend > most_spend)


_PRICES = frozenset(
    {
        (Entity.TARGET, "bid"),
        (Entity.AD_GROUP, "default_bid"),
        (Entity.PLACEMENT, "adjustment"),
        (Entity.BID_BOOST, "percent"),
        (Entity.CAMPAIGN, "bidding"),
    }
)
PRICE_DAYS = 7
"""From so many days on what another price does is judged; all else from `FIRST_DAYS`."""


def price_ratio(change: Change) -> float | None:
    """By what a change multiplies the price of its clicks, all else as it was; None where it changes none."""
    if change.action is Action.CREATE or (change.entity, change.field) not in _RATIOS:
        return None
    old, new = number_of(change.old_value or "0"), number_of(change.new_value)
    if old is None or new is None:
        return None
    if change.field == "bid":
        return float(new / old) if old > 0 and new > 0 else None
    return float((100 + new) / (100 + old))


_RATIOS = frozenset({(Entity.TARGET, "bid"), (Entity.PLACEMENT, "adjustment")})


def worth_of(promise: Promise) -> ClickWorth:
    """What a click of its row was known to bring; by the target ACOS where no margin is known."""
    return ClickWorth(promise.a, promise.b, promise.aov, promise.margin or promise.target_acos)


def with_profit(change: Change, promise: Promise, margin: float | None) -> Promise:
    """The promise with the margin, and the profit that another price promises: kept, and never computed again."""
    known, ratio = replace(promise, margin=margin), price_ratio(change)
    if ratio is None or not promise.clicks:
        return known
    sides = Sides(promise.days, promise.clicks, promise.spend, 1, 0, 0, 0)
    return replace(known, profit=promised_profit(sides, worth_of(known), ratio, ClickResponse(*promise.response)))


def typed(change: Change, promise: Promise) -> Promise:
    """The promise with what the change is held to: see "Did it work"."""
    after = (FIRST_DAYS, LAST_DAYS)
    if change.action is Action.CREATE and change.entity in (Entity.TARGET, Entity.PRODUCT_AD):
        return replace(promise, kind=PromiseKind.PAYS, against=Comparison.COST, after=after)
    stops = change.entity is Entity.NEGATIVE or (change.field, change.new_value) in (
        ("state", "paused"),
        ("offsite_limited", "yes"),
    )
    if stops:
        return replace(promise, kind=PromiseKind.SPEND_STAYS_AWAY, against=Comparison.SEARCHES, after=after)
    if (change.entity, change.field) in _PRICES:
        return replace(promise, kind=PromiseKind.PROFIT, against=Comparison.BEFORE, after=(PRICE_DAYS, LAST_DAYS))
    return promise
