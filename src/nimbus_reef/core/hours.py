"""
Hours: when clicks convert, segments of the day found in that, hours in which the budget was gone, and what that cost.

Formulas: "Hours" in docs/calculations.md.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import log
from typing import Final

import polars as pl
from scipy.special import xlog1py, xlogy

DAY: Final = 24
MOST_SEGMENTS: Final = 6
LEAST_HOURS: Final = 2
USUAL_DAYS: Final = 3
ELASTICITY: Final = 0.7
ELASTICITIES: Final = (0.4, 1.0)
_STARVED: Final = 0.5
"""The part of a middling hour's spend below which ads have all but vanished."""


@dataclass(frozen=True, slots=True)
class Segment:
    """Hours of the day from `first` on, `hours` long; runs past midnight where it must."""

    first: int
    hours: int

    @property
    def members(self) -> tuple[int, ...]:
        """Its hours, in their order."""
        return tuple((self.first + step) % DAY for step in range(self.hours))

    @property
    def end(self) -> int:
        """The hour at which it ends, 1 … 24."""
        return (self.first + self.hours - 1) % DAY + 1


def _cost(clicks: float, orders: float) -> float:
    """−2 × the binomial log-likelihood of orders in clicks at their own rate."""
    if clicks <= 0:
        return 0.0
    rate = orders / clicks
    return float(-2 * (xlogy(orders, rate) + xlog1py(clicks - orders, -rate)))


def segments(clicks: Sequence[int], orders: Sequence[int]) -> tuple[Segment, ...]:
    """
    The day cut into 1 … 6 segments of at least two hours, as they convert; one: the hours are alike.

    clicks, orders: 24 each, orders no more than clicks. Exact dynamic programming over the circle, minimising
    −2·log-likelihood + 3s·ln 24; of equals the fewer, then the earliest cuts.
    """
    k = [min(own, of) for own, of in zip(orders, clicks, strict=True)]
    cost = {
        (first, length): _cost(
            sum(clicks[(first + step) % DAY] for step in range(length)),
            sum(k[(first + step) % DAY] for step in range(length)),
        )
        for first in range(DAY)
        for length in range(LEAST_HOURS, DAY)
    }
    penalty = 3 * log(DAY)
    best, cuts = _cost(sum(clicks), sum(k)) + penalty, tuple[int, ...]()
    for start in range(DAY):
        for spent, found in _chains(cost, start):
            value = spent + penalty * len(found)
            better = value < best - 1e-9
            tied = abs(value - best) <= 1e-9 and bool(cuts) and (len(found), found) < (len(cuts), cuts)
            if better or tied:
                best, cuts = value, found
    if not cuts:
        return (Segment(0, DAY),)
    lengths = [(after - cut) % DAY for cut, after in zip(cuts, [*cuts[1:], cuts[0]], strict=True)]
    return tuple(Segment(cut, length) for cut, length in zip(cuts, lengths, strict=True))


def _chains(cost: dict[tuple[int, int], float], start: int) -> list[tuple[float, tuple[int, ...]]]:
    """For 2 … 6 segments the cheapest whose first cut is at `start` and whose others come after it before midnight."""
    # reached[s][offset]: the cheapest s segments that fill the first `offset` hours from the start.
    reached: list[dict[int, tuple[float, tuple[int, ...]]]] = [{0: (0.0, ())}]
    found = []
    for number in range(1, MOST_SEGMENTS + 1):
        here: dict[int, tuple[float, tuple[int, ...]]] = {}
        for offset, (spent, cuts) in reached[-1].items():
            if start + offset >= DAY:
                continue
            for length in range(LEAST_HOURS, DAY - offset + 1):
                if length == DAY:
                    continue
                value = spent + cost[(start + offset) % DAY, length]
                if offset + length not in here or value < here[offset + length][0] - 1e-9:
                    here[offset + length] = (value, (*cuts, (start + offset) % DAY))
        if number > 1 and DAY in here:
            found.append(here[DAY])
        reached.append(here)
    return found


