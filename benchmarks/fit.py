"""
The account's fit at size: 400,000 terms of 30,000 words under 60,000 targets, against the bare
group-by of their rows.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import polars as pl

from nimbus_reef.core import cohorts, targeting
from nimbus_reef.core.cohorts import Spelling
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.targeting import Aims

TERMS, WORDS, TARGETS, GROUPS, PRODUCTS = 400_000, 30_000, 60_000, 9_000, 1_075
_DAYS = 13


@dataclass(frozen=True)
class AtSize:
    """
    Seconds and megabytes. taken: the group-by, and fit, priors and verdicts of terms and targets, round by round; fit:
    the middle of the fit alone; above: memory above the rows at the peak of the fit, and of all.
    """

    taken: Sequence[tuple[float, float]]
    fit: float
    above: tuple[float, float]
    rows: int


def _status(name: str) -> float:
    line = next(line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith(name))
    return int(line.split()[1]) / 1024


def _account(rng: np.random.Generator) -> tuple[pl.DataFrame, pl.DataFrame, pl.DataFrame, Spelling]:
    """Report rows by key, the keys' names, the ad groups' products, and what the terms are made of."""
    group_of = np.sort(rng.integers(GROUPS, size=TARGETS))
    product_of = rng.integers(PRODUCTS, size=GROUPS)
    target = rng.integers(TARGETS, size=TERMS)
    count = rng.integers(1, 7, TERMS)
    term = np.repeat(np.arange(TERMS, dtype=np.uint32), count)
    word = (WORDS * rng.random(len(term)) ** 2.5).astype(np.uint32)
    pairs = pl.DataFrame({"normal_id": term, "word_id": word}).unique().sort("normal_id", "word_id")
    meaning = rng.normal(0, 0.3, WORDS)
    eta = np.log(0.06) + np.bincount(term, meaning[word], TERMS) + rng.normal(0, 0.3, TARGETS)[target]
    clicks = rng.geometric(0.12, TERMS)
    orders = rng.binomial(clicks, np.minimum(0.5, np.exp(eta)))
    cost = rng.lognormal(-0.4, 0.4, TERMS)
    key = np.tile(np.arange(TERMS, dtype=np.uint32), _DAYS)
    share = rng.multinomial(1, np.full(_DAYS, 1 / _DAYS), TERMS).T.ravel()
    sums = {
        "impressions": np.tile(clicks * 40, _DAYS) * share,
        "clicks": np.tile(clicks, _DAYS) * share,
        "spend": (np.tile(clicks * cost, _DAYS) * share * MICRO).astype(np.int64),
        "orders": np.tile(orders, _DAYS) * share,
        "units": np.tile(orders, _DAYS) * share,
        "sales": np.tile(orders * 30, _DAYS) * share * MICRO,
    }
    rows = pl.DataFrame({"key": key, **{name: sums[name] for name in MEASURES}}).sample(
        fraction=1.0, shuffle=True, seed=1
    )
    names = pl.DataFrame(
        {
            "key": np.arange(TERMS, dtype=np.uint32),
            "normal_id": np.arange(TERMS, dtype=np.uint32),
            "target_id": target.astype(np.uint32),
            "ad_group_id": group_of[target].astype(np.uint32),
        }
    )
    products = pl.DataFrame(
        {"ad_group_id": np.arange(GROUPS, dtype=np.uint32), "product": [f"sku {each}" for each in product_of]}
    )
    vocabulary = pl.DataFrame(
        {"word_id": np.arange(WORDS, dtype=np.uint32), "word": [f"word{n}" for n in range(WORDS)]}
    )
    return rows, names, products, Spelling(pairs, vocabulary)


def measure(rounds: int = 5) -> AtSize:
    """As a worker does it: everything cold but the words, which are kept from the intake."""
    rows, names, products, spelling = _account(np.random.default_rng(7))

    def grouped() -> pl.DataFrame:
        return rows.group_by("key").agg(pl.col(MEASURES).cast(pl.Int64).sum())

    fits, taken, fitting, above = [], [], 0.0, 0.0
    for _ in range(rounds):
        begun = time.perf_counter()
        sums = grouped()
        floor = time.perf_counter() - begun
        terms = sums.join(names, on="key").sort("key")
        targets = (
            terms.group_by("target_id", "ad_group_id").agg(pl.col(MEASURES).sum()).with_columns(pl.col("clicks") + 20)
        )
        named = [each.join(products, on="ad_group_id") for each in (terms, targets)]
        judged_by = [each.with_columns(**dict.fromkeys(targeting.CHAIN[1:], pl.lit(None))) for each in named]
        Path("/proc/self/clear_refs").write_text("5")
        value = _status("VmRSS")
        begun = time.perf_counter()
        cells = cohorts.cells_of(terms, targets)
        found = cohorts.fitted(cells, products, spelling)
        assert found is not None
        fits.append(time.perf_counter() - begun)
        fitting = max(fitting, _status("VmHWM") - value)
        for frame, cohort, keys in (
            (judged_by[0], found.terms, ["ad_group_id", "normal_id"]),
            (judged_by[1], found.targets, ["target_id"]),
        ):
            in_cohort = targeting.in_cohort(frame, cohort, keys, ("ad_group_id",))
            targeting.judged(in_cohort, 30, Aims(0.28), 10)
        taken.append((floor, time.perf_counter() - begun))
        above = max(above, _status("VmHWM") - value)
    return AtSize(taken, statistics.median(fits), (fitting, above), len(rows))


if __name__ == "__main__":
    print(measure())
