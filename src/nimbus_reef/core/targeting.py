"""Targets and search terms, judged: ratios, evidence and the simple rule side by side."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from nimbus_reef.core import evidence
from nimbus_reef.core.metrics import with_ratios

CHAIN = ("ad_group_id", "main_product", "family", "category")
"""Whose company a target or term is judged in, smallest first; the account comes last."""


AD_CHAIN = ("sku", "family", "category")
"""The same of a product ad: other ad groups with its SKU, its family, its category."""


def judged(
    rows: pl.DataFrame, days: int, target_acos: float, min_clicks: int, chain: Sequence[str] = CHAIN
) -> pl.DataFrame:
    """
    Adds everything a table of targets, terms or product ads shows, filters and sorts by.

    rows: measures (money in micro-units) and the chain. See `evidence.judge` for what is
    added; also ratios (money in units), simple_verdict and share_of_spend.
    """
    aimed = rows.with_columns(target_acos=pl.lit(target_acos, pl.Float64))
    judged_rows = evidence.judge(aimed, chain, days)
    spent = pl.col("spend").sum()
    return with_ratios(judged_rows).with_columns(
        evidence.simple_rule(min_clicks),
        share_of_spend=pl.when(spent > 0).then(pl.col("spend") / spent),
    )
