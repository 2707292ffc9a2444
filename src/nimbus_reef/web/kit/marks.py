"""What was changed on a row, as marks on its trend."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import polars as pl

from nimbus_reef.web.kit.charts import Marked


def changes_of_row(row: Mapping[str, Any], bids: Sequence[Marked], changes: pl.DataFrame) -> list[Marked]:
    """
    What was changed on a row, its ad group or its campaign, by day.

    bids: its bid's steps as settings show them; a change of the bid on record on the same day
    is the same one. changes: see `row_frames.changes`.
    """
    if "campaign_id" not in row:
        return list(bids)
    target, group = row.get("target_id") or 0, row["ad_group_id"]
    about = (
        (pl.col("target_id") == target) & (target != 0)
        | (pl.col("target_id") == 0) & (pl.col("product_id") == 0) & (pl.col("ad_group_id") == group)
        | (pl.col("ad_group_id") == 0) & (pl.col("campaign_id") == row["campaign_id"])
    )
    stepped = {each.day for each in bids}
    noted = [
        Marked(each["day"], _change_words(each))
        for each in changes.filter(about).to_dicts()
        if not (each["field"] == "bid" and each["day"] in stepped)
    ]
    return sorted([*bids, *noted], key=lambda each: each.day)


def _change_words(change: Mapping[str, Any]) -> str:
    whose = "" if change["target_id"] else "ad group’s " if change["ad_group_id"] else "campaign’s "
    return f"{whose}{change['field'].replace('_', ' ')} {change['old'] or '–'} → {change['new'] or '–'}"
