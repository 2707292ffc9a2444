"""Targets and search terms, judged: ratios, evidence and the simple rule side by side."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.core import evidence
from nimbus_reef.core.cohorts import Cohort
from nimbus_reef.core.metrics import with_ratios

CHAIN = ("ad_group_id", "main_product", "family", "category", "own_campaign", "name_part", "own_portfolio")
"""
By whose orders an order of a target or term is valued, smallest first; the account comes last. Product, family
and category of ad groups with product rows; campaign, name part and portfolio of those without.
"""
PRODUCT_LEVEL = pl.coalesce("main_product", "name_part")
"""The product that an ad group belongs to; of one without product rows what its campaign's name calls so."""
NAME_ENDS = r"( · | \| | - |_).*$"
"""Where the part of a campaign's name that calls its product ends, before an account says how it names."""


def name_parts(campaigns: pl.DataFrame) -> pl.DataFrame:
    """
    campaign_id → name_part: the beginning of a campaign's name, where it gathers two or more of
    the campaigns and no more than half of them; else null.

    campaigns: campaign_id and campaign of those with rows in the window, each once.
    """
    named = campaigns.with_columns(
        name_part=pl.col("campaign").cast(pl.String).str.replace(NAME_ENDS, "")
    ).with_columns(gathered=pl.len().over("name_part"))
    fits = (pl.col("gathered") >= 2) & (pl.col("gathered") * 2 <= len(named))
    return named.select("campaign_id", name_part=pl.when(fits).then("name_part"))


def with_cohort(rows: pl.DataFrame) -> pl.DataFrame:
    """
    Adds the levels of `CHAIN` that stand in for a product where an ad group has no product rows.

    rows: campaign_id, campaign, portfolio and main_product (null without product rows).
    """
    alone = pl.col("main_product").is_null()
    parts = name_parts(rows.select("campaign_id", "campaign").unique("campaign_id", maintain_order=True))
    return rows.join(parts, on="campaign_id", how="left", maintain_order="left").with_columns(
        own_campaign=pl.when(alone).then(pl.col("campaign_id")),
        name_part=pl.when(alone).then("name_part"),
        own_portfolio=pl.when(alone).then(pl.col("portfolio").cast(pl.String)),
    )


AD_CHAIN = ("sku", "family", "category")
"""The same of a product ad: other ad groups with its SKU, its family, its category."""


ASSUMED_TARGET: Final = 0.3
"""Target ACOS of an account that has none yet."""


@dataclass(frozen=True, slots=True)
class Aims:
    """
    Target ACOS as fractions: the account's, and own ones by name, as (name, target).

    The nearest wins: the target itself, campaign, portfolio, (main) product, the account.
    """

    account: float
    campaigns: tuple[tuple[str, float], ...] = ()
    portfolios: tuple[tuple[str, float], ...] = ()
    products: tuple[tuple[str, float], ...] = ()
    targets: tuple[tuple[str, float], ...] = ()

    def expr(self, columns: Collection[str]) -> pl.Expr:
        """The target in force on each row, by those of its columns that name something."""
        levels = (
            (TARGET_KEY, dict(self.targets)),
            ("campaign", dict(self.campaigns)),
            ("portfolio", dict(self.portfolios)),
            ("sku", dict(self.products)),
            ("main_product", dict(self.products)),
        )
        return nearest(levels, self.account, columns).alias("target_acos")


TARGET_KEY: Final = "target key"
"""Stands for the four columns that name a target among the levels of `nearest`."""
TARGET_NAMES: Final = ("campaign", "ad_group", "target", "match_type")
"""What names a target."""
_BETWEEN: Final = " · "


def target_key(row: Mapping[str, Any]) -> str:
    """What a target is called where something is kept for it alone."""
    return _BETWEEN.join(str(row[name]) for name in TARGET_NAMES)


def nearest(
    levels: Sequence[tuple[str, Mapping[str, float]]], usual: float | None, columns: Collection[str]
) -> pl.Expr:
    """
    What is set for the nearest level of each row, the usual where nothing is. levels: the nearest first, each with the
    column that names it, and what is set by name.
    """
    own = []
    for column, named in levels:
        if column == TARGET_KEY and set(TARGET_NAMES) <= set(columns):
            key = pl.concat_str([pl.col(name).cast(pl.String) for name in TARGET_NAMES], separator=_BETWEEN)
        elif column in columns:
            key = pl.col(column).cast(pl.String)
        else:
            continue
        if named:
            own.append(key.replace_strict(dict(named), default=None, return_dtype=pl.Float64))
    return pl.coalesce(*own, pl.lit(usual, pl.Float64))


def judged(rows: pl.DataFrame, days: int, aims: Aims, min_clicks: int | pl.Expr) -> pl.DataFrame:
    """
    Adds everything a table of targets, terms, phrases or product ads shows, filters and sorts by.

    Parameters
    ----------
    rows : frame
        Measures (money in micro-units) and what their cohort says: see `evidence.judge`.
    days : days
        Of the window.
    aims : Aims
        The target ACOS of every row.
    min_clicks : count
        Of the simple rule, of each row or all.

    Returns
    -------
    frame
        What `evidence.judge` adds, ratios (money in units), simple_verdict and share_of_spend.
    """
    judged_rows = evidence.judge(rows.with_columns(aims.expr(rows.columns)), days)
    spent = pl.col("spend").sum()
    return with_ratios(judged_rows).with_columns(
        evidence.simple_rule(min_clicks), share_of_spend=pl.when(spent > 0).then(pl.col("spend") / spent)
    )


def in_cohort(
    rows: pl.DataFrame, cohort: Cohort | None, keys: Sequence[str], chain: Sequence[str] = CHAIN
) -> pl.DataFrame:
    """
    Adds to rows what the account's fit says of them, and what an order is worth in their chain.

    keys: the columns that name a row of the cohort. Without a cohort (the account is too small) all is null.
    """
    valued = evidence.with_aov(rows, chain)
    if cohort is None:
        nothing = [pl.lit(None, pl.Float64).alias(name) for name in _TOLD]
        return valued.with_columns(*nothing, slow_word=pl.lit(False))
    # Only what is new is gathered: a join of the whole rows would copy every column of theirs.
    frame = rows.select(keys).join(cohort.rows, on=keys, how="left", maintain_order="left")
    return valued.hstack(frame.drop(keys).with_columns(pl.col("slow_word").fill_null(False)))


_TOLD = ("prior_a", "prior_b", "free_a", "free_b", "cohort_cvr", "free_cvr", "account_cvr")
