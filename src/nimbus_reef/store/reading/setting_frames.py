"""What campaigns and targets are set to, at the end of a window."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.core.model import Placement
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshots


def target_settings(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    target_id, state, bid (micro; its own, else its ad group's) and own_bid (whether it is its own) on the window's last
    day, or the latest before, where held.
    """

    def make() -> pl.DataFrame:
        newest = _newest(facts, account_id, "targets", window, ["target_id", "state", "bid", "ad_group_bid"])
        return newest.with_columns(own_bid=pl.col("bid").is_not_null(), bid=pl.coalesce("bid", "ad_group_bid")).drop(
            "ad_group_bid"
        )

    return facts.kept("settings", account_id, make, _settled(facts, account_id, "targets", window))


def bid_steps(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """target_id, day, bid (micro): the bid in force on the window's first day, and on each day that changed it."""

    def make() -> pl.DataFrame:
        rows = _steps(facts, account_id, "targets", window, "target_id", ["bid", "ad_group_bid"])
        bids = rows.select("target_id", "day", bid=pl.coalesce("bid", "ad_group_bid"))
        return _changed(bids.drop_nulls("bid"), "target_id", ["bid"])

    return facts.kept("bid steps", account_id, make, window)


def state_steps(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """target_id, day, state: as `bid_steps`, of whether targets are enabled."""

    def make() -> pl.DataFrame:
        return _steps(facts, account_id, "targets", window, "target_id", ["state"])

    return facts.kept("state steps", account_id, make, window)


def adjustment_steps(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """campaign_id, day, adj_… (per cent), bidding: as `bid_steps`, of the adjustments of placements."""
    columns = [*ADJUSTMENTS.values(), "bidding"]

    def make() -> pl.DataFrame:
        return _steps(facts, account_id, "campaigns", window, "campaign_id", columns)

    return facts.kept("adjustment steps", account_id, make, window)


def _steps(facts: Facts, account_id: int, kind: str, window: Window, key: str, columns: Sequence[str]) -> pl.DataFrame:
    """The key, day and columns of settings in a window and of the newest day before, where they differ from before."""
    held = _until(facts, account_id, kind, window)
    before = max((span for span in held if span.last < window.first), default=None)
    wanted = {span: version for span, version in held.items() if span.last >= window.first or span == before}
    rows = snapshots.read(facts.store, account_id, kind, wanted, [key, *columns]).collect()
    return _changed(rows.select(key, "day", *columns), key, columns)


def _changed(rows: pl.DataFrame, key: str, columns: Sequence[str]) -> pl.DataFrame:
    """The first row of each thing, and those whose columns differ from its row before; in order."""
    # Read in the order of days; sorted by thing, that order stays.
    rows = rows.sort(key, "day")
    same = pl.all_horizontal(pl.col(each).eq_missing(pl.col(each).shift()) for each in (key, *columns))
    return rows.filter(~same.fill_null(False))


def ad_group_settings(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """ad_group_id, ad_group_state, default_bid (micro) on the period's last day, or the latest before, where held."""

    def make() -> pl.DataFrame:
        newest = _newest(facts, account_id, "ad_groups", window, ["ad_group_id", "state", "default_bid"])
        return newest.rename({"state": "ad_group_state"})

    return facts.kept("ad group settings", account_id, make, _settled(facts, account_id, "ad_groups", window))


def ad_group_states(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """ad_group_id, ad_group_state on the last day of the period, or the latest before, where held."""
    return ad_group_settings(facts, account_id, window).drop("default_bid")


def product_ad_states(facts: Facts, account_id: int, window: Window) -> pl.DataFrame | None:
    """product_ad_id, state on the last day of the period, or the latest before; None where that report is not held."""
    if not _until(facts, account_id, "product_ads", window):
        return None

    def make() -> pl.DataFrame:
        return _newest(facts, account_id, "product_ads", window, ["product_ad_id", "state"])

    return facts.kept("product ad states", account_id, make, _settled(facts, account_id, "product_ads", window))


def _newest(facts: Facts, account_id: int, kind: str, window: Window, columns: Sequence[str]) -> pl.DataFrame:
    """The newest row up to the window's end of each thing that the first column names."""
    by_key = _until(facts, account_id, kind, window)
    # Read in the order of days: the last row of a thing is its newest. By where those lie, for there are as many of
    # each as days.
    rows = snapshots.read(facts.store, account_id, kind, by_key, columns).collect()
    from_the_end = rows[columns[0]].reverse().arg_unique()
    return rows[len(rows) - 1 - from_the_end.cast(pl.Int64)].drop("day", "first_day")


def _until(facts: Facts, account_id: int, kind: str, window: Window) -> dict[Window, int]:
    return facts.versions(account_id, kind, Window(date(2000, 1, 1), window.last))


def _settled(facts: Facts, account_id: int, kind: str, window: Window) -> date | None:
    """The last day up to the window's end that tells settings: between two such days all windows share theirs."""
    return max((span.last for span in _until(facts, account_id, kind, window)), default=None)


ADJUSTMENTS: Final[Mapping[Placement, str]] = {
    Placement.TOP_OF_SEARCH: "adj_top_of_search",
    Placement.ELSEWHERE_IN_SEARCH: "adj_elsewhere",
    Placement.PRODUCT_PAGE: "adj_product_page",
}
"""Where a campaign's settings hold the adjustment of a placement, in per cent."""
DELIVERY_SETTINGS: Final = (
    "targeting",
    "daily_budget",
    "bidding",
    "adj_top_of_search",
    "adj_product_page",
    "adj_elsewhere",
    "offsite_limited",
)


def budgets_by_day(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """campaign_id, day, budget (micro-units) on every day with settings up to the window's end, in order."""

    def make() -> pl.DataFrame:
        by_key = _until(facts, account_id, "campaigns", window)
        rows = snapshots.read(facts.store, account_id, "campaigns", by_key, ["campaign_id", "daily_budget"])
        return rows.select("campaign_id", "day", budget="daily_budget").sort("day", "campaign_id").collect()

    return facts.kept("budgets", account_id, make, _settled(facts, account_id, "campaigns", window))


def placed(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """campaign_id, format, portfolio."""
    return campaign_settings(facts, account_id, window).select("campaign_id", "format", "portfolio")


def campaign_settings(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    campaign_id, campaign, state, format, portfolio, targeting, daily_budget (micro-units), bidding, adj_… (per cent)
    and offsite_limited at the window's end; null where not held.
    """

    def make() -> pl.DataFrame:
        columns = ["campaign_id", "state", "format", "portfolio", *DELIVERY_SETTINGS]
        newest = _newest(facts, account_id, "campaigns", window, columns)
        names = facts.query(
            "SELECT id AS campaign_id, name AS campaign FROM campaign WHERE account_id = :account", account=account_id
        )
        return names.join(newest, on="campaign_id", how="left")

    return facts.kept("campaigns", account_id, make, campaigns_settled(facts, account_id, window))


def campaigns_settled(facts: Facts, account_id: int, window: Window) -> date | None:
    """What `campaign_settings` depend on beside what is loaded."""
    return _settled(facts, account_id, "campaigns", window)
