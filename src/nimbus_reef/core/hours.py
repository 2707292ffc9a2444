"""
Hours: when clicks convert, segments of the day found in that, hours in which the budget was gone, and what that cost.

Formulas: "Hours" in docs/calculations.md.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import log
from typing import Any, Final

import numpy as np
import numpy.typing as npt
import polars as pl
from scipy.special import xlog1py, xlogy

Ints = npt.NDArray[np.integer[Any]]

DAY: Final = 24
HOURS_WRITTEN: Final = frozenset(written for hour in range(DAY + 1) for written in (f"{hour}", f"{hour:02}"))
MOST_SEGMENTS: Final = 6
LEAST_HOURS: Final = 2
USUAL_DAYS: Final = 3
ELASTICITY: Final = 0.7
ELASTICITIES: Final = (0.4, 1.0)
_STARVED: Final = 0.5
"""The part of a middling hour's spend below which ads have all but vanished."""


@dataclass(frozen=True, slots=True)
class Segment:
    """
    Hours of the day from `first` on, `hours` long, past midnight where it must; on some ISO weekdays, on all where none
    is named.
    """

    first: int
    hours: int
    weekdays: tuple[int, ...] = ()

    @property
    def members(self) -> tuple[int, ...]:
        """Its hours, in their order."""
        return tuple((self.first + step) % DAY for step in range(self.hours))

    @property
    def end(self) -> int:
        """The hour at which it ends, 1 … 24."""
        return (self.first + self.hours - 1) % DAY + 1

    @property
    def parts(self) -> tuple[tuple[int, int], ...]:
        """From hour to hour (excluded): two where it runs past midnight."""
        end = self.first + self.hours
        return ((self.first, end),) if end <= DAY else ((self.first, DAY), (0, end - DAY))


def _cost(clicks: float, orders: float) -> float:
    """−2 × the binomial log-likelihood of orders in clicks at their own rate."""
    if clicks <= 0:
        return 0.0
    rate = orders / clicks
    return float(-2 * (xlogy(orders, rate) + xlog1py(clicks - orders, -rate)))


