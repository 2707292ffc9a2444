"""Boosts of a campaign: those in force, the real highest bid with one more, and what is refused."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.analysis.delivery.placements import main_products
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.offers import NO_BASIS, Offer, change, promise
from nimbus_reef.core import budgets as rules
from nimbus_reef.core.budgets import Boost
from nimbus_reef.core.changes import Action, Entity
from nimbus_reef.core.model import Bidding, Placement, from_micro
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import delivery_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

CHECK: Final = "boosts"


@dataclass(frozen=True, slots=True)
class Boosted:
    """
    A campaign's bids as they can come to stand: the highest base bid of its targets, adjustments in force (fractions), boosts in
    force, raising (u by placement; nothing where the marketplace only lowers), bidding as set.
    """

    campaign: str
    bid: float | None
    adjustments: dict[Placement, float]
    boosts: tuple[Boost, ...]
    raising: dict[Placement, float]
    bidding: str
    main_product: str

    def highest(self, more: Sequence[Boost], weekday: int, *, raised: bool) -> dict[Placement, list[float]]:
        """The real highest bid by placement and hour of a weekday; raised: with what the marketplace may add."""
        return rules.highest_bids(
            self.bid or 0.0,
            self.adjustments,
            [*self.boosts, *more],
            self.raising if raised else {},
            weekday,
        )


def boosted(facts: Facts, look: Look, campaign: str) -> Boosted:
    """What a campaign's bids can come to at the window's end; NotFound where there is no such campaign."""
    account, window = look.account, look.window
    known = setting_frames.campaign_settings(facts, account.id, window).filter(
        pl.col("campaign").cast(pl.String) == campaign
    )
    if known.is_empty():
        raise NotFound(f"There is no campaign “{campaign}”.", remedy="Choose one of the list.")
    row = known.row(0, named=True)
    targets = (
        target_frames.targets(facts, account.id)
        .filter(pl.col("campaign_id") == row["campaign_id"])
        .join(setting_frames.target_settings(facts, account.id, window), on="target_id")
        .filter(pl.col("state").cast(pl.String) == "enabled")
    )
    bids = targets["bid"].drop_nulls()
    raises = row["bidding"] == Bidding.UP_AND_DOWN.value
    main = main_products(facts, account.id, window).filter(pl.col("campaign_id") == row["campaign_id"])
    return Boosted(
        campaign, from_micro(int(bids.max())) if len(bids) else None,  # type: ignore[arg-type]  # integers
        {
            Placement.TOP_OF_SEARCH: (row["adj_top_of_search"] or 0) / 100,
            Placement.ELSEWHERE_IN_SEARCH: (row["adj_elsewhere"] or 0) / 100,
            Placement.PRODUCT_PAGE: (row["adj_product_page"] or 0) / 100,
        },
        in_force(facts, look, campaign), dict(account.settings.raising) if raises else {}, str(row["bidding"] or ""),
        main["main_product"][0] if len(main) else "",
    )  # fmt: skip


def in_force(facts: Facts, look: Look, campaign: str) -> tuple[Boost, ...]:
    """The raises of a campaign that have not ended by the window's end."""
    held = delivery_frames.boosts(facts, look.account.id)
    own = held.filter(pl.col("campaign").cast(pl.String) == campaign, pl.col("to") >= look.window.last)
    return tuple(
        Boost(
            row["name"], row["what"], row["percent"],
            tuple(int(day) for day in (row["weekdays"] or "").split()), int(row["from_hour"]), int(row["to_hour"]),
            row["condition"] or "",
        )
        for row in own.to_dicts()
    )  # fmt: skip


def offer(look: Look, campaign: str, boost: Boost, dates: tuple[date, date] | None) -> Offer:
    """A boost as one row of the change sheet; its money is not projected: what it moves is not known from reports."""
    entity = Entity.BID_BOOST if boost.what == "bid" else Entity.BUDGET_BOOST
    made = change(
        entity, "percent", campaign, f"{boost.percent:.0f}", "", CHECK, Action.CREATE, days=when_words(boost, dates),
        from_hour=str(boost.from_hour), to_hour=str(boost.to_hour),
    )  # fmt: skip
    return Offer(campaign, ((made, promise(look, NO_BASIS, "boosts", campaign)),))


def when_words(boost: Boost, dates: tuple[date, date] | None) -> str:
    """On which days a boost holds, as the change sheet has it: ISO weekdays, dates, a condition."""
    parts = [" ".join(str(day) for day in boost.weekdays)]
    if dates is not None:
        parts.append(f"{dates[0]}..{dates[1]}")
    if boost.condition:
        parts.append(f"while {boost.condition}")
    return "; ".join(part for part in parts if part)
