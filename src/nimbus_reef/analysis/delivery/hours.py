"""Hours of an account: the grid of weekday and hour, segments of the day, dry hours and what they missed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import product
from typing import Final

import polars as pl

from nimbus_reef.analysis import out_of_budget
from nimbus_reef.analysis.out_of_budget import KIND
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import evidence, hours, targeting
from nimbus_reef.core.boosts import WEEK
from nimbus_reef.core.hours import DAY, HOURS_WRITTEN, Segment
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.windows import per_month
from nimbus_reef.errors import BadInput
from nimbus_reef.store.reading import delivery_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

TRADE: Final = "sales_hourly"
CHAIN: Final = ("campaign_id",)
METRICS: Final = ("spend", "sales", "organic", "acos", "tacos", "rpc")
EVERY_DAY: Final = 0
"""The weekday of sums that are not told apart by day."""


@dataclass(frozen=True, slots=True)
class HourCell:
    """One hour of a weekday: means per occurrence in units; ratios of the sums; None where not known."""

    spend: float
    sales: float
    clicks: float
    orders: float
    organic: float | None
    acos: float | None
    tacos: float | None
    rpc: float | None


@dataclass(frozen=True, slots=True)
class Grid:
    """
    Cells by ISO weekday (0 where the report is one sum of several days) and hour. by_day: told apart by weekday; trade:
    all trade by hour is held, and asked of the whole account.
    """

    cells: dict[tuple[int, int], HourCell]
    weekdays: tuple[int, ...]
    by_day: bool
    trade: bool


def sums(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Weekday (0: not told apart), hour and the measures of the part that is looked at, in order."""

    def make() -> pl.DataFrame:
        campaigns = None
        if selection.part:
            settings = setting_frames.campaign_settings(facts, selection.account.id, selection.window)
            campaigns = selection.within(facts, settings)["campaign_id"]
        rows = delivery_frames.weekday_hours(facts, selection.account.id, selection.window, campaigns)
        weekday = pl.col("weekday").cast(pl.Int64)
        # Blocks tell no weekdays: where any is in the window, all of it is told by hour alone.
        weekday = pl.lit(EVERY_DAY, pl.Int64) if rows["weekday"].null_count() else weekday
        return rows.group_by(weekday.alias("weekday"), "hour").agg(pl.col(MEASURES).sum()).sort("weekday", "hour")

    many = facts.if_many(selection.account.id, KIND, selection.window, "hours of part", selection)
    return facts.kept("hours of part", selection.account.id, make, selection.window, selection.part, asked=many)


def trade(facts: Facts, selection: Selection) -> pl.DataFrame | None:
    """
    hour, weekday (as in `sums`), total_sales of all trade; None where not held, or a part is looked at: trade has no
    parts.
    """
    if selection.part:
        return None
    rows = delivery_frames.trade_hours(facts, selection.account.id, selection.window)
    if rows.is_empty():
        return None
    alike = (sums(facts, selection)["weekday"] == EVERY_DAY).any() or rows["weekday"].null_count() > 0
    weekday = pl.lit(EVERY_DAY, pl.Int64) if alike else pl.col("weekday").cast(pl.Int64)
    return rows.group_by(weekday.alias("weekday"), pl.col("hour").cast(pl.Int64)).agg(pl.col("total_sales").sum())


def grid(facts: Facts, selection: Selection) -> Grid:
    """Every hour of every weekday, means per occurrence."""
    rows, sold = sums(facts, selection), trade(facts, selection)
    by_day = len(rows) == 0 or not (rows["weekday"] == EVERY_DAY).any()
    times, traded = (
        delivery_frames.weekdays_held(facts, selection.account.id, kind, selection.window) for kind in (KIND, TRADE)
    )
    value, sold_on = (facts.monthly_days(selection.account.id, kind, selection.window) for kind in (KIND, TRADE))
    by_key = {(row["weekday"], row["hour"]): row for row in rows.to_dicts()}
    by_hour = {} if sold is None else {(row[0], row[1]): row[2] for row in sold.rows()}
    weekdays = tuple(range(1, 8)) if by_day else (EVERY_DAY,)
    cells = {}
    for weekday in weekdays:
        count = times.get(weekday, 0) if by_day else value
        trade_count = traded.get(weekday, 0) if by_day else sold_on
        for hour in range(DAY):
            row = by_key.get((weekday, hour), dict.fromkeys(MEASURES, 0))
            total = None
            if sold is not None and trade_count:
                total = by_hour.get((weekday, hour), 0) / MICRO / trade_count
            cells[weekday, hour] = _cell(row, total, max(1, count))
    return Grid(cells, weekdays, by_day, sold is not None)