def segments(clicks: Sequence[int], orders: Sequence[int]) -> tuple[Segment, ...]:
    """
    The day cut into 1 … 6 segments of at least two hours, as they convert; one: the hours are alike.

    Exact dynamic programming over the circle, minimising -2·log-likelihood + 3s·ln 24; of equals the fewer, then the
    earliest cuts.

    Parameters
    ----------
    clicks, orders : 24 counts each
        Orders no more than clicks.

    References
    ----------
    docs/calculations.md, “Hours and budgets”: the Bayesian information criterion.
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


def profile(hours: Ints, clicks: Ints) -> list[float]:
    """
    The share of a day's clicks that each hour has: 24 shares; alike where there are none.

    hours, clicks: of campaign-days under 90 % of their budget, each hour of each day.
    """
    sums = np.bincount(hours, clicks, DAY)
    whole = sums.sum()
    return [float(each) / whole if whole else 1 / DAY for each in sums]


_DRY: Final = {
    "campaign_id": pl.UInt32,
    "day": pl.Date,
    "hour": pl.Int64,
    "share": pl.Float64,
    "missed_sales": pl.Float64,
    "missed_spend": pl.Float64,
}


@dataclass(frozen=True, slots=True)
class DryLimits:
    """
    A day ran dry that spent this part of its budget where so many clicks were still due. often: a campaign runs dry
    that did so on this part of the days.
    """

    near_budget: float = 0.90
    due_clicks: float = 2.0
    often: float = 0.10


STANDARD: Final = DryLimits()


def dry(rows: pl.DataFrame, budgets: pl.DataFrame, limits: DryLimits = STANDARD) -> pl.DataFrame:
    """
    The hours in which campaigns had no budget left, and what that missed.

    Told minutes count where they are told. Else a day is dry from the hour after its last impressions when it spent ≥
    90 % of its budget and ≥ 2 clicks were due after that (of the limits). Sales missed are the mean of that hour over ≥
    3 days on which it was not dry, else the clicks due × the campaign's sales per click.

    Parameters
    ----------
    rows : frame
        campaign_id, day, hour, impressions, clicks, spend, sales (micro-units), in_budget_minutes (null where it is not
        told), of single days.
    budgets : frame
        campaign_id, day, budget (micro-units, boosts of that day added).
    limits : DryLimits

    Returns
    -------
    frame
        campaign_id, day, hour, share (of the hour), missed_sales and missed_spend (micro-units; sales at full
        elasticity).

    References
    ----------
    docs/calculations.md, “Hours and budgets”.
    """
    if rows.is_empty():
        return pl.DataFrame(schema=_DRY)
    hourly, starts = _day_by_day(rows)
    days = _days(hourly, starts, budgets, limits.near_budget)
    lengths = np.diff(starts, append=len(hourly))
    calm = np.repeat(~days["near"].to_numpy(), lengths)
    shares = profile(hourly["hour"].to_numpy()[calm], hourly["clicks"].to_numpy()[calm])
    before = [sum(shares[:hour]) for hour in range(DAY + 1)]
    clock = pl.DataFrame(
        {"hour": list(range(DAY)), "usual": shares, "until": before[1:]},
        schema={"hour": pl.Int64, "usual": pl.Float64, "until": pl.Float64},
    )
    found = pl.concat([_told(hourly), _inferred(days, clock, limits.due_clicks)])
    if found.is_empty():
        return pl.DataFrame(schema=_DRY)
    concerned = np.repeat(days["campaign_id"].is_in(found["campaign_id"].implode()).to_numpy(), lengths)
    thirsty = hourly.filter(pl.Series(concerned)).with_columns(pl.col("hour").cast(pl.Int64))
    return _valued(found, thirsty, days, clock).select(pl.col(name).cast(kind) for name, kind in _DRY.items())


def _day_by_day(rows: pl.DataFrame) -> tuple[pl.DataFrame, Ints]:
    """
    The rows with those of a campaign-day beside each other, and where each campaign-day begins. There are millions: no
    grouping.
    """
    pairs = _pairs(rows)
    starts = _starts(pairs)
    if pl.Series(pairs[starts]).n_unique() == len(starts):
        return rows, starts
    order = np.argsort(pairs, kind="stable")
    return rows[order], _starts(pairs[order])


def _pairs(rows: pl.DataFrame) -> Ints:
    """One number for campaign and day."""
    days = rows["day"].to_physical().to_numpy().astype(np.int64)
    return np.asarray(rows["campaign_id"].to_numpy().astype(np.int64) * 2**32 + days)


def _starts(values: Ints) -> Ints:
    return np.concatenate([[0], np.flatnonzero(values[1:] != values[:-1]) + 1])


def _days(hourly: pl.DataFrame, starts: Ints, budgets: pl.DataFrame, near_budget: float) -> pl.DataFrame:
    """Campaign-days in order: what they did, until when, whether minutes are told, whether their budget was near."""
    last = np.where(hourly["impressions"].to_numpy() > 0, hourly["hour"].to_numpy().astype(np.int64), -1)
    array = hourly["in_budget_minutes"].is_not_null().to_numpy()
    sums = {
        name: np.add.reduceat(hourly[name].to_numpy(), starts, dtype=np.int64) for name in ("clicks", "spend", "sales")
    }
    return (
        hourly["campaign_id", "day"][starts]
        .with_columns(
            **{name: pl.Series(values) for name, values in sums.items()},
            last_hour=pl.Series(np.maximum.reduceat(last, starts)).replace(-1, None),
            told=pl.Series(np.logical_or.reduceat(array, starts)),
        )
        .with_columns(pair=pl.Series(_pairs(hourly["campaign_id", "day"][starts])))
        .join(budgets.select("budget", pair=pl.Series(_pairs(budgets))), on="pair", how="left", maintain_order="left")
        .drop("pair")
        .with_columns(near=(pl.col("spend") >= near_budget * pl.col("budget")).fill_null(False))
    )


def _told(hourly: pl.DataFrame) -> pl.DataFrame:
    return hourly.filter(pl.col("in_budget_minutes") < 60).select(
        "campaign_id",
        "day",
        pl.col("hour").cast(pl.Int64),
        share=(60 - pl.col("in_budget_minutes").cast(pl.Float64)) / 60,
    )


def _inferred(days: pl.DataFrame, clock: pl.DataFrame, due_clicks: float) -> pl.DataFrame:
    """Hours after the last impressions of days that were near their budget, where clicks were still due."""
    ended = (
        days.filter(pl.col("near") & ~pl.col("told") & (pl.col("last_hour") < DAY - 1))
        .join(clock.select(last_hour="hour", until="until"), on="last_hour")
        .filter(pl.col("clicks") * (1 - pl.col("until")) >= due_clicks * pl.col("until"))
    )
    after = ended.select("campaign_id", "day", "last_hour").join(clock.select("hour"), how="cross")
    return after.filter(pl.col("hour") > pl.col("last_hour")).select("campaign_id", "day", "hour", share=pl.lit(1.0))


def _valued(found: pl.DataFrame, thirsty: pl.DataFrame, days: pl.DataFrame, clock: pl.DataFrame) -> pl.DataFrame:
    """Adds what each dry hour missed. thirsty: all hours of the campaigns that were found."""
    key = ["campaign_id", "hour"]
    gone = pl.Series(_pairs(found) * DAY + found["hour"].to_numpy())
    wet = thirsty.filter(~pl.Series(_pairs(thirsty) * DAY + thirsty["hour"].to_numpy()).is_in(gone.implode()))
    # A day without a row in an hour that was not dry had nothing in it.
    rows = (
        days.join(found.select("campaign_id").unique(), on="campaign_id", how="semi")
        .group_by("campaign_id")
        .len("all_days")
    )
    dried = found.group_by(key).len("dry_days")
    usual = (
        found.select(key)
        .unique()
        .join(rows, on="campaign_id")
        .join(dried, on=key)
        .join(wet.group_by(key).agg(pl.col("sales", "spend").sum()), on=key, how="left")
        .with_columns(
            pl.col("sales", "spend").fill_null(0),
            wet_days=pl.col("all_days").cast(pl.Int64) - pl.col("dry_days").cast(pl.Int64),
        )
        .filter(pl.col("wet_days") >= USUAL_DAYS)
        .select(*key, own_sales=pl.col("sales") / pl.col("wet_days"), own_spend=pl.col("spend") / pl.col("wet_days"))
    )
    rates = days.group_by("campaign_id").agg(
        rpc=pl.col("sales").sum() / pl.col("clicks").sum(), cpc=pl.col("spend").sum() / pl.col("clicks").sum()
    )
    # Until a day ran dry it had its clicks in the share of the profile that lay before.
    start = found.group_by("campaign_id", "day").agg(dry_from=pl.col("hour").min())
    lived = (
        start.join(days.select("campaign_id", "day", "clicks"), on=["campaign_id", "day"])
        .join(clock.select(dry_from="hour", lived=pl.col("until") - pl.col("usual")), on="dry_from")
        .select(
            "campaign_id",
            "day",
            pace=pl.when(pl.col("lived") > 0).then(pl.col("clicks") / pl.col("lived")).otherwise(0.0),
        )
    )
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
    """
    Hours of strong organic sales, above the day's mean, in which ads all but vanish: under half a middling hour's
    spend.
    """
    spent, sold = sum(spend), sum(organic)
    if spent <= 0 or sold <= 0:
        return ()
    return tuple(hour for hour in range(DAY) if organic[hour] / sold > 1 / DAY and spend[hour] / spent < _STARVED / DAY)
