"""What an account is made of: campaigns, ad groups, targets, products, by state and by format."""

from __future__ import annotations

from typing import Final

import polars as pl

from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

Counts = dict[str, dict[str, int]]
NOT_HELD: Final = "not held"


def shape(facts: Facts, account: Account, window: Window) -> Counts:
    """
    How many there are of each thing at the window's end, as far as settings are loaded; kept. Nothing is said of ad
    groups where no target's state is held, nor of products without a catalog, nor of which are advertised without
    reports of product ads.
    """
    return facts.kept("shape", account.id, lambda: _count(facts, account, window), window)


def _count(facts: Facts, account: Account, window: Window) -> Counts:
    campaigns = setting_frames.campaign_settings(facts, account.id, window)
    targets = target_frames.targets(facts, account.id).join(
        setting_frames.target_settings(facts, account.id, window), on="target_id", how="left"
    )
    groups = targets.group_by("ad_group_id").agg(live=(pl.col("state").fill_null("enabled") == "enabled").any())
    catalog = product_frames.catalog(facts, account.id)
    advertised = product_frames.product_rows(facts, account.id, window)["product_id"].unique()
    states_held = targets["state"].count() > 0
    in_ads = catalog["product_id"].is_in(advertised.implode())
    eligible = catalog["ad_eligible"].cast(pl.String).fill_null("yes") == "yes"
    return {
        "Campaigns by state": _counted(campaigns["state"]),
        "Campaigns by format": _counted(campaigns["format"]),
        "Ad groups": (
            {"with a live target": int(groups["live"].sum()), "without one": int((~groups["live"]).sum())}
            if states_held
            else {NOT_HELD: len(groups)}
        ),
        "Targets by state": _counted(targets["state"]),
        "Targets by match type": _counted(targets["match_type"]),
        "Products": (
            {
                "advertised": int(in_ads.sum()),
                "eligible, not advertised": int((~in_ads & eligible).sum()),
                "not eligible": int((~in_ads & ~eligible).sum()),
            }
            if len(advertised) and len(catalog)
            else {NOT_HELD: len(catalog)}
        ),
    }


def _counted(values: pl.Series) -> dict[str, int]:
    named = values.cast(pl.String).fill_null(NOT_HELD).alias("value")
    return dict(named.value_counts(sort=True).rows())
