"""Where and when a world's ads are shown: shares of placements, budgets, raises in force, sale events."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np

PLACES: Final = ("top_of_search", "elsewhere_in_search", "product_page", "off_site")
ADJUSTED: Final = 3
"""The places whose bid can be raised; off-site is the last and cannot."""
RESPONSE: Final = 0.6
"""Power by which impressions follow what is bid for them."""

_PRICE: Final = np.array([1.18, 0.95, 0.82, 0.62])
CLOCK: Final = np.array(
    [9, 6, 4, 3, 3, 5, 12, 24, 36, 45, 50, 52, 54, 52, 50, 50, 53, 60, 72, 86, 92, 84, 56, 26], dtype=float
)
"""How much is searched in each hour."""
_EVENT_LIFT: Final = 1.6


@dataclass(frozen=True, slots=True)
class Raise:
    """
    A raise in force: what (budget or bid), per cent, ISO weekdays (none: every day), hours from and
    to (excluded).
    """

    name: str
    campaign_no: int
    what: str
    percent: int
    weekdays: tuple[int, ...] = ()
    from_hour: int = 0
    to_hour: int = 24


@dataclass(frozen=True, slots=True)
class Event:
    """A sale event; day numbers may lie after the last day of the world."""

    name: str
    first: int
    last: int


@dataclass(frozen=True, slots=True)
class Delivery:
    """
    places: campaign × place, shares of impressions without adjustments. ease: campaign × place, factor on conversion.
    adjustments: campaign × adjusted place, as fractions. budgets: units a day. tight, idle: campaigns whose budget is
    too small, and never spent. limited: campaigns kept from off-site.
    """

    places: np.ndarray
    ease: np.ndarray
    adjustments: np.ndarray
    budgets: np.ndarray
    limited: np.ndarray
    tight: tuple[int, ...]
    idle: tuple[int, ...]
    boosts: tuple[Raise, ...]
    events: tuple[Event, ...]

    def shares(self) -> np.ndarray:
        """Campaign × place: how often an ad is shown there by its adjustments; rows need not sum to 1."""
        raised = np.ones_like(self.places)
        raised[:, :ADJUSTED] = (1 + self.adjustments) ** RESPONSE
        return np.asarray(self.places * raised)

    def prices(self) -> np.ndarray:
        """Campaign × place: what a click costs beside the bid."""
        raised = np.ones_like(self.places)
        raised[:, :ADJUSTED] = 1 + self.adjustments
        return np.asarray(_PRICE * raised)

    def bid_boosts(self) -> np.ndarray:
        """Campaign × hour: by how much bids are raised (every day)."""
        raised = np.zeros((len(self.places), 24))
        for boost in self.boosts:
            if boost.what == "bid":
                raised[boost.campaign_no, boost.from_hour : boost.to_hour] += boost.percent / 100
        return raised

    def clock(self) -> np.ndarray:
        """Campaign × hour: shares of the day's impressions."""
        weight = CLOCK * (1 + self.bid_boosts()) ** RESPONSE
        return np.asarray(weight / weight.sum(axis=1, keepdims=True))

    def budget_on(self, campaign: int, weekday: int) -> float:
        """Units that a campaign may spend on an ISO weekday."""
        raised = sum(
            boost.percent / 100
            for boost in self.boosts
            if boost.what == "budget" and boost.campaign_no == campaign and weekday in (boost.weekdays or range(1, 8))
        )
        return float(self.budgets[campaign] * (1 + raised))

    def lift(self, days: int) -> np.ndarray:
        """What sale events do to searches, by day."""
        swing = np.ones(days)
        for event in self.events:
            swing[max(0, event.first) : max(0, min(days, event.last + 1))] *= _EVENT_LIFT
        return swing
