"""Targets and search terms, judged: ratios, evidence and the simple rule side by side."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import polars as pl

from nimbus_reef.core import evidence
from nimbus_reef.core.metrics import with_ratios

CHAIN = ("ad_group_id", "main_product", "family", "category")
"""Whose company a target or term is judged in, smallest first; the account comes last."""


AD_CHAIN = ("sku", "family", "category")
"""The same of a product ad: other ad groups with its SKU, its family, its category."""


@dataclass(frozen=True, slots=True)
class Aims:
    """
    Target ACOS as fractions: the account's, and own ones by name, as (name, target).

    The nearest wins: campaign, then portfolio, then (main) product, then the account.
    """

    account: float
    campaigns: tuple[tuple[str, float], ...] = ()
    portfolios: tuple[tuple[str, float], ...] = ()
    products: tuple[tuple[str, float], ...] = ()

    def expr(self, columns: Collection[str]) -> pl.Expr:
        """The target in force on each row, by those of its columns that name something."""
        levels = (
            ("campaign", self.campaigns), ("portfolio", self.portfolios),
            ("sku", self.products), ("main_product", self.products),
        )  # fmt: skip
        own = [
            pl.col(column).cast(pl.String).replace_strict(dict(named), default=None, return_dtype=pl.Float64)
            for column, named in levels
            if named and column in columns
        ]
        return pl.coalesce(*own, pl.lit(self.account, pl.Float64)).alias("target_acos")


def judged(
    rows: pl.DataFrame, days: int, aims: Aims, min_clicks: int, chain: Sequence[str] = CHAIN
) -> pl.DataFrame:
    """
    Adds everything a table of targets, terms or product ads shows, filters and sorts by.

    rows: measures (money in micro-units) and the chain. See `evidence.judge` for what is
    added; also ratios (money in units), simple_verdict and share_of_spend.
    """
    aimed = rows.with_columns(aims.expr(rows.columns))
    judged_rows = evidence.judge(aimed, chain, days)
    spent = pl.col("spend").sum()
    return with_ratios(judged_rows).with_columns(
        evidence.simple_rule(min_clicks),
        share_of_spend=pl.when(spent > 0).then(pl.col("spend") / spent),
    )
