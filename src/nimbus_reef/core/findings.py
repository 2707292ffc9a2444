"""
What is found, as one list: gathered where the cause is shared, the same money counted once.

Two headline totals that are never added: overspend (here) and missed sales.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import polars as pl

from nimbus_reef.core.checks import Check, Money
from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.metrics import within_target

_GATHERED_BY = ("cohort_level", "cohort")


@dataclass(frozen=True, slots=True)
class Overspend:
    """
    Likely overspend per 30 days in micro-units, each unit of money once.

    by_campaign: campaign_id, stake.
    """

    total: int
    by_campaign: pl.DataFrame


def overspend(
    targets: pl.DataFrame,
    terms: pl.DataFrame,
    shares: pl.DataFrame,
    monthly: float,
    caps: pl.DataFrame,
    *,
    ad_groups: Sequence[pl.DataFrame] = (),
    campaigns: Sequence[pl.DataFrame] = (),
    away: pl.DataFrame | None = None,
) -> Overspend:
    """
    The overspend of judged rows, none counted twice.

    targets, terms: judged rows of targets (target_id) and search terms (normal_id), each with campaign_id and
    ad_group_id. shares: what each target spent on each term: ad_group_id, normal_id, target_id, spend. monthly: 30 ÷
    the days of the targets' report that are held. caps: campaign_id, cap: what each campaign spends per 30 days by the
    report that totals come from; a campaign that is not in it is capped at 0. ad_groups: what other readings found in
    ad groups (product ads), rows of one reading a frame: campaign_id, ad_group_id, stake; campaigns: the same of
    campaigns (placements, hours). away: campaign_id, stake of targets and terms that somebody put away: their money is
    in whole campaigns too, and is not counted there either.

    Per ad group the largest of (flagged targets + the terms' shares under unflagged targets) and of each other
    reading; per campaign the largest of its ad groups together and of each reading of campaigns. Terms of a target are
    capped at its spend, a campaign at its own, all per 30 days.
    """
    key = ["campaign_id", "ad_group_id"]
    of_targets = targets.filter(flagged()).group_by(key).agg(pl.col("stake").sum().alias("targets"))
    of_terms = _under_unflagged(targets, terms, shares, monthly)
    paid = (
        of_targets.join(of_terms, on=key, how="full", coalesce=True)
        .with_columns(pl.col("targets", "terms").fill_null(0))
        .select(*key, stake=pl.col("targets") + pl.col("terms"))
    )
    others = [each.group_by(key).agg(pl.col("stake").cast(pl.Int64).sum()) for each in ad_groups]
    groups = pl.concat([paid, *(each.cast(paid.schema) for each in others)]).group_by(key)
    largest = groups.agg(pl.col("stake").max())
    summed = [_per_campaign(largest), *(_without(_per_campaign(each), away) for each in campaigns)]
    by_campaign = (
        pl.concat(summed)
        .group_by("campaign_id")
        .agg(pl.col("stake").max())
        .join(caps, on="campaign_id", how="left")
        .select("campaign_id", stake=pl.min_horizontal("stake", pl.col("cap").fill_null(0)))
        .sort("campaign_id")
    )
    return Overspend(int(by_campaign["stake"].sum()), by_campaign)


def missed(found: Sequence[tuple[Check, pl.DataFrame]]) -> int:
    """
    Missed sales per 30 days in micro-units, never added to the overspend. What several checks find missing on the same
    thing counts once, the largest of them. found: each check with its rows.
    """
    rows = [
        rows.select("row_id", "stake", subject=pl.lit(check.subject.name))
        for check, rows in found
        if check.money is Money.MISSED
    ]
    if not rows:
        return 0
    return int(pl.concat(rows).group_by("subject", "row_id").agg(pl.col("stake").max())["stake"].sum())


def _per_campaign(rows: pl.DataFrame) -> pl.DataFrame:
    sums = rows.group_by("campaign_id").agg(pl.col("stake").cast(pl.Int64).sum())
    return sums.cast({"campaign_id": pl.UInt32})


def _without(sums: pl.DataFrame, away: pl.DataFrame | None) -> pl.DataFrame:
    """Less what was put away of each campaign."""
    if away is None or away.is_empty():
        return sums
    gone = _per_campaign(away).rename({"stake": "gone"})
    left = pl.max_horizontal(pl.col("stake") - pl.col("gone").fill_null(0), 0)
    return sums.join(gone, on="campaign_id", how="left").select("campaign_id", stake=left)


def _under_unflagged(targets: pl.DataFrame, terms: pl.DataFrame, shares: pl.DataFrame, monthly: float) -> pl.DataFrame:
    """Stakes of flagged terms, shared over their targets by spend, where those are not flagged."""
    key = ["ad_group_id", "normal_id"]
    flagged_terms = terms.filter(flagged()).select(*key, "stake")
    spread = shares.join(flagged_terms, on=key).with_columns(
        part=pl.when(pl.col("spend").sum().over(key) > 0)
        .then(pl.col("stake") * pl.col("spend") / pl.col("spend").sum().over(key))
        .otherwise(0.0)
    )
    unflagged = targets.filter(~flagged()).select("target_id", "campaign_id", pl.col("spend").alias("own_spend"))
    return (
        spread.group_by("target_id", "ad_group_id")
        .agg(pl.col("part").sum())
        .join(unflagged, on="target_id")
        .with_columns(part=pl.min_horizontal("part", pl.col("own_spend") * monthly))
        .group_by("campaign_id", "ad_group_id")
        .agg(pl.col("part").sum().floor().cast(pl.Int64).alias("terms"))
    )


def gathered(rows: pl.DataFrame) -> pl.DataFrame:
    """
    Rows that are costly with their product, one line per product, or per ad group where none is known.

    Adds up the measures and the stake; cohort_level (main_product, name_part or ad_group_id) and cohort, its
    value as text, say whose they are, `members` lists the row_id of each, the names are the largest one's. The
    lines hold no money that is not in the rows already.
    """
    levels = ("main_product", "name_part", "ad_group_id")
    thens = [pl.when(pl.col(level).is_not_null()).then(pl.lit(level)) for level in levels]
    largest_first = rows.with_columns(
        cohort_level=pl.coalesce(*thens), cohort=pl.coalesce(pl.col(level).cast(pl.String) for level in levels)
    ).sort(["stake", "spend"], descending=True, maintain_order=True)
    sums = ("impressions", "clicks", "spend", "orders", "units", "sales", "stake")
    return (
        largest_first.group_by(_GATHERED_BY, maintain_order=True)
        .agg(pl.col("row_id").alias("members"), pl.col(sums).sum(), pl.exclude(*sums, *_GATHERED_BY).first())
        .sort("stake", descending=True, maintain_order=True)
    )


def winners(terms: pl.DataFrame, live: pl.DataFrame, kin: pl.DataFrame, orders: int = 2) -> pl.DataFrame:
    """
    Terms worth a target of their own: that many orders or more, ACOS within target, no live exact or item
    target of these words in an ad group that shares an enabled product.

    live: ad_group_id, normal_id. kin: ad_group_id, kin_id: ad groups with an enabled product
    in common, each its own kin.
    """
    good = terms.filter(pl.col("orders") >= orders, within_target())
    bought = (
        good.select("ad_group_id", "normal_id")
        .join(kin, on="ad_group_id")
        .join(live.rename({"ad_group_id": "kin_id"}).unique(), on=["kin_id", "normal_id"])
    )
    return good.join(bought, on=["ad_group_id", "normal_id"], how="anti").sort(
        ["sales", "spend"], descending=[True, False], maintain_order=True
    )
