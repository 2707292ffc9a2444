"""Where and when ads ran: placements, hours, all trade by hour, boosts in force and sale events."""

from __future__ import annotations

from datetime import date, timedelta

import polars as pl

from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import setting_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshots


def placement_sums(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """Measures per campaign and placement: campaign_id, placement, the measures and the campaign's settings."""

    def make() -> pl.DataFrame:
        sums = facts.sums(account_id, "placement_daily", window)
        settings = setting_frames.campaign_settings(facts, account_id, window)
        return sums.join(settings, on="campaign_id").sort("campaign_id", "placement")

    return facts.kept("placement sums", account_id, make, window)


def placement_days(facts: Facts, account_id: int, window: Window, placement: str) -> pl.DataFrame:
    """One placement by campaign and day (or block): first_day, day, the measures and the campaign's settings."""
    versions = facts.versions(account_id, "placement_daily", window)
    rows = snapshots.read(facts.store, account_id, "placement_daily", versions, ["campaign_id", "placement", *MEASURES])
    own = rows.filter(pl.col("placement").cast(pl.String) == placement)
    return _by_campaign_day(facts, account_id, window, own)


def hours_by_day(facts: Facts, account_id: int, window: Window, first: int, end: int) -> pl.DataFrame:
    """Some hours (the end excluded) by campaign and day (or block): as `placement_days`."""
    rows = _hourly(facts, account_id, window).filter(pl.col("hour").is_between(first, end - 1))
    return _by_campaign_day(facts, account_id, window, rows)


def _by_campaign_day(facts: Facts, account_id: int, window: Window, rows: pl.LazyFrame) -> pl.DataFrame:
    sums = rows.group_by("campaign_id", "first_day", "day").agg(pl.col(MEASURES).cast(pl.Int64).sum()).collect()
    return sums.join(setting_frames.campaign_settings(facts, account_id, window), on="campaign_id")


def hour_sums(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """Measures per campaign and hour, in no order: campaign_id, hour, the measures."""

    def make() -> pl.DataFrame:
        # One number for both keys: half the time over millions of rows.
        packed = pl.col("campaign_id").cast(pl.Int64) * 32 + pl.col("hour").cast(pl.Int64)
        return (
            _hourly(facts, account_id, window)
            .group_by(packed.alias("packed"))
            .agg(pl.col(MEASURES).cast(pl.Int64).sum())
            .with_columns(
                campaign_id=(pl.col("packed") // 32).cast(pl.UInt32), hour=(pl.col("packed") % 32).cast(pl.Int64)
            )
            .drop("packed")
            .collect()
        )

    many = facts.if_many(account_id, "hourly", window, "hour sums", account_id, window)
    return facts.kept("hour sums", account_id, make, window, asked=many)


def weekday_hours(
    facts: Facts, account_id: int, window: Window, campaigns: pl.Series | None = None, *, apart: bool = False
) -> pl.DataFrame:
    """
    Measures per weekday (ISO; null of sums of several days) and hour, of all campaigns or of some, by their ids:
    weekday, hour, the measures, in order. apart: of each campaign, by campaign_id.
    """
    own = ["campaign_id"] if apart else []
    rows = _hourly(facts, account_id, window)
    if campaigns is not None:
        rows = rows.filter(pl.col("campaign_id").is_in(campaigns.implode()))
    by_day = rows.group_by(*own, "first_day", "day", "hour").agg(pl.col(MEASURES).cast(pl.Int64).sum())
    weekday = pl.when(pl.col("first_day") == pl.col("day")).then(pl.col("day").dt.weekday())
    return (
        by_day.group_by(*own, weekday.alias("weekday"), pl.col("hour").cast(pl.Int64))
        .agg(pl.col(MEASURES).sum())
        .sort(*own, "weekday", "hour")
        .collect()
    )


def _hourly(facts: Facts, account_id: int, window: Window) -> pl.LazyFrame:
    versions = facts.versions(account_id, "hourly", window)
    return snapshots.read(facts.store, account_id, "hourly", versions, ["campaign_id", "hour", *MEASURES])


def hour_days(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    Campaigns by day and hour, single days only: campaign_id, day, hour, clicks, spend, sales, impressions,
    in_budget_minutes.
    """
    versions = facts.days(account_id, "hourly", window)
    columns = ["campaign_id", "hour", "impressions", "clicks", "spend", "sales", "in_budget_minutes"]
    return snapshots.read(facts.store, account_id, "hourly", versions, columns).drop("first_day").collect()


def trade_hours(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """All trade by weekday (null of sums of several days) and hour: weekday, hour, total_orders, total_sales."""

    def make() -> pl.DataFrame:
        versions = facts.versions(account_id, "sales_hourly", window)
        rows = snapshots.read(
            facts.store, account_id, "sales_hourly", versions, ["hour", "total_orders", "total_sales"]
        )
        weekday = pl.when(pl.col("first_day") == pl.col("day")).then(pl.col("day").dt.weekday())
        sums = rows.group_by(weekday.alias("weekday"), "hour").agg(
            pl.col("total_orders", "total_sales").cast(pl.Int64).sum()
        )
        return sums.sort("weekday", "hour").collect()

    return facts.kept("trade hours", account_id, make, window)


def weekdays_held(facts: Facts, account_id: int, kind: str, window: Window) -> dict[int, int]:
    """How often each ISO weekday is held day by day in a window."""
    counts: dict[int, int] = {}
    for span in facts.days(account_id, kind, window):
        weekday = span.last.isoweekday()
        counts[weekday] = counts.get(weekday, 0) + 1
    return counts


def budgets_in_force(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    campaign_id, day, budget (micro-units, boosts of the day added) on every day of the window for
    which one is known.
    """

    def make() -> pl.DataFrame:
        days = pl.DataFrame({"day": _every_day(window)}, schema={"day": pl.Date})
        rows = setting_frames.budgets_by_day(facts, account_id, window)
        campaigns = rows.select("campaign_id").unique()
        in_force = (
            campaigns.join(days, how="cross")
            .sort("day")
            .join_asof(rows.sort("day"), on="day", by="campaign_id", strategy="backward", check_sortedness=False)
            .drop_nulls("budget")
        )
        raised = _raised(boosts(facts, account_id), days)
        return (
            in_force.join(raised, on=["campaign_id", "day"], how="left")
            .select(
                "campaign_id",
                "day",
                budget=(pl.col("budget") * (1 + pl.col("percent").fill_null(0) / 100)).round().cast(pl.Int64),
            )
            .sort("campaign_id", "day")
        )

    return facts.kept("budgets in force", account_id, make, window)


def _raised(rows: pl.DataFrame, days: pl.DataFrame) -> pl.DataFrame:
    """campaign_id, day, percent: by how much budget boosts raise a day's budget."""
    own = rows.filter(pl.col("what") == "budget").join(days, how="cross")
    weekdays = pl.col("weekdays").fill_null("").str.strip_chars()
    on_it = (weekdays == "") | weekdays.str.split(" ").list.contains(pl.col("day").dt.weekday().cast(pl.String))
    lasting = pl.col("day").is_between("from", "to")
    return own.filter(on_it & lasting).group_by("campaign_id", "day").agg(pl.col("percent").sum())


def boosts(facts: Facts, account_id: int) -> pl.DataFrame:
    """
    Raises in force: campaign_id, campaign, name, what, from, to, weekdays, from_hour, to_hour,
    percent, condition.
    """
    query = (
        "SELECT b.campaign_id, c.name AS campaign, b.name, b.what, b.`from`, b.`to`, b.weekdays, b.from_hour,"
        " b.to_hour, b.percent, b.condition FROM boosts b JOIN campaign c ON c.id = b.campaign_id WHERE b.account_id ="
        " :account AND b.day = (SELECT MAX(n.day) FROM boosts n WHERE n.account_id = b.account_id AND n.campaign_id ="
        " b.campaign_id AND n.name = b.name AND n.what = b.what) ORDER BY c.name, b.name"
    )
    return facts.kept("boosts", account_id, lambda: facts.query(query, account=account_id))


def events(facts: Facts, account_id: int) -> pl.DataFrame:
    """Sale events: name, from, to, country, the earliest first."""
    query = (
        "SELECT e.name, e.`from`, e.`to`, e.country FROM events e WHERE e.account_id = :account "
        "AND e.day = (SELECT MAX(n.day) FROM events n WHERE n.account_id = e.account_id AND n.name = e.name) "
        "ORDER BY e.`from`, e.name"
    )
    return facts.kept("events", account_id, lambda: facts.query(query, account=account_id))


def campaign_spend_days(facts: Facts, account_id: int, window: Window, source: str) -> pl.DataFrame:
    """campaign_id, day, spend (micro-units) of single days from a report that has campaigns."""
    versions = facts.days(account_id, source, window)
    rows = snapshots.read(facts.store, account_id, source, versions, ["campaign_id", "spend"])
    return rows.group_by("campaign_id", "day").agg(pl.col("spend").cast(pl.Int64).sum()).collect()


def _every_day(window: Window) -> list[date]:
    return [window.first + timedelta(days=number) for number in range(window.days)]
