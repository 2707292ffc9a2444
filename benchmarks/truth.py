"""
The audit's judgement against what is true in simulated worlds, beside the simple rule.

Rows are ranked by P_over (P ≥ .5) and cut at the money of truly good rows that the simple rule
harms, pooled over seeds; then precision and recall of true overspend are compared.

    python benchmarks/truth.py [--write] [--seeds 5]
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import Final

import polars as pl

from benchmarks import worlds
from benchmarks.worlds import Happened
from nimbus_reef.core import cohorts, evidence, targeting, words
from nimbus_reef.core.model import MEASURES, SimpleVerdict
from nimbus_reef.core.targeting import AD_CHAIN, CHAIN, Aims
from nimbus_reef.sim.vocabulary import BRANDS, FERNHOLLOW, BrandSpec

KEYS = {
    "targets": worlds.TARGET,
    "search_terms": ["campaign", "ad_group", "search_term"],
    "product_ads": ["campaign", "ad_group", "sku"],
    "search_terms_alone": ["campaign", "ad_group", "search_term"],
}
ALONE = "search_terms_alone"
"""Search terms judged where no other report is loaded: their cohort is by names of campaigns."""
FIRST_SEED = 41
BUCKETS = (0.25, 0.5, 0.75, 0.9, 0.97)
OUT = Path(__file__).parents[1] / "docs" / "judgement.md"


def judged_with_truth(seed: int, subject: str, spec: BrandSpec = FERNHOLLOW) -> pl.DataFrame:
    """One seed of a demo brand, judged, with what is true of each row."""
    return judged(worlds.demo(seed, spec), subject)


def judged(what: Happened, subject: str, *, by_groups: bool = False) -> pl.DataFrame:
    """
    The rows of one subject as the product judges them, with what is true of each.

    by_groups: by the prior of the smallest sufficient group instead, as it was before the account's one fit.
    """
    if subject == "product_ads":
        rows = what.ads.join(what.catalog, on="sku")
        chain: Sequence[str] = AD_CHAIN
        in_cohort = targeting.in_cohort(rows, cohorts.fitted_ads(what.ads), ["product_ad_id"], chain)
    else:
        rows, in_cohort = _targets_and_terms(what, subject)
        chain = CHAIN
    if by_groups:
        in_cohort = evidence.with_priors(rows, chain)
    key = KEYS[subject]
    true = what.truth[subject.removesuffix("_alone")].select(*key, "bad", "overspend", "true_acos")
    return targeting.judged(in_cohort, 30, Aims(what.target_acos), 10).join(true, on=key)


def _targets_and_terms(what: Happened, subject: str) -> tuple[pl.DataFrame, pl.DataFrame]:
    alone = subject == ALONE
    leader = (
        what.ads.sort("spend", "sku", descending=[True, False])
        .group_by("ad_group_id", maintain_order=True)
        .first()
        .join(what.catalog, on="sku")
        .select("ad_group_id", pl.col("sku").alias("main_product"), "family", "category")
    )
    if alone:
        leader = leader.clear()

    def led(rows: pl.DataFrame) -> pl.DataFrame:
        return targeting.with_cohort(rows.join(leader, on="ad_group_id", how="left", maintain_order="left"))

    named = ["campaign", "campaign_id", "portfolio", "ad_group", "ad_group_id"]
    terms = led(what.terms.group_by(*named, "search_term", "normal_id").agg(pl.col(MEASURES).sum()))
    targets = led(what.targets)
    products = pl.concat(
        each.select("ad_group_id", product=targeting.PRODUCT_LEVEL) for each in ([terms] if alone else [terms, targets])
    ).unique("ad_group_id")
    cells = cohorts.cells_of(what.terms, None if alone else what.targets)
    fitted = cohorts.fitted(cells, products, _spelling(what.terms["normal_id"].unique()))
    if subject == "targets":
        return targets, targeting.in_cohort(targets, fitted.targets if fitted else None, ["target_id"])
    return terms, targeting.in_cohort(terms, fitted.terms if fitted else None, ["ad_group_id", "normal_id"])


def _spelling(terms: pl.Series) -> cohorts.Spelling:
    pairs = pl.DataFrame({"normal_id": terms, "word_id": words.spelling(terms)}).explode("word_id").drop_nulls()
    return cohorts.Spelling(pairs.unique(), pairs.select("word_id", word="word_id").unique())


RULED: Final = (SimpleVerdict.OVER.value, SimpleVerdict.NO_ORDER.value)
"""What the simple rule flags."""


@dataclass(frozen=True, slots=True)
class Score:
    """Of the money a judge flags, the part that is truly bad; of the true overspend, the part found."""

    precision: float
    recall: float
    rows: int


def scores(rows: pl.DataFrame) -> tuple[Score, Score]:
    """The simple rule's and the evidence's, at the harm that the simple rule does."""
    simple, harm = _ruled(rows)
    ranked = _ranked(rows)
    return _score(simple, rows), _score(ranked.filter(pl.col("harmed") <= harm), rows)


def harm_at_recall(rows: pl.DataFrame) -> float:
    """The harm that the evidence does where it has found as much as the rule, as a part of the rule's harm."""
    simple, harm = _ruled(rows)
    found = _ranked(rows).filter(pl.col("overspend").cum_sum() >= simple["overspend"].sum())
    return float(found["harmed"][0] / harm) if len(found) else float("inf")


