"""By how much adjustments of placements and boosts in force multiply a campaign's bids, by the clicks it got there."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import boosts
from nimbus_reef.core.boosts import WEEK, Boost, BoostHour
from nimbus_reef.store.reading import delivery_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

_UNREPORTED: Final = 0.5
"""Of the largest adjustment, where no report tells clicks by placement."""
_COLUMNS: Final = tuple(setting_frames.ADJUSTMENTS.values())


def steps(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    campaign_id, day, multiplier: by what a campaign's bids are multiplied from each day on whose settings changed it,
    in order; the clicks of the whole window weigh its placements. Of campaigns whose settings are loaded.
    """
    account, window = selection.account, selection.window
    held = setting_frames.adjustment_steps(facts, account.id, window)
    clicks = delivery_frames.placement_sums(facts, account.id, window).select(
        "campaign_id", pl.col("placement").cast(pl.String), "clicks"
    )
    by_place = [
        clicks.filter(pl.col("placement") == place.value).select("campaign_id", pl.col("clicks").alias(f"at_{column}"))
        for place, column in setting_frames.ADJUSTMENTS.items()
    ]
    total = clicks.group_by("campaign_id").agg(all_clicks=pl.col("clicks").cast(pl.Int64).sum())
    rows = held.join(total, on="campaign_id", how="left").with_columns(pl.col(_COLUMNS).fill_null(0) / 100)
    for each in by_place:
        rows = rows.join(each, on="campaign_id", how="left")
    added = sum((pl.col(f"at_{name}").fill_null(0) * pl.col(name) for name in _COLUMNS), pl.lit(0.0))
    raised = pl.when(pl.col("all_clicks") > 0).then(added / pl.col("all_clicks"))
    boosted = _boosted(facts, selection)
    return (
        rows.join(boosted, on="campaign_id", how="left")
        .with_columns(
            multiplier=1
            + pl.coalesce(raised, _UNREPORTED * pl.max_horizontal(_COLUMNS))
            + pl.col("boosted").fill_null(0.0)
        )
        .select("campaign_id", "day", "multiplier")
        .sort("campaign_id", "day")
    )


def _boosted(facts: Facts, selection: Selection) -> pl.DataFrame:
    """campaign_id, boosted: by what part boosts of bids raise them, weighed by the clicks of their hours."""
    account = selection.account
    names = delivery_frames.boosts(facts, account.id).filter(pl.col("what") == boosts.BID)
    schema = {"campaign_id": pl.UInt32, "boosted": pl.Float64}
    if names.is_empty():
        return pl.DataFrame(schema=schema)
    ids = dict(names.select(pl.col("campaign").cast(pl.String), "campaign_id").unique("campaign").rows())
    in_force = boosts_in_force(facts, selection, list(ids))
    window = selection.window
    wanted = pl.Series("campaign_id", [ids[name] for name in in_force], pl.UInt32)
    hours = delivery_frames.weekday_hours(facts, account.id, window, wanted, apart=True).drop_nulls("weekday")
    clicked: dict[int, list[tuple[int, int, int]]] = {}
    for campaign, *at in hours.select("campaign_id", "weekday", "hour", "clicks").rows():
        clicked.setdefault(campaign, []).append((at[0], at[1], at[2]))
    alike = [(weekday, hour, 1) for weekday in WEEK for hour in range(boosts.HOURS)]
    found = [(ids[name], _weighed(own, clicked.get(ids[name], alike), window.last)) for name, own in in_force.items()]
    return pl.DataFrame(found, schema=schema, orient="row")


def _weighed(own: Sequence[Boost], clicked: Sequence[tuple[int, int, int]], day: date) -> float:
    """What boosts raise bids by on the whole, weighed by clicks of each weekday and hour."""
    clicks = sum(count for _, _, count in clicked)
    raised = sum(
        count * boosts.raised(own, boosts.BID, BoostHour(weekday, hour, day)) for weekday, hour, count in clicked
    )
    return raised / clicks if clicks else 0.0


def boosts_in_force(facts: Facts, selection: Selection, names: Sequence[str]) -> dict[str, tuple[Boost, ...]]:
    """The boosts of campaigns that have not ended by the window's end, by campaign."""
    rows = delivery_frames.boosts(facts, selection.account.id)
    own = rows.filter(
        pl.col("campaign").cast(pl.String).is_in(list(names)),
        pl.col("to").is_null() | (pl.col("to") >= selection.window.last),
    )
    found: dict[str, tuple[Boost, ...]] = {}
    for row in own.to_dicts():
        found[row["campaign"]] = (*found.get(row["campaign"], ()), _boost(row))
    return found


def _boost(row: dict[str, Any]) -> Boost:
    return Boost(
        row["name"],
        row["what"],
        row["percent"],
        tuple(int(day) for day in (row["weekdays"] or "").split()),
        int(row["from_hour"]),
        int(row["to_hour"]),
        row["condition"] or "",
        row["from"],
        row["to"],
    )
