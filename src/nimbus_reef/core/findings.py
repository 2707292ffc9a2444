"""
What is found, as one list: gathered where the cause is shared, the same money counted once.

Two headline totals that are never added: overspend (here) and missed sales.
"""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from nimbus_reef.core.evidence import flagged
from nimbus_reef.core.metrics import within_target

_GATHERED_BY = ("company_level", "company")


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
    ads: pl.DataFrame,
    shares: pl.DataFrame,
    monthly: float,
    caps: pl.DataFrame,
    *,
    placements: pl.DataFrame | None = None,
    hours: pl.DataFrame | None = None,
    away: pl.DataFrame | None = None,
) -> Overspend:
    """
    The overspend of judged rows, none counted twice.

    targets, terms, ads: judged rows of targets (target_id), search terms (normal_id) and
    product ads, each with campaign_id and ad_group_id. shares: what each target spent on
    each term: ad_group_id, normal_id, target_id, spend. monthly: 30 ÷ the days of the targets'
    report that are held. caps: campaign_id, cap: what each campaign spends per 30 days by the report
    that totals come from; a campaign that is not in it is capped at 0. placements, hours: judged rows with campaign_id,
    where they are held. away: campaign_id, stake of targets and terms that somebody put away: their money is in
    placements and hours too, and is not counted there either.

    Per ad group the larger of (flagged targets + the terms' shares under unflagged
    targets) and its flagged product ads; per campaign the largest of its ad groups together, its flagged placements and
    its flagged hours. Terms of a target are capped at its spend, a campaign at its own, all per 30 days.
    """
    key = ["campaign_id", "ad_group_id"]
    of_targets = targets.filter(flagged()).group_by(key).agg(pl.col("stake").sum().alias("targets"))
    of_terms = _under_unflagged(targets, terms, shares, monthly)
    of_ads = ads.filter(flagged()).group_by(key).agg(pl.col("stake").sum().alias("ads"))
    groups = (
        of_targets.join(of_terms, on=key, how="full", coalesce=True)
        .join(of_ads, on=key, how="full", coalesce=True)
        .with_columns(pl.col("targets", "terms", "ads").fill_null(0))
        .with_columns(stake=pl.max_horizontal(pl.col("targets") + pl.col("terms"), "ads"))
    )
    others = [each.filter(flagged()) for each in (placements, hours) if each is not None]
    summed = [_per_campaign(groups), *(_without(_per_campaign(each), away) for each in others)]
    by_campaign = (
        pl.concat(summed)
        .group_by("campaign_id")
        .agg(pl.col("stake").max())
        .join(caps, on="campaign_id", how="left")
        .select("campaign_id", stake=pl.min_horizontal("stake", pl.col("cap").fill_null(0)))
        .sort("campaign_id")
    )
    return Overspend(int(by_campaign["stake"].sum()), by_campaign)


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

    Adds up the measures and the stake; company_level (main_product, name_part or ad_group_id) and company, its
    value as text, say whose they are, `members` lists the row_id of each, the names are the largest one's. The
    lines hold no money that is not in the rows already.
    """
    levels = ("main_product", "name_part", "ad_group_id")
    held = [pl.when(pl.col(level).is_not_null()).then(pl.lit(level)) for level in levels]
    largest_first = rows.with_columns(
        company_level=pl.coalesce(*held), company=pl.coalesce(pl.col(level).cast(pl.String) for level in levels)
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
