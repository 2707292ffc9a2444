"""
The audit's judgement against what is true in the simulated world, beside the simple rule.

Rows are ranked by P_over (P ≥ .5) and cut at the money of truly good rows that the simple rule
harms, pooled over seeds; then precision and recall of true overspend are compared.

    python benchmarks/truth.py [--write] [--seeds 5]
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from datetime import date, timedelta
from pathlib import Path

import polars as pl

from nimbus_reef.core import targeting
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.targeting import AD_CHAIN, CHAIN, Aims
from nimbus_reef.sim import reports, trade, world
from nimbus_reef.sim.vocabulary import BRANDS, FERNHOLLOW, BrandSpec

LAST = date(2026, 10, 20)
DAYS = 33
SUBJECTS = {
    "targets": ("target_daily", ["campaign", "ad_group", "target", "match_type"], CHAIN),
    "search_terms": ("search_term_daily", ["campaign", "ad_group", "search_term"], CHAIN),
    "product_ads": ("product_ad_daily", ["campaign", "ad_group", "sku"], AD_CHAIN),
    "search_terms_alone": ("search_term_daily", ["campaign", "ad_group", "search_term"], CHAIN),
}
ALONE = "search_terms_alone"
"""Search terms judged where no other report is loaded: their company is by names of campaigns."""
OUT = Path(__file__).parents[1] / "docs" / "judgement.md"


def judged_with_truth(seed: int, subject: str, spec: BrandSpec = FERNHOLLOW) -> pl.DataFrame:
    """The newest mature 30 days of one seed's rows, judged, with what is true of each."""
    built = world.build(spec, seed, DAYS)
    happened = trade.run(built, seed, LAST)
    frames = reports.reports(built, happened, LAST)
    kind, key, chain = SUBJECTS[subject]
    last = LAST - timedelta(days=3)
    micro = [(pl.col(name) * MICRO).round().cast(pl.Int64).alias(name) for name in ("spend", "sales")]
    window = frames[kind].filter(pl.col("date").is_between(last - timedelta(days=29), last))
    rows = window.with_columns(micro).group_by(key).agg(pl.col(MEASURES).sum())
    kinds = frames["catalog"].select("sku", pl.col("parent_item_id").alias("family"), "category")
    if subject == "product_ads":
        rows = rows.join(kinds, on="sku")
    else:
        leader = (
            frames["product_ad_daily"].group_by("campaign", "ad_group", "sku").agg(pl.col("spend").sum())
            .sort("spend", "sku", descending=[True, False])
            .group_by("campaign", "ad_group", maintain_order=True).first().join(kinds, on="sku")
            .select("campaign", "ad_group", pl.col("sku").alias("main_product"), "family", "category")
        )  # fmt: skip
        if subject == ALONE:
            leader = leader.clear()
        rows = targeting.with_company(
            rows.join(leader, on=["campaign", "ad_group"], how="left").with_columns(
                ad_group_id=pl.concat_str("campaign", "ad_group"),
                campaign_id=pl.col("campaign"),
                portfolio=pl.lit(None, pl.String),
            )
        )
    true = pl.DataFrame(reports.truth(built, happened)[subject.removesuffix("_alone")]).select(
        *key, "bad", "overspend", "true_acos"
    )
    aims = Aims(spec.target_acos)
    return targeting.judged(rows, 30, aims, 10, chain).join(true, on=key).with_columns(seed=pl.lit(seed))


@dataclass(frozen=True, slots=True)
class Score:
    """Of the money a judge flags, the part that is truly bad; of the true overspend, the part found."""

    precision: float
    recall: float
    rows: int


def scores(rows: pl.DataFrame) -> tuple[Score, Score]:
    """The simple rule's and the evidence's, at the harm that the simple rule does."""
    simple = rows.filter(pl.col("simple_verdict").is_in(["over target", "no order"]))
    harm = simple.filter(~pl.col("bad"))["spend"].sum()
    ranked = rows.filter(pl.col("p_over") >= 0.5).sort("p_over", "spend", descending=True)
    harmed = (pl.col("spend") * ~pl.col("bad")).cum_sum()
    return _score(simple, rows), _score(ranked.filter(harmed <= harm), rows)


def _score(flagged: pl.DataFrame, rows: pl.DataFrame) -> Score:
    return Score(
        flagged.filter("bad")["spend"].sum() / flagged["spend"].sum(),
        flagged["overspend"].sum() / rows["overspend"].sum(),
        len(flagged),
    )


def _called(subject: str) -> str:
    return "search terms, search term report only" if subject == ALONE else subject.replace("_", " ")


def table(seeds: int) -> list[str]:
    """One line per brand and subject."""
    lines = [
        "| brand | rows | rule: precision | evidence: precision | rule: recall | evidence: recall |",
        "|---|---|---|---|---|---|",
    ]
    for spec in BRANDS:
        for subject in SUBJECTS:
            pooled = pl.concat([judged_with_truth(41 + n, subject, spec) for n in range(seeds)])
            rule, ours = scores(pooled)
            lines.append(
                f"| {spec.name} | {len(pooled):,} {_called(subject)} | {rule.precision:.1%} | "
                f"{ours.precision:.1%} | {rule.recall:.1%} | {ours.recall:.1%} |"
            )
            print(lines[-1], flush=True)
    return lines


if __name__ == "__main__":
    count = int(sys.argv[sys.argv.index("--seeds") + 1]) if "--seeds" in sys.argv else 5
    found = table(count)
    if "--write" in sys.argv:
        OUT.write_text(
            "# Judgement, measured\n\n"
            "The simulator knows which rows are truly over target. The simple rule (ten clicks, then ACOS over target or\n"
            "no order) harms some good rows; the evidence is cut where it has harmed as much money of good rows. Then: of\n"
            "the money flagged, how much is truly bad (precision); of the true overspend, how much is found (recall).\n"
            f"{count} seeds pooled, 30 mature days each. `make truth` writes this page.\n\n"
            + "\n".join(found)
            + "\n"
        )
