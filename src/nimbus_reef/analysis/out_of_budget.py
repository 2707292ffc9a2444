"""Hours in which a campaign was out of budget."""

from __future__ import annotations

from datetime import timedelta
from typing import Final

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import hours as rules
from nimbus_reef.store.reading import delivery_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

KIND: Final = "hourly"
_LATE_DAYS: Final = 14
OFTEN: Final = 3


def hours(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Those of the part that is looked at (see `core.hours.dry`), with the campaign's settings; none where the report
    is not loaded by day.
    """
    account = selection.account

    def make() -> pl.DataFrame:
        rows = delivery_frames.hour_days(facts, account.id, selection.window)
        budgets = delivery_frames.budgets_in_force(facts, account.id, selection.window)
        return rules.dry(rows, budgets, account.settings.dry)

    many = facts.if_many(account.id, KIND, selection.window, "hours out of budget", selection)
    found = facts.kept("hours out of budget", account.id, make, selection.window, asked=many)
    settings = setting_frames.campaign_settings(facts, account.id, selection.window).select(
        "campaign_id", "campaign", "format", "portfolio", "state", "daily_budget"
    )
    return selection.within(facts, found.join(settings, on="campaign_id", maintain_order="left"))


def lately(facts: Facts, selection: Selection) -> pl.DataFrame:
    """campaign_id, dry: whether it was out of budget on three or more of the last fourteen days."""
    late = selection.window.last - timedelta(days=_LATE_DAYS)
    days = hours(facts, selection).filter(pl.col("day") > late).select("campaign_id", "day").unique()
    return days.group_by("campaign_id").agg(dry=pl.len() >= OFTEN)