def profile(rows: pl.DataFrame) -> list[float]:
    """
    The share of a day's clicks that each hour has, over the campaign-days given: 24 shares; alike where there are none.

    rows: hour, clicks of campaign-days under 90 % of their budget.
    """
    sums = dict(rows.group_by("hour").agg(pl.col("clicks").sum()).rows())
    whole = sum(sums.values())
    return [sums.get(hour, 0) / whole if whole else 1 / DAY for hour in range(DAY)]


_DRY: Final = {
    "campaign_id": pl.UInt32, "day": pl.Date, "hour": pl.Int64, "share": pl.Float64,
    "missed_sales": pl.Float64, "missed_spend": pl.Float64,
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class DryLimits:
    """
    A day ran dry that spent this part of its budget where so many clicks were still due. often: a campaign runs dry that did so on
    this part of the days.
    """

    near_budget: float = 0.90
    due_clicks: float = 2.0
    often: float = 0.10


STANDARD: Final = DryLimits()


def dry(rows: pl.DataFrame, budgets: pl.DataFrame, limits: DryLimits = STANDARD) -> pl.DataFrame:
    """
    The hours in which campaigns had no budget left, and what that missed.

    rows: campaign_id, day, hour, impressions, clicks, spend, sales (micro-units), in_budget_minutes (null where it is not
    told), of single days. budgets: campaign_id, day, budget (micro-units, boosts of that day added). Gives campaign_id, day,
    hour, share (of the hour), missed_sales and missed_spend (micro-units; sales at full elasticity).

    Told minutes count where they are told. Else a day is dry from the hour after its last impressions when it spent ≥ 90 %
    of its budget and ≥ 2 clicks were due after that (of the limits). Sales missed are the mean of that hour over ≥ 3 days on which it was
    not dry, else the clicks due × the campaign's sales per click.
    """
    if rows.is_empty():
        return pl.DataFrame(schema=_DRY)
    hourly = rows.with_columns(pl.col("hour").cast(pl.Int64))
    days = _days(hourly, budgets, limits.near_budget)
    calm = hourly.join(
        days.filter("calm").select("campaign_id", "day"), on=["campaign_id", "day"], how="semi"
    )
    shares = profile(calm)
    before = [sum(shares[:hour]) for hour in range(DAY + 1)]
    clock = pl.DataFrame(
        {"hour": list(range(DAY)), "usual": shares, "until": before[1:]},
        schema={"hour": pl.Int64, "usual": pl.Float64, "until": pl.Float64},
    )
    found = pl.concat([_told(hourly), _inferred(days, clock, limits.due_clicks)])
    if found.is_empty():
        return pl.DataFrame(schema=_DRY)
    return _valued(found, hourly, days, clock).select(pl.col(name).cast(kind) for name, kind in _DRY.items())


def _days(hourly: pl.DataFrame, budgets: pl.DataFrame, near_budget: float) -> pl.DataFrame:
    """Campaign-days: what they did, until when, whether minutes are told, whether their budget was not near."""
    # One number for the pair, and columns made before the grouping: half the time over millions of rows.
    pair = pl.col("campaign_id").cast(pl.Int64) * 2**32 + pl.col("day").to_physical().cast(pl.Int64)
    return (
        hourly.with_columns(
            pair=pair,
            last_hour=pl.when(pl.col("impressions") > 0).then("hour"),
            told=pl.col("in_budget_minutes").is_not_null(),
        )
        .group_by("pair")
        .agg(
            pl.col("campaign_id", "day").first(),
            pl.col("clicks", "spend", "sales").sum(),
            pl.col("last_hour", "told").max(),
        )
        .drop("pair")
        .join(budgets, on=["campaign_id", "day"], how="left")
        .with_columns(
            near=(pl.col("spend") >= near_budget * pl.col("budget")).fill_null(False),
        )
        .with_columns(calm=~pl.col("near"))
    )


def _told(hourly: pl.DataFrame) -> pl.DataFrame:
    return hourly.filter(pl.col("in_budget_minutes") < 60).select(
        "campaign_id", "day", "hour", share=(60 - pl.col("in_budget_minutes").cast(pl.Float64)) / 60
    )


def _inferred(days: pl.DataFrame, clock: pl.DataFrame, due_clicks: float) -> pl.DataFrame:
    """Hours after the last impressions of days that were near their budget, where clicks were still due."""
    ended = (
        days.filter(pl.col("near") & ~pl.col("told") & (pl.col("last_hour") < DAY - 1))
        .join(clock.select(last_hour="hour", until="until"), on="last_hour")
        .filter(pl.col("clicks") * (1 - pl.col("until")) >= due_clicks * pl.col("until"))
    )
    after = ended.select("campaign_id", "day", "last_hour").join(clock.select("hour"), how="cross")
    return after.filter(pl.col("hour") > pl.col("last_hour")).select(
        "campaign_id", "day", "hour", share=pl.lit(1.0)
    )


def _valued(
    found: pl.DataFrame, hourly: pl.DataFrame, days: pl.DataFrame, clock: pl.DataFrame
) -> pl.DataFrame:
    """Adds what each dry hour missed."""
    key = ["campaign_id", "hour"]
    thirsty = hourly.join(found.select("campaign_id").unique(), on="campaign_id", how="semi")
    wet = thirsty.join(found, on=["campaign_id", "day", "hour"], how="anti")
    # A day without a row in an hour that was not dry had nothing in it.
    held = (
        days.join(found.select("campaign_id").unique(), on="campaign_id", how="semi").group_by("campaign_id").len("all_days")
    )  # fmt: skip
    dried = found.group_by(key).len("dry_days")
    usual = (
        found.select(key).unique().join(held, on="campaign_id").join(dried, on=key)
        .join(wet.group_by(key).agg(pl.col("sales", "spend").sum()), on=key, how="left")
        .with_columns(pl.col("sales", "spend").fill_null(0), wet_days=pl.col("all_days").cast(pl.Int64) - pl.col("dry_days").cast(pl.Int64))
        .filter(pl.col("wet_days") >= USUAL_DAYS)
        .select(*key, own_sales=pl.col("sales") / pl.col("wet_days"), own_spend=pl.col("spend") / pl.col("wet_days"))
    )  # fmt: skip
    rates = days.group_by("campaign_id").agg(
        rpc=pl.col("sales").sum() / pl.col("clicks").sum(), cpc=pl.col("spend").sum() / pl.col("clicks").sum()
    )
    # Until a day ran dry it had its clicks in the share of the profile that lay before.
    start = found.group_by("campaign_id", "day").agg(dry_from=pl.col("hour").min())
    lived = (
        start.join(days.select("campaign_id", "day", "clicks"), on=["campaign_id", "day"])
        .join(clock.select(dry_from="hour", lived=pl.col("until") - pl.col("usual")), on="dry_from")
        .select("campaign_id", "day", pace=pl.when(pl.col("lived") > 0).then(pl.col("clicks") / pl.col("lived")).otherwise(0.0))
    )  # fmt: skip
    return (
        found.join(clock.select("hour", "usual"), on="hour")
        .join(lived, on=["campaign_id", "day"], how="left")
        .join(rates, on="campaign_id", how="left")
        .join(usual, on=key, how="left")
        .with_columns(due=pl.col("pace") * pl.col("usual"))
        .with_columns(
            missed_sales=pl.col("share")
            * pl.coalesce("own_sales", pl.col("due") * pl.col("rpc")).fill_null(0).fill_nan(0),
            missed_spend=pl.col("share")
            * pl.coalesce("own_spend", pl.col("due") * pl.col("cpc")).fill_null(0).fill_nan(0),
        )
        .sort("campaign_id", "day", "hour")
    )


@dataclass(frozen=True, slots=True)
class Missed:
    """Sales that were missed, at the usual elasticity and the ends of its range."""

    low: float
    middle: float
    high: float


def missed(sales: float) -> Missed:
    """What more money is likely to have sold of what the hours usually sell."""
    return Missed(sales * ELASTICITIES[0], sales * ELASTICITY, sales * ELASTICITIES[1])


def starved(spend: Sequence[float], organic: Sequence[float]) -> tuple[int, ...]:
    """Hours of strong organic sales, above the day's mean, in which ads all but vanish: under half a middling hour's spend."""
    spent, sold = sum(spend), sum(organic)
    if spent <= 0 or sold <= 0:
        return ()
    return tuple(
        hour for hour in range(DAY) if organic[hour] / sold > 1 / DAY and spend[hour] / spent < _STARVED / DAY
    )
