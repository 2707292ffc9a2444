"""
Structure: the same keyword bought in several places, ad groups too full to steer, match types and families mixed.

See "Duplicates" and "Structure" in docs/calculations.md.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.core.model import Verdict

_DOUBLED: Final = ("exact", "phrase", "broad")
_RANK: Final = {Verdict.WITHIN.value: 0, Verdict.LIKELY_ABOVE.value: 2, Verdict.ABOVE.value: 3}
_UNTOLD: Final = 1
"""Where a verdict that says neither stands among them."""
_NO_MATCH: Final = frozenset({"auto"})


@dataclass(frozen=True, slots=True)
class StructureLimits:
    """Targets in an ad group, match types in a campaign, families in an ad group: more than these are listed."""

    targets: int = 60
    match_types: int = 1
    families: int = 1


STANDARD: Final = StructureLimits()


def duplicates(targets: pl.DataFrame) -> pl.DataFrame:
    """
    Targets that are live more than once for the same main product: the group, which to keep and why.

    targets: live targets, judged where they have rows, with target_id, normal (the normalised text), match_type,
    main_product, verdict, orders, acos_by_evidence (the posterior's cost of sale; null where nothing is known of it),
    loses (whether it surely loses money, so that it is not worth keeping), campaign, ad_group. Kept is the best
    verdict, then the lowest cost of sale by the posterior among all of them, ties by orders, then age (the smaller id);
    where even that one loses, none. Adds twins (how many), keep and keep_why ("evidence", "oldest" where nothing is
    known of any, "none" where none is kept), in groups, the kept one first.
    """
    typed = targets.filter(pl.col("match_type").cast(pl.String).is_in(_DOUBLED) & pl.col("main_product").is_not_null())
    key = ["normal", "match_type", "main_product"]
    twins = typed.with_columns(twins=pl.col("ad_group_id").n_unique().over(key)).filter(pl.col("twins") > 1)
    ranked = twins.sort(
        pl.col("verdict").cast(pl.String).replace_strict(_RANK, default=_UNTOLD),
        pl.col("acos_by_evidence").fill_null(float("inf")),
        pl.col("orders").fill_null(0).cast(pl.Int64) * -1,
        "target_id",
        maintain_order=True,
    )
    best_loses = pl.col("loses").fill_null(False).first().over(key)
    return (
        ranked.with_columns(
            place=pl.int_range(pl.len()).over(key),
            keep_why=pl.when(best_loses)
            .then(pl.lit("none"))
            .when(pl.col("acos_by_evidence").is_not_null().any().over(key))
            .then(pl.lit("evidence"))
            .otherwise(pl.lit("oldest")),
        )
        .with_columns(
            keep=(pl.col("place") == 0) & (pl.col("keep_why") != "none"),
            group=pl.concat_str(
                "normal", pl.col("match_type").cast(pl.String), pl.col("main_product").cast(pl.String), separator=" "
            ),
            weight=pl.col("spend").fill_null(0).sum().over(key),
        )
        .sort(["weight", "group", "place"], descending=[True, False, False])
    )


def faults(live: pl.DataFrame, families: pl.DataFrame, limits: StructureLimits = STANDARD) -> pl.DataFrame:
    """
    What is built so that it cannot be steered: fault, campaign, ad_group (empty for a campaign), count, limit, detail.

    live: campaign, ad_group, match_type of live targets. families: campaign, ad_group, family of enabled products.
    """
    crowded = (
        live.group_by("campaign", "ad_group")
        .agg(count=pl.len().cast(pl.Int64))
        .filter(pl.col("count") > limits.targets)
        .select(
            "campaign",
            "ad_group",
            "count",
            fault=pl.lit("crowded"),
            limit=pl.lit(limits.targets, pl.Int64),
            detail=pl.lit(""),
        )
    )
    matched = live.filter(~pl.col("match_type").cast(pl.String).is_in(_NO_MATCH)).with_columns(
        # Items and categories are bought side by side.
        match_type=pl.col("match_type").cast(pl.String).replace("category", "item")
    )
    mixed = _several(matched, ["campaign"], "match_type", "mixed", limits.match_types).with_columns(ad_group=pl.lit(""))
    unlike = _several(families, ["campaign", "ad_group"], "family", "unlike", limits.families)
    columns = ("fault", "campaign", "ad_group", "count", "limit", "detail")
    frames = [
        each.select(pl.col("fault", "campaign", "ad_group").cast(pl.String), *columns[3:])
        for each in (crowded, mixed, unlike)
    ]
    return pl.concat(frames).sort(["fault", "count", "campaign", "ad_group"], descending=[False, True, False, False])


def _several(rows: pl.DataFrame, by: list[str], what: str, fault: str, limit: int) -> pl.DataFrame:
    return (
        rows.drop_nulls(what)
        .with_columns(pl.col(what).cast(pl.String))
        .group_by(by)
        .agg(count=pl.col(what).n_unique().cast(pl.Int64), detail=pl.col(what).unique().sort().str.join(", "))
        .filter(pl.col("count") > limit)
        .with_columns(fault=pl.lit(fault), limit=pl.lit(limit, pl.Int64))
    )