def _cell(row: dict[str, int], trade: float | None, times: int) -> HourCell:
    """trade: mean total sales of the segment, over the days with total sales loaded."""
    spend, sales = row["spend"] / MICRO / times, row["sales"] / MICRO / times
    return HourCell(
        spend,
        sales,
        row["clicks"] / times,
        row["orders"] / times,
        None if trade is None else max(0.0, trade - sales),
        ratio(spend, sales),
        ratio(spend, trade),
        ratio(sales * times, row["clicks"]),
    )


def by_hour(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    The 24 hours: hour, the measures, total_sales (null without a report; scaled to the days of the ad report when it
    covers fewer days), organic.
    """
    clock = pl.DataFrame({"hour": list(range(DAY))}, schema={"hour": pl.Int64})
    own = sums(facts, selection).group_by("hour").agg(pl.col(MEASURES).sum())
    rows = clock.join(own, on="hour", how="left").with_columns(pl.col(MEASURES).fill_null(0))
    sold = trade(facts, selection)
    if sold is None:
        return rows.with_columns(total_sales=pl.lit(None, pl.Int64), organic=pl.lit(None, pl.Int64)).sort("hour")
    days, traded = (facts.monthly_days(selection.account.id, kind, selection.window) for kind in (KIND, TRADE))
    on_as_many = (pl.col("total_sales").sum() * days / traded).round().cast(pl.Int64)
    whole = sold.group_by("hour").agg(total_sales=on_as_many)
    return (
        rows.join(whole, on="hour", how="left")
        .with_columns(pl.col("total_sales").fill_null(0))
        .with_columns(organic=pl.max_horizontal(pl.col("total_sales") - pl.col("sales"), 0))
        .sort("hour")
    )


def found_segments(facts: Facts, selection: Selection) -> tuple[Segment, ...]:
    """The segments that conversion shows."""

    def make() -> tuple[Segment, ...]:
        rows = by_hour(facts, selection)
        return hours.segments(rows["clicks"].to_list(), rows["orders"].to_list())

    return facts.kept("segments", selection.account.id, make, selection.window, selection.part)


def drawn_segments(text: str) -> tuple[Segment, ...]:
    """
    Segments that somebody drew, as `6-15,18-22@67`: from an hour to an hour (excluded), past midnight where the second
    is not larger, on the ISO weekdays after the @, or on all. Of an hour drawn twice the later segment is meant; hours
    that none holds are segments of their own. BadInput names what cannot be read.
    """
    whose = dict.fromkeys(product(WEEK, range(DAY)), -1)
    for number, part in enumerate(text.split(",")):
        hours_drawn, _, days = part.strip().partition("@")
        first, _, end = hours_drawn.partition("-")
        known = {first, end} <= HOURS_WRITTEN and int(first) < DAY and int(end) > 0
        if not known or not set(days) <= set("1234567"):
            raise BadInput(
                f"“{part}” is no segment of the day.",
                remedy="Write hours like 6-15, or 18-22@67 for Saturday and Sunday.",
            )
        weekdays = sorted({int(day) for day in days}) or WEEK
        for hour in Segment(int(first), (int(end) - int(first)) % DAY or DAY).members:
            for weekday in weekdays:
                whose[weekday, hour] = number
    # Hours that the same segment holds on the same weekdays belong together.
    by_key: dict[tuple[int, tuple[int, ...]], list[int]] = {}
    for hour in range(DAY):
        for number in dict.fromkeys(whose[weekday, hour] for weekday in WEEK):
            weekdays_of = tuple(weekday for weekday in WEEK if whose[weekday, hour] == number)
            by_key.setdefault((number, weekdays_of), []).append(hour)
    found = [
        Segment(run.first, run.hours, () if len(weekdays_of) == len(WEEK) else weekdays_of)
        for (_, weekdays_of), members in by_key.items()
        for run in _runs(members)
    ]
    return tuple(sorted(found, key=lambda each: (each.first, each.weekdays)))


def _runs(free: Sequence[int]) -> list[Segment]:
    """Hours side by side as segments, the one over midnight whole."""
    runs: list[list[int]] = []
    for hour in free:
        if runs and hour == runs[-1][-1] + 1:
            runs[-1].append(hour)
        else:
            runs.append([hour])
    if len(runs) > 1 and runs[0][0] == 0 and runs[-1][-1] == DAY - 1:
        runs[0] = [*runs.pop(), *runs[0]]
    return [Segment(run[0], len(run)) for run in runs]


@dataclass(frozen=True, slots=True)
class SegmentSums:
    """
    What a segment came to in the window, in units; missed: per 30 days at full elasticity; dry_hours: per day on
    average.
    """

    segment: Segment
    spend: float
    sales: float
    organic: float | None
    clicks: int
    orders: int
    dry_hours: float
    missed: float

    @property
    def acos(self) -> float | None:
        """Cost of sale."""
        return ratio(self.spend, self.sales)

    @property
    def tacos(self) -> float | None:
        """Cost of all sales."""
        whole = None if self.organic is None else self.organic + self.sales
        return ratio(self.spend, whole)

    @property
    def rpc(self) -> float | None:
        """What a click sells."""
        return ratio(self.sales, self.clicks)


def segment_sums(facts: Facts, selection: Selection, segments: Sequence[Segment]) -> list[SegmentSums]:
    """The segments side by side. Kept."""
    key = (selection.window, selection.part, tuple(segments))
    return facts.kept("segment sums", selection.account.id, lambda: _segment_sums(facts, selection, segments), *key)


def _segment_sums(facts: Facts, selection: Selection, segments: Sequence[Segment]) -> list[SegmentSums]:
    rows = sums(facts, selection)
    if (rows["weekday"] == EVERY_DAY).any() and any(each.weekdays for each in segments):
        raise BadInput(
            "The hourly report is one total of several days, without weekdays.",
            remedy="Draw hours of all days, or load it by day.",
        )
    sold = trade(facts, selection)
    dried = out_of_budget.hours(facts, selection).with_columns(weekday=pl.col("day").dt.weekday().cast(pl.Int64))
    days, traded = (facts.monthly_days(selection.account.id, kind, selection.window) for kind in (KIND, TRADE))
    entries = []
    for segment in segments:
        own = rows.filter(_within(segment))
        lost = dried.filter(_within(segment))
        sales = int(own["sales"].sum())
        whole = None if sold is None else int(sold.filter(_within(segment))["total_sales"].sum()) * days / traded
        entries.append(
            SegmentSums(
                segment,
                int(own["spend"].sum()) / MICRO,
                sales / MICRO,
                # At segment level, not summed from hours: ad sales of an hour can exceed the total sales reported for
                # it.
                None if whole is None else max(0.0, whole - sales) / MICRO,
                int(own["clicks"].sum()),
                int(own["orders"].sum()),
                float(lost["share"].sum()) / days,
                per_month(float(lost["missed_sales"].sum()) / MICRO, days),
            )
        )
    return entries


def _within(segment: Segment) -> pl.Expr:
    inside = pl.col("hour").cast(pl.Int64).is_in(segment.members)
    if segment.weekdays:
        inside &= pl.col("weekday").cast(pl.Int64).is_in(segment.weekdays)
    return inside


def judged(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Every hour of every campaign, judged among the campaign's hours, else the account's: row_id,
    campaign_id, campaign, hour and what `evidence.judge` adds.
    """
    account = selection.account

    def make() -> pl.DataFrame:
        rows = delivery_frames.hour_sums(facts, account.id, selection.window)
        settings = setting_frames.campaign_settings(facts, account.id, selection.window).select(
            "campaign_id", "campaign", "format", "portfolio"
        )
        days = facts.monthly_days(account.id, KIND, selection.window)
        named = rows.sort("campaign_id", "hour").join(settings, on="campaign_id", maintain_order="left")
        in_cohort = evidence.with_priors(named, CHAIN)
        return targeting.judged(in_cohort, days, selection.aims, account.min_clicks).with_columns(
            row_id=pl.concat_str("campaign_id", "hour", separator=":")
        )

    return selection.within(facts, facts.kept("judged hours", account.id, make, *selection.judging))
