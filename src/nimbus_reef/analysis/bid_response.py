"""How clicks and prices answered the account's own changes of bids: `core.response` on what is loaded."""

from __future__ import annotations

from datetime import timedelta
from typing import Final

import polars as pl

from nimbus_reef.analysis import out_of_budget
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import response
from nimbus_reef.core.model import MatchType
from nimbus_reef.core.response import LEAST_CLICKS, SIBLING_CLICKS, SIDE_DAYS, ClickResponse
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import row_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

HISTORY_DAYS: Final = 365


def learned(facts: Facts, selection: Selection) -> ClickResponse:
    """The account's own answer from the changes of a year up to the window's end; the usual one without any. Kept."""
    account, last = selection.account, selection.window.last
    history = Window(last - timedelta(days=HISTORY_DAYS - 1), last)

    def make() -> ClickResponse:
        return response.learned(changes(facts, selection.whole.at(history)))

    return facts.kept("click response", account.id, make, history, account.bid_limits.floor)


def changes(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    The changes of bids in a window that stood alone, as `core.response.learned` takes them: nothing else about the
    target or its campaign changed in the fourteen days before and after, it was live, and its budget seldom ran out.
    """
    account, history = selection.account, selection.window
    moved = touched(facts, account, history)
    alone = _alone(moved).filter(
        pl.col("bid").is_not_null() & (pl.min_horizontal("before", "bid") > account.bid_limits.floor * 1e6)
    )
    source = facts.target_source(account.id, history).kind
    held = {span.last for span in facts.days(account.id, source, history)}
    whole = [
        day
        for day in alone["day"].unique().to_list()
        if all(day + timedelta(days=each) in held for each in range(-SIDE_DAYS, SIDE_DAYS))
    ]
    alone = _in_budget(facts, selection, alone.filter(pl.col("day").is_in(whole)))
    if alone.is_empty():
        return alone.select("target_id").with_columns(
            pl.lit(None, pl.Float64).alias(name)
            for name in ("x", "clicks_before", "clicks_after", "spend_before", "spend_after", "siblings")
        )
    ids = moved["target_id"].unique().to_list()
    days = row_frames.target_days(facts, account.id, source, history, ids).select("target_id", "day", "clicks", "spend")
    days = days.filter(pl.col("clicks") > 0)
    sides = _sides(alone, days)
    others = _siblings(facts, account, source, history, moved, days, whole)
    return sides.join(others, on="day", how="left").with_columns(pl.col("siblings").fill_null(0.0))


def touched(facts: Facts, account: Account, history: Window) -> pl.DataFrame:
    """
    Every change of a target that could move its clicks, in order: target_id, day, bid and before (micro, of changes of
    its bid; else null).
    """
    steps = setting_frames.bid_steps(facts, account.id, history)
    was = pl.col("bid").shift().over("target_id")
    bids = steps.with_columns(before=was).drop_nulls("before").select("target_id", "day", "bid", "before")
    named = target_frames.targets(facts, account.id).select("target_id", "campaign_id")
    others = []
    for rows, key in (
        (setting_frames.state_steps(facts, account.id, history), "target_id"),
        (setting_frames.adjustment_steps(facts, account.id, history), "campaign_id"),
    ):
        later = rows.filter(pl.col("day") > pl.col("day").min().over(key)).select(key, "day")
        others.append((later if key == "target_id" else later.join(named, on=key)).select(_ID, "day"))
    others.append(_blocked(facts, account, history))
    nothing = pl.lit(None, bids.schema["bid"])
    rest = pl.concat(others).select(
        pl.col("target_id").cast(bids.schema["target_id"]), "day", bid=nothing, before=nothing
    )
    return pl.concat([bids, rest]).sort("target_id", "day")


_ID: Final = pl.col("target_id").cast(pl.Int64)


def _blocked(facts: Facts, account: Account, history: Window) -> pl.DataFrame:
    """target_id, day: those that a new negative took searches from; of a negative phrase all in its ad group."""
    states = setting_frames.state_steps(facts, account.id, history)
    if states.is_empty():
        return states.select(_ID, "day")
    first = states.group_by("target_id").agg(pl.col("day").min()).filter(pl.col("day") > states["day"].min())
    named = target_frames.targets(facts, account.id)
    match = pl.col("match_type").cast(pl.String)
    new = named.filter(match.str.starts_with("negative")).join(first, on="target_id")
    whole = pl.col("match_type").cast(pl.String) == MatchType.NEGATIVE_PHRASE.value
    terms = target_frames.term_names(facts, account.id).select("target_id", "normal_id").unique()
    homes = terms.join(named.select("target_id", "ad_group_id"), on="target_id")
    exact = new.filter(~whole).select("ad_group_id", "day", normal_id="target_normal_id")
    hit = homes.join(exact, on=["ad_group_id", "normal_id"]).select(_ID, "day")
    phrases = new.filter(whole).select("ad_group_id", "day")
    beside = named.select("target_id", "ad_group_id").join(phrases, on="ad_group_id").select(_ID, "day")
    return pl.concat([hit, beside]).unique()


def _alone(touched: pl.DataFrame) -> pl.DataFrame:
    """Those with no other change of the same target less than fourteen days away."""
    day = pl.col("day")
    gap = pl.min_horizontal(
        (day - day.shift().over("target_id")).dt.total_days().fill_null(SIDE_DAYS),
        (day.shift(-1).over("target_id") - day).dt.total_days().fill_null(SIDE_DAYS),
    )
    return touched.filter(gap >= SIDE_DAYS)


def _in_budget(facts: Facts, selection: Selection, alone: pl.DataFrame) -> pl.DataFrame:
    """Those in whose campaign fewer than three of the days around them were out of budget: a budget cuts clicks too."""
    dry = out_of_budget.hours(facts, selection).select("campaign_id", on="day").unique()
    homes = target_frames.targets(facts, selection.account.id).select("target_id", "campaign_id")
    off = (pl.col("on") - pl.col("day")).dt.total_days()
    often = (
        alone.join(homes, on="target_id")
        .join(dry, on="campaign_id")
        .filter(off.is_between(-SIDE_DAYS, SIDE_DAYS - 1))
        .group_by("target_id", "day")
        .len()
        .filter(pl.col("len") >= out_of_budget.OFTEN)
    )
    return alone.join(often, on=["target_id", "day"], how="anti", maintain_order="left")


def _sides(alone: pl.DataFrame, days: pl.DataFrame) -> pl.DataFrame:
    """Clicks and spend on both sides of each change."""
    off = (pl.col("on") - pl.col("day")).dt.total_days()
    near = alone.join(days.rename({"day": "on"}), on="target_id").filter(off.is_between(-SIDE_DAYS, SIDE_DAYS - 1))

    def side(name: str, there: pl.Expr) -> list[pl.Expr]:
        return [pl.col(each).filter(there).sum().alias(f"{each}_{name}") for each in ("clicks", "spend")]

    return (
        near.group_by("target_id", "day", "bid", "before", maintain_order=True)
        .agg(*side("before", off < 0), *side("after", off >= 0))
        .filter(pl.col("clicks_before") + pl.col("clicks_after") >= LEAST_CLICKS)
        .with_columns(x=pl.col("bid") / pl.col("before"))
    )


def _siblings(
    facts: Facts,
    account: Account,
    source: str,
    history: Window,
    touched: pl.DataFrame,
    days: pl.DataFrame,
    whole: list[object],
) -> pl.DataFrame:
    """day, siblings: what the clicks of targets that nothing touched around a day did, as a logarithm."""
    every = facts.by_day(account.id, source, history, ["clicks"]).group_by("day").agg(pl.col("clicks").sum())
    found = []
    for day in whole:
        off = (pl.col("day") - pl.lit(day)).dt.total_days()
        near = off.is_between(-SIDE_DAYS, SIDE_DAYS - 1)
        busy = touched.filter(off.abs() < SIDE_DAYS)["target_id"].unique()
        own = days.filter(near & pl.col("target_id").is_in(busy.implode()))
        total, gone = (
            rows.filter(near)
            .select(before=pl.col("clicks").filter(off < 0).sum(), after=pl.col("clicks").filter(off >= 0).sum())
            .row(0)
            for rows in (every, own)
        )
        before, after = (whole_clicks - part for whole_clicks, part in zip(total, gone, strict=True))
        if before >= SIBLING_CLICKS and after > 0:
            found.append((day, before, after))
    rows = pl.DataFrame(found, schema={"day": pl.Date, "n0": pl.Float64, "n1": pl.Float64}, orient="row")
    return rows.select("day", siblings=(pl.col("n1") / pl.col("n0")).log())
