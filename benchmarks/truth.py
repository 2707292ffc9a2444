"""
The audit's judgement against what is true in the simulated world, beside the simple rule.

Rows are ranked by P_over (P ≥ .5) and cut at the money of truly good rows that the simple rule
harms, pooled over seeds; then precision and recall of true overspend are compared.

    python benchmarks/truth.py [--write] [--seeds 5]
"""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from functools import lru_cache
from pathlib import Path

import polars as pl

from nimbus_reef.core import company, targeting, words
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.targeting import AD_CHAIN, Aims
from nimbus_reef.sim import reports, trade, world
from nimbus_reef.sim.vocabulary import BRANDS, FERNHOLLOW, BrandSpec

LAST = date(2026, 10, 20)
DAYS = 33
SUBJECTS = {
    "targets": ["campaign", "ad_group", "target", "match_type"],
    "search_terms": ["campaign", "ad_group", "search_term"],
    "product_ads": ["campaign", "ad_group", "sku"],
    "search_terms_alone": ["campaign", "ad_group", "search_term"],
}
ALONE = "search_terms_alone"
"""Search terms judged where no other report is loaded: their company is by names of campaigns."""
OUT = Path(__file__).parents[1] / "docs" / "judgement.md"
_TARGET = ["campaign", "ad_group", "target", "match_type"]


@dataclass(frozen=True, slots=True)
class Happened:
    """A window of a simulated account: its reports' rows, summed; what is true of them; its target ACOS."""

    targets: pl.DataFrame
    terms: pl.DataFrame
    ads: pl.DataFrame
    catalog: pl.DataFrame
    truth: Mapping[str, pl.DataFrame]
    target_acos: float


@lru_cache(maxsize=8)
def happened(seed: int, spec: BrandSpec = FERNHOLLOW, last: date = LAST) -> Happened:
    """The newest mature 30 days of one seed."""
    built = world.build(spec, seed, DAYS)
    traded = trade.run(built, seed, LAST)
    frames = reports.reports(built, traded, LAST)
    end = last - timedelta(days=3)
    micro = [(pl.col(name) * MICRO).round().cast(pl.Int64).alias(name) for name in ("spend", "sales")]

    def summed(kind: str, keys: list[str]) -> pl.DataFrame:
        rows = frames[kind].filter(pl.col("date").is_between(end - timedelta(days=29), end))
        return rows.with_columns(micro).group_by(keys).agg(pl.col(MEASURES).sum()).sort(keys)

    told = reports.truth(built, traded)
    truth = {name: pl.DataFrame(told[name]) for name in ("targets", "search_terms", "product_ads")}
    return Happened(
        _numbered(summed("target_daily", _TARGET)),
        _numbered(summed("search_term_daily", [*_TARGET, "search_term"])),
        _numbered(summed("product_ad_daily", ["campaign", "ad_group", "sku"])),
        frames["catalog"].select("sku", pl.col("parent_item_id").alias("family"), "category"),
        truth,
        spec.target_acos,
    )  # fmt: skip


def _numbered(rows: pl.DataFrame) -> pl.DataFrame:
    """Ids as the store gives them; here the names are their own."""
    ids = {
        "ad_group_id": ["campaign", "ad_group"], "target_id": _TARGET, "normal_id": ["search_term"],
        "product_id": ["sku"], "product_ad_id": ["campaign", "ad_group", "sku"],
    }  # fmt: skip
    return rows.with_columns(
        pl.col("campaign").alias("campaign_id"),
        pl.lit(None, pl.String).alias("portfolio"),
        *(
            pl.concat_str(names, separator="\x1f").alias(name)
            for name, names in ids.items()
            if set(names) <= set(rows.columns)
        ),
    )


def judged_with_truth(seed: int, subject: str, spec: BrandSpec = FERNHOLLOW) -> pl.DataFrame:
    """One seed's rows, judged, with what is true of each."""
    return judged(happened(seed, spec), subject).with_columns(seed=pl.lit(seed))


def judged(what: Happened, subject: str) -> pl.DataFrame:
    """The rows of one subject as the product judges them, with what is true of each."""
    key = SUBJECTS[subject]
    aims = Aims(what.target_acos)
    if subject == "product_ads":
        rows = targeting.in_company(
            what.ads.join(what.catalog, on="sku"), company.fitted_ads(what.ads), ["product_ad_id"], AD_CHAIN
        )
    else:
        rows = _in_company(what, subject)
    true = what.truth[subject.removesuffix("_alone")].select(*key, "bad", "overspend", "true_acos")
    return targeting.judged(rows, 30, aims, 10).join(true, on=key)


def _in_company(what: Happened, subject: str) -> pl.DataFrame:
    leader = (
        what.ads.sort("spend", "sku", descending=[True, False])
        .group_by("ad_group_id", maintain_order=True).first().join(what.catalog, on="sku")
        .select("ad_group_id", pl.col("sku").alias("main_product"), "family", "category")
    )  # fmt: skip
    alone = subject == ALONE
    if alone:
        leader = leader.clear()

    def led(rows: pl.DataFrame) -> pl.DataFrame:
        return targeting.with_company(rows.join(leader, on="ad_group_id", how="left", maintain_order="left"))

    terms = led(
        what.terms.group_by("campaign", "campaign_id", "portfolio", "ad_group", "ad_group_id", "search_term", "normal_id")
        .agg(pl.col(MEASURES).sum())
    )  # fmt: skip
    products = terms.select("ad_group_id", product=targeting.PRODUCT_LEVEL).unique()
    targets = led(what.targets)
    if not alone:
        more = targets.select("ad_group_id", product=targeting.PRODUCT_LEVEL).unique()
        products = pl.concat([products, more]).unique("ad_group_id")
    cells = company.cells_of(what.terms, None if alone else what.targets)
    fitted = company.fitted(cells, products, _spelling(what.terms["normal_id"].unique()))
    if subject == "targets":
        return targeting.in_company(targets, fitted and fitted.targets, ["target_id"])
    return targeting.in_company(terms, fitted and fitted.terms, ["ad_group_id", "normal_id"])


def _spelling(terms: pl.Series) -> company.Spelling:
    pairs = (
        pl.DataFrame({"normal_id": terms, "word": words.spelling(terms)})
        .explode("word")
        .drop_nulls()
        .unique()
    )
    pairs = pairs.with_columns(word_id="word")
    return company.Spelling(pairs.select("normal_id", "word_id"), pairs.select("word_id", "word").unique())


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