def _ruled(rows: pl.DataFrame) -> tuple[pl.DataFrame, int]:
    simple = rows.filter(pl.col("simple_verdict").is_in(RULED))
    return simple, int(simple.filter(~pl.col("bad"))["spend"].sum())


def _ranked(rows: pl.DataFrame) -> pl.DataFrame:
    ranked = rows.filter(pl.col("p_over") >= 0.5).sort("p_over", "spend", descending=True)
    return ranked.with_columns(harmed=(pl.col("spend") * ~pl.col("bad")).cum_sum())


def _score(flagged: pl.DataFrame, rows: pl.DataFrame) -> Score:
    return Score(
        float(flagged.filter("bad")["spend"].sum()) / float(flagged["spend"].sum()),
        float(flagged["overspend"].sum()) / float(rows["overspend"].sum()),
        len(flagged),
    )


def log_score(rows: pl.DataFrame) -> float:
    """Mean −ln of the chance given to what is true; less is better."""
    p = pl.col("p_over").clip(1e-6, 1 - 1e-6)
    frame = rows.filter(pl.col("p_over").is_not_null(), pl.col("clicks") > 0)
    return float(frame.select(-pl.when("bad").then(p.log()).otherwise((1 - p).log()).mean()).item())


def truly_bad(rows: pl.DataFrame, low: float, high: float = 2.0) -> tuple[float | None, int]:
    """Of rows whose chance lies from low to under high, the part that is truly bad; how many they are."""
    inside = rows.filter(pl.col("p_over") >= low, pl.col("p_over") < high, pl.col("clicks") > 0)
    return (float(inside.select(pl.col("bad").mean()).item()), len(inside)) if len(inside) else (None, 0)


def flipped(now: Happened, before: Happened, subject: str) -> float:
    """Of the rows with ten clicks or more, the part whose verdict is another than a day before."""
    key = KEYS[subject]
    both = judged(now, subject).join(judged(before, subject).select(*key, then="verdict"), on=key)
    counted = both.filter(pl.col("clicks") >= 10)
    return float(counted.select((pl.col("verdict") != pl.col("then")).mean()).item())


Worlds = dict[str, Callable[[int], Happened]]


def all_worlds() -> Worlds:
    """Every world by name, as a function of the seed."""
    return {
        **{spec.name: partial(worlds.demo, spec=spec) for spec in BRANDS},
        "Fernhollow, 8 ad groups": lambda seed: worlds.small(worlds.demo(seed)),
        "second world, words mean nothing": partial(worlds.second, words_mean="nothing"),
        "second world, words mean another thing for each product": partial(worlds.second, words_mean="another"),
    }


def _called(subject: str) -> str:
    return "search terms, search term report only" if subject == ALONE else subject.replace("_", " ")


