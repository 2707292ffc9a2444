"""Margins before ads of what ad groups and campaigns sell."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import polars as pl

from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class Margins:
    """By campaign and ad group, and by campaign: fractions of what is sold."""

    groups: Mapping[tuple[str, str], float]
    campaigns: Mapping[str, float]

    def of(self, campaign: str, ad_group: str) -> float | None:
        """The margin of an ad group, else of its campaign; None where none is known."""
        return self.groups.get((campaign, ad_group), self.campaigns.get(campaign))


def margins_by_home(facts: Facts, account_id: int, window: Window) -> Margins:
    """The margins of a window, weighed by clicks; of a campaign the mean of its ad groups. Kept."""

    def make() -> Margins:
        names = product_frames.ad_groups(facts, account_id).select(
            "ad_group_id", pl.col("campaign", "ad_group").cast(pl.String)
        )
        rows = product_frames.margins(facts, account_id, window).drop_nulls().join(names, on="ad_group_id")
        groups = {
            (campaign, group): margin
            for campaign, group, margin in rows.select("campaign", "ad_group", "margin").rows()
        }
        campaigns = dict(rows.group_by("campaign").agg(pl.col("margin").mean()).rows())
        return Margins(groups, campaigns)

    return facts.kept("margins by name", account_id, make, window)
