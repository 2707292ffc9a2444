"""Judgement against the hidden truth: the evidence must beat the rule of thumb."""

from datetime import date

import polars as pl
import pytest

from nimbus_reef.core import targeting
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.targeting import Aims
from nimbus_reef.sim import reports, trade, world
from nimbus_reef.sim.vocabulary import FERNHOLLOW

LAST = date(2026, 10, 20)
SEEDS = (21, 22, 23)


def judged_with_truth(seed, subject):
    """The newest mature 30 days of one seed's targets or terms, judged, with what is true."""
    built = world.build(FERNHOLLOW, seed, 33)
    happened = trade.run(built, seed, LAST)
    frames = reports.reports(built, happened, LAST)
    key = ["campaign", "ad_group", *(["target", "match_type"] if subject == "targets" else ["search_term"])]
    kind = "target_daily" if subject == "targets" else "search_term_daily"
    micro = [(pl.col(name) * 1e6).round().cast(pl.Int64).alias(name) for name in ("spend", "sales")]
    window = frames[kind].filter(pl.col("date").is_between(date(2026, 9, 18), date(2026, 10, 17)))
    rows = window.with_columns(micro).group_by(key).agg(pl.col(MEASURES).sum())
    leader = (
        frames["product_ad_daily"].group_by("campaign", "ad_group", "sku").agg(pl.col("spend").sum())
        .sort("spend", "sku", descending=[True, False]).group_by("campaign", "ad_group", maintain_order=True).first()
        .join(frames["catalog"].select("sku", pl.col("parent_item_id").alias("family"), "category"), on="sku")
        .select("campaign", "ad_group", pl.col("sku").alias("main_product"), "family", "category")
    )  # fmt: skip
    rows = rows.join(leader, on=["campaign", "ad_group"]).with_columns(
        ad_group_id=pl.concat_str("campaign", "ad_group")
    )
    true = pl.DataFrame(reports.truth(built, happened)[subject]).select(*key, "bad", "overspend", "true_acos")
    return targeting.judged(rows, 30, Aims(FERNHOLLOW.target_acos), 10).join(true, on=key)


@pytest.mark.parametrize("subject", ["targets", "search_terms"])
def test_evidence_finds_more_true_overspend_at_equal_harm(subject):
    """Rows by P_over, cut at the spend of good rows the simple rule harms, pooled over seeds."""
    rows = pl.concat([judged_with_truth(seed, subject) for seed in SEEDS])
    all_overspend = rows["overspend"].sum()
    simple = rows.filter(pl.col("simple_verdict").is_in(["over target", "no order"]))
    harm = simple.filter(~pl.col("bad"))["spend"].sum()
    ranked = rows.filter(pl.col("p_over") >= 0.5).sort("p_over", descending=True)
    harmed = (pl.col("spend") * ~pl.col("bad")).cum_sum()
    ours = ranked.filter(harmed <= harm)

    def recall(flagged):
        return flagged["overspend"].sum() / all_overspend

    def precision(flagged):
        return flagged.filter("bad")["spend"].sum() / flagged["spend"].sum()

    assert recall(ours) > recall(simple)
    assert precision(ours) > precision(simple)


def test_a_costly_verdict_is_right_nine_times_in_ten():
    """Of rows called costly, at least 85 % are truly over target (0.90 is the promise)."""
    rows = pl.concat([judged_with_truth(seed, "targets") for seed in SEEDS])
    costly = rows.filter(pl.col("verdict") == "costly", pl.col("clicks") >= 10)
    assert len(costly) > 100
    assert costly["bad"].mean() >= 0.85


def test_few_unlucky_good_rows_are_called_costly():
    """Good targets with ten clicks and no order: the rule flags all of them, the evidence few."""
    rows = pl.concat([judged_with_truth(seed, "targets") for seed in SEEDS])
    unlucky = rows.filter(~pl.col("bad"), pl.col("orders") == 0, pl.col("clicks") >= 10)
    assert len(unlucky) > 20
    assert (unlucky["simple_verdict"] == "no order").all()
    assert (unlucky["verdict"] == "costly").mean() < 0.25
