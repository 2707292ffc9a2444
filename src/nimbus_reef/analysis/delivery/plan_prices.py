"""
What clicks cost at most with a plan: the bids in force of the campaigns it changes, and what goes wrong with them
together.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence

import polars as pl

from nimbus_reef.analysis import multipliers
from nimbus_reef.analysis.delivery import placements
from nimbus_reef.analysis.judged import judged_targets
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import acceptance, click_prices, conflicts
from nimbus_reef.core.acceptance import Acceptance
from nimbus_reef.core.changes import Change
from nimbus_reef.core.click_prices import CampaignBids, Rise, TargetBid
from nimbus_reef.core.conflicts import PlanConflict
from nimbus_reef.core.model import Bidding, Placement, State, Verdict, from_micro
from nimbus_reef.store.reading import setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts


def campaigns_of(facts: Facts, selection: Selection, names: Iterable[str]) -> dict[str, CampaignBids]:
    """
    The bids in force of campaigns at the window's end, by name: their targets with a known bid, what is judged above
    target among them and their placements, adjustments and boosts. Of the whole account, whatever part is looked at.
    """
    wanted, whole = sorted(set(names)), selection.whole
    account, window = selection.account, selection.window
    settings = setting_frames.campaign_settings(facts, account.id, window).filter(
        pl.col("campaign").cast(pl.String).is_in(wanted)
    )
    targets = _targets(facts, whole, settings["campaign_id"])
    places = _placements_above(facts, whole, wanted)
    boosts = multipliers.boosts_in_force(facts, selection, wanted)
    return {
        row["campaign"]: CampaignBids(
            row["campaign"],
            targets.get(row["campaign_id"], {}),
            {place: (row[column] or 0) / 100 for place, column in setting_frames.ADJUSTMENTS.items()},
            boosts.get(row["campaign"], ()),
            dict(account.settings.raising),
            str(row["bidding"] or Bidding.FIXED),
            _runs(row["state"]),
            row["offsite_limited"] == "yes",
            places.get(row["campaign"], frozenset()),
        )
        for row in settings.to_dicts()
    }


def _runs(state: object) -> bool:
    return state is None or str(state) == State.ENABLED


def _targets(
    facts: Facts, selection: Selection, campaigns: pl.Series
) -> dict[int, dict[click_prices.TargetKey, TargetBid]]:
    account, window = selection.account, selection.window
    groups = setting_frames.ad_group_states(facts, account.id, window)
    above = (
        judged_targets(facts, selection).select("target_id", above=pl.col("verdict") == Verdict.ABOVE.value)
        if facts.target_source(account.id, window).days
        else pl.DataFrame(schema={"target_id": pl.UInt32, "above": pl.Boolean})
    )
    rows = (
        target_frames.targets(facts, account.id)
        .filter(pl.col("campaign_id").is_in(campaigns.implode()))
        .join(setting_frames.target_settings(facts, account.id, window), on="target_id")
        .filter(pl.col("bid").is_not_null())
        .join(groups, on="ad_group_id", how="left")
        .join(above, on="target_id", how="left")
    )
    found: dict[int, dict[click_prices.TargetKey, TargetBid]] = {}
    for row in rows.to_dicts():
        found.setdefault(row["campaign_id"], {})[row["ad_group"], row["target"], str(row["match_type"])] = TargetBid(
            from_micro(row["bid"]),
            _runs(row["state"]) and _runs(row["ad_group_state"]),
            bool(row["own_bid"]),
            bool(row["above"]),
        )
    return found


def _placements_above(facts: Facts, selection: Selection, names: Sequence[str]) -> dict[str, frozenset[Placement]]:
    if not facts.held_days(selection.account.id, placements.KIND, selection.window):
        return {}
    rows = placements.judged(facts, selection).filter(
        pl.col("campaign").cast(pl.String).is_in(names), pl.col("verdict") == Verdict.ABOVE.value
    )
    return {
        name: frozenset(Placement(place) for place in part["placement"].to_list())
        for (name,), part in (
            rows.with_columns(pl.col("campaign").cast(pl.String)).partition_by("campaign", as_dict=True).items()
        )
    }


def accepted(
    facts: Facts, selection: Selection, changes: Sequence[Change], packages: Sequence[Sequence[Change]]
) -> Acceptance:
    """What becomes of packages that are accepted into a plan: see `core.acceptance.accepted`."""
    priced = [each for package in packages for each in package if click_prices.touches_price(each)]
    again = {each.campaign for package in packages for each in package} if priced else set()
    campaigns = campaigns_of(facts, selection, again) if again else {}
    return acceptance.accepted(changes, packages, campaigns)


def dearer(facts: Facts, selection: Selection, before: Sequence[Change], after: Sequence[Change]) -> list[Rise]:
    """
    What is above target and would cost more than today once a plan has become another, and more than with the plan
    before.
    """
    moved = set(before) ^ set(after)
    names = {each.campaign for each in moved if click_prices.touches_price(each)}
    return acceptance.dearer(before, after, campaigns_of(facts, selection, names)) if names else []


def conflicts_of(facts: Facts, selection: Selection, planned: Collection[Change]) -> list[PlanConflict]:
    """What does not go together in the plan."""
    names = {each.campaign for each in planned}
    return conflicts.conflicts(list(planned), campaigns_of(facts, selection, names)) if names else []