def table(seeds: int) -> Iterator[str]:
    """The tables of the page, line by line."""
    yield (
        "| world | rows | rule: precision, recall | evidence: precision, recall | × the rule's recall, per seed | harm"
        " at the rule's recall | log score | of P ≥ 0.90 truly bad | before: recall, log score, of P ≥ 0.90 |"
    )
    yield "|---|---|---|---|---|---|---|---|---|"
    calibration = []
    for name, make in all_worlds().items():
        for subject in KEYS:
            parts, old = [], []
            for n in range(seeds):
                what = make(FIRST_SEED + n)
                parts.append(judged(what, subject))
                old.append(judged(what, subject, by_groups=True))
            pooled, before = pl.concat(parts), pl.concat(old)
            rule, ours = scores(pooled)
            each = [scores(part) for part in parts]
            ratios = ", ".join(f"{mine.recall / theirs.recall:.2f}" for theirs, mine in each)
            yield (
                f"| {name} | {len(pooled):,} {_called(subject)} | {rule.precision:.1%}, {rule.recall:.1%} |"
                f" {ours.precision:.1%}, {ours.recall:.1%} | **{ours.recall / rule.recall:.2f}** ({ratios}) |"
                f" {_harm_words(harm_at_recall(pooled))} | {log_score(pooled):.3f} |"
                f" {_bad_words(*truly_bad(pooled, 0.9))} | {scores(before)[1].recall:.1%}, {log_score(before):.3f},"
                f" {_bad_words(*truly_bad(before, 0.9))} |"
            )
            edges = (0.0, *BUCKETS, 2.0)
            cells = [truly_bad(pooled, low, high) for low, high in pairwise(edges)]
            calibration.append(f"| {name} | {_called(subject)} | " + " | ".join(_bad_words(*c) for c in cells) + " |")
    yield ""
    yield "Calibration: of the rows whose chance of being above target lies in a bucket, how many are truly bad."
    yield ""
    named = ["0", *(f"{edge:.2f}" for edge in BUCKETS), "1"]
    yield "| world | rows | " + " | ".join(f"{a} – {b}" for a, b in pairwise(named)) + " |"
    yield "|---|---|" + "---|" * (len(named) - 1)
    yield from calibration
    yield ""
    yield "A day later: of the rows with ten clicks or more, the verdicts that are others than a day before."
    yield ""
    yield "| world | rows | other verdict |"
    yield "|---|---|---|"
    for spec in BRANDS:
        for subject in ("targets", "search_terms", "product_ads"):
            days = [
                (worlds.demo(FIRST_SEED + n, spec), worlds.demo(FIRST_SEED + n, spec, earlier=1)) for n in range(seeds)
            ]
            share = sum(flipped(now, then, subject) for now, then in days) / seeds
            yield f"| {spec.name} | {_called(subject)} | {share:.1%} |"


def _harm_words(harm: float) -> str:
    return f"{harm:.0%}" if harm < float("inf") else "never as much"


def _bad_words(share: float | None, rows: int) -> str:
    return "–" if share is None else f"{share:.3f} of {rows:,}"


if __name__ == "__main__":
    count = int(sys.argv[sys.argv.index("--seeds") + 1]) if "--seeds" in sys.argv else 5
    found = []
    for line in table(count):
        print(line, flush=True)
        found.append(line)
    if "--write" in sys.argv:
        OUT.write_text(
            "# Judgement, measured\n\nThe simulated worlds know which rows are truly above target. The simple rule (ten"
            " clicks, then ACOS above target or\nno order) harms some good rows; the evidence is cut where it has"
            " harmed as much money of good rows. Then: of\nthe money flagged, how much is truly bad (precision); of"
            " the true overspend, how much is found (recall).\n*Harm at the rule's recall*: the money of good rows"
            " harmed where the evidence has found as much as the rule, against\nthe rule's own. *Log score*: mean −ln"
            " of the chance given to what is true, less is better. *Before*: the same rows\njudged by the prior of the"
            " smallest sufficient group. The second world is of another making than the"
            f" demo's\n(`benchmarks/worlds.py`), so that the judge is not tuned to one.\n{count} seeds pooled, 30"
            " mature days each. `make truth` writes this page. What a\nquarter of audits earns by it: [quarter.md](quarter.md).\n\n"
            + "\n".join(found)
            + "\n"
        )
