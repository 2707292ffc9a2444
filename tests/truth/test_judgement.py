"""Judgement against the hidden truth: the evidence must beat the rule of thumb."""

import polars as pl
import pytest
from benchmarks import worlds
from benchmarks.truth import judged, judged_with_truth, log_score, scores, truly_bad

SEEDS = (21, 22, 23)


@pytest.mark.parametrize(
    ("subject", "times"),
    [("targets", 1.18), ("search_terms", 1.85), ("product_ads", 1.0), ("search_terms_alone", 1.85)],
)
def test_evidence_finds_more_true_overspend_at_equal_harm(subject, times):
    """Rows by P_over, cut at the spend of good rows the simple rule harms, pooled over seeds."""
    rows = pl.concat([judged_with_truth(seed, subject) for seed in SEEDS])
    rule, ours = scores(rows)
    assert ours.recall >= times * rule.recall
    assert ours.precision > rule.precision
    assert truly_bad(rows, 0.9)[0] >= 0.94


@pytest.mark.parametrize("words_mean", ["nothing", "another"])
@pytest.mark.parametrize("subject", ["targets", "search_terms", "product_ads"])
def test_in_a_world_of_another_making_nothing_is_worse_than_by_groups(subject, words_mean):
    """Where words mean nothing, or another thing for each product, the fit judges no worse than the smallest group."""
    happened = [worlds.second(seed, words_mean=words_mean) for seed in SEEDS]
    fitted = pl.concat([judged(each, subject) for each in happened])
    by_groups = pl.concat([judged(each, subject, by_groups=True) for each in happened])
    assert scores(fitted)[1].recall >= scores(by_groups)[1].recall - 0.005
    assert log_score(fitted) <= log_score(by_groups) + 0.01
    assert truly_bad(fitted, 0.9)[0] >= 0.94


def test_the_search_term_report_alone_judges_as_well_as_with_all_reports():
    """Campaigns' names stand in for products: recall at equal harm within 2 points."""
    with_all, alone = (
        scores(pl.concat([judged_with_truth(seed, subject) for seed in SEEDS]))[1].recall
        for subject in ("search_terms", "search_terms_alone")
    )
    assert alone >= with_all - 0.02


def test_a_costly_verdict_is_right_nine_times_in_ten():
    """Of rows called costly, at least 85 % are truly over target (0.90 is the promise)."""
    rows = pl.concat([judged_with_truth(seed, "targets") for seed in SEEDS])
    costly = rows.filter(pl.col("verdict") == "above target", pl.col("clicks") >= 10)
    assert len(costly) > 100
    assert costly["bad"].mean() >= 0.85


def test_few_unlucky_good_rows_are_called_costly():
    """Good targets with ten clicks and no order: the rule flags all of them, the evidence few."""
    rows = pl.concat([judged_with_truth(seed, "targets") for seed in SEEDS])
    unlucky = rows.filter(~pl.col("bad"), pl.col("orders") == 0, pl.col("clicks") >= 10)
    assert len(unlucky) > 20
    assert (unlucky["simple_verdict"] == "no order").all()
    assert (unlucky["verdict"] == "above target").mean() < 0.25
