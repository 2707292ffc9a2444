"""What campaigns and targets are set to, at the end of a window."""

from __future__ import annotations

from datetime import date

import polars as pl

from nimbus_reef.core.windows import Window
from nimbus_reef.store import snapshots
from nimbus_reef.store.facts import Facts


def target_settings(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """target_id, state and bid (micro) on the window's last day, or the latest before, where held."""
    generation = facts.generation(account_id)

    def make() -> pl.DataFrame:
        days = facts.versions(account_id, "targets", Window(date(2000, 1, 1), window.last))
        rows = snapshots.read(
            facts.store, account_id, "targets", days, ["target_id", "state", "bid", "ad_group_bid"]
        )
        return (
            rows.sort("day")
            .group_by("target_id")
            .last()
            .with_columns(bid=pl.coalesce("bid", "ad_group_bid"))
            .drop("ad_group_bid", "day")
            .collect()
        )

    return facts.cache.get(("settings", account_id, generation, window.last), make)


def placed(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """campaign_id, format, portfolio."""
    return campaign_settings(facts, account_id, window).select("campaign_id", "format", "portfolio")


def campaign_settings(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """campaign_id, campaign, state, format, portfolio at the window's end; null where not held."""
    generation = facts.generation(account_id)

    def make() -> pl.DataFrame:
        days = facts.versions(account_id, "campaigns", Window(date(2000, 1, 1), window.last))
        rows = snapshots.read(
            facts.store, account_id, "campaigns", days, ["campaign_id", "state", "format", "portfolio"]
        )
        newest = rows.sort("day").group_by("campaign_id").last().drop("day").collect()
        names = facts.query(
            f"SELECT id AS campaign_id, name AS campaign FROM campaign WHERE account_id = {int(account_id)}"
        )
        return names.join(newest, on="campaign_id", how="left")

    return facts.cache.get(("campaigns", account_id, generation, window.last), make)
