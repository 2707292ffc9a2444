"""What campaigns did in a window, from whichever report tells."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import product_frames, setting_frames, target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.models import KEYS_OF


def campaign_sums(facts: Facts, account_id: int, window: Window, source: str) -> pl.DataFrame:
    """Measures per campaign from one report: campaign_id, campaign, format, portfolio, state, measures."""

    def make() -> pl.DataFrame:
        sums = _by_campaign(facts, account_id, window, source, [])
        return sums.join(setting_frames.campaign_settings(facts, account_id, window), on="campaign_id").sort(
            "campaign_id"
        )

    return facts.kept("campaign sums", account_id, make, window, source)


def campaign_days(facts: Facts, account_id: int, window: Window, source: str) -> pl.DataFrame:
    """The same of every day or block: first_day and day besides."""

    def make() -> pl.DataFrame:
        days = _by_campaign(facts, account_id, window, source, ["first_day", "day"])
        return days.join(setting_frames.campaign_settings(facts, account_id, window), on="campaign_id")

    return facts.kept("campaign days", account_id, make, window, source)


def _by_campaign(facts: Facts, account_id: int, window: Window, source: str, also: list[str]) -> pl.DataFrame:
    key, *_ = KEYS_OF[source]
    versions = facts.versions(account_id, source, window)
    rows = snapshots.read(facts.store, account_id, source, versions, [key, *MEASURES])
    sums = rows.group_by(key, *also).agg(pl.col(MEASURES).cast(pl.Int64).sum()).collect()
    if key == "target_term_id":
        terms = target_frames.term_names(facts, account_id).select("target_term_id", "target_id")
        sums, key = sums.join(terms, on="target_term_id"), "target_id"
    if key == "target_id":
        homes = target_frames.targets(facts, account_id).select("target_id", "campaign_id")
        sums = sums.join(homes, on="target_id")
    elif key == "product_ad_id":
        homes = product_frames.ad_rows(facts, account_id, window).select("product_ad_id", "campaign_id")
        sums = sums.join(homes, on="product_ad_id")
    return sums.group_by("campaign_id", *also).agg(pl.col(MEASURES).sum())
