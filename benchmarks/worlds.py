"""
Windows of made-up accounts with what is true of them: the demo's world, and a second one of another making.

The second world shares nothing with the simulator but the columns: words, products, ad groups and targets are
drawn from other distributions, and words either mean nothing at all or something else for every product.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from functools import lru_cache

import numpy as np
import polars as pl

from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.sim import reports, trade, world
from nimbus_reef.sim.vocabulary import FERNHOLLOW, BrandSpec

LAST = date(2026, 10, 20)
DAYS = 34
TARGET = ["campaign", "ad_group", "target", "match_type"]
_TERM = ["campaign", "ad_group", "search_term"]
_AD = ["campaign", "ad_group", "sku"]


@dataclass(frozen=True, slots=True)
class Happened:
    """A window of an account: its reports' rows, summed; what is true of them; its target ACOS."""

    targets: pl.DataFrame
    terms: pl.DataFrame
    ads: pl.DataFrame
    catalog: pl.DataFrame
    truth: Mapping[str, pl.DataFrame]
    target_acos: float


@lru_cache(maxsize=4)
def _reports(seed: int, spec: BrandSpec) -> tuple[dict[str, pl.DataFrame], Mapping[str, pl.DataFrame]]:
    built = world.build(spec, seed, DAYS)
    traded = trade.run(built, seed, LAST)
    by_key = reports.truth(built, traded)
    truth = {name: pl.DataFrame(by_key[name]) for name in ("targets", "search_terms", "product_ads")}
    return reports.reports(built, traded, LAST), truth


def demo(seed: int, spec: BrandSpec = FERNHOLLOW, *, earlier: int = 0) -> Happened:
    """The newest mature 30 days of one seed of a demo brand, or those some days earlier."""
    frames, truth = _reports(seed, spec)
    end = LAST - timedelta(days=3 + earlier)
    micro = [(pl.col(name) * MICRO).round().cast(pl.Int64).alias(name) for name in ("spend", "sales")]

    def summed(kind: str, keys: list[str]) -> pl.DataFrame:
        rows = frames[kind].filter(pl.col("date").is_between(end - timedelta(days=29), end))
        return _numbered(rows.with_columns(micro).group_by(keys).agg(pl.col(MEASURES).sum()).sort(keys))

    catalog = frames["catalog"].select("sku", pl.col("parent_item_id").alias("family"), "category")
    return Happened(
        summed("target_daily", TARGET),
        summed("search_term_daily", [*TARGET, "search_term"]),
        summed("product_ad_daily", _AD),
        catalog,
        truth,
        spec.target_acos,
    )


def small(what: Happened, groups: int = 8) -> Happened:
    """An account of the ad groups that spend most, a few of them."""
    largest = (
        what.targets.group_by("ad_group_id")
        .agg(pl.col("spend").sum())
        .sort("spend", "ad_group_id", descending=True)
        .head(groups)
    )
    kept = [each.join(largest, on="ad_group_id", how="semi") for each in (what.targets, what.terms, what.ads)]
    return replace(what, targets=kept[0], terms=kept[1], ads=kept[2])


def _numbered(rows: pl.DataFrame) -> pl.DataFrame:
    """Ids as the store gives them; here the names are their own."""
    ids = {
        "ad_group_id": ["campaign", "ad_group"],
        "target_id": TARGET,
        "normal_id": ["search_term"],
        "product_id": ["sku"],
        "product_ad_id": _AD,
    }
    return rows.with_columns(
        pl.col("campaign").alias("campaign_id"),
        pl.lit(None, pl.String).alias("portfolio"),
        *(
            pl.concat_str(names, separator="\x1f").alias(name)
            for name, names in ids.items()
            if set(names) <= set(rows.columns)
        ),
    )


def second(seed: int, *, words_mean: str) -> Happened:
    """
    The second world. words_mean: "nothing", or "another" for a meaning that differs from product to product.

    60 products of ten families in 90 ad groups, 900 targets and about 9,000 terms; a fifth of the clicks come
    without a term.
    """
    rng = np.random.default_rng([seed, 17])
    products, groups, targets, vocabulary = 60, 90, 900, 350
    cvr = np.clip(rng.gamma(4.0, 0.02, products), 0.01, 0.3)
    price = rng.uniform(9, 70, products)
    group_product = rng.integers(products, size=groups)
    group_of = np.sort(rng.integers(groups, size=targets))
    of_group, of_target = rng.lognormal(0, 0.2, groups), rng.lognormal(0, 0.35, targets)
    of_target[rng.random(targets) < 0.12] *= 0.25
    cost = price[group_product[group_of]] * cvr[group_product[group_of]] * 0.28 * rng.lognormal(0, 0.45, targets)
    shape = (vocabulary,) if words_mean == "nothing" else (products, vocabulary)
    meaning = (
        np.zeros(shape)
        if words_mean == "nothing"
        else np.where(rng.random(shape) < 0.12, np.log(rng.choice([0.2, 0.4, 1.8], shape)), 0.0)
    )
    cells = []
    for number in range(targets):
        product = group_product[group_of[number]]
        for _ in range(int(rng.integers(4, 18))):
            picked = np.unique((vocabulary * rng.random(int(rng.integers(1, 5))) ** 2).astype(int))
            weight = 0.0 if words_mean == "nothing" else float(meaning[product, picked].sum())
            own = float(rng.normal(0, 0.25))
            cells.append((number, " ".join(f"w{word:03d}" for word in picked), weight + own))
        cells.append((number, "", float(rng.normal(0, 0.1))))
    target = np.array([each[0] for each in cells])
    term = np.array([each[1] for each in cells])
    product = group_product[group_of[target]]
    clicks = rng.negative_binomial(0.7, 0.06, len(cells))
    clicks[term == ""] *= 2
    rate = np.minimum(
        0.5, cvr[product] * of_group[group_of[target]] * of_target[target] * np.exp([c[2] for c in cells])
    )
    orders = rng.binomial(clicks, rate)
    frame = pl.DataFrame(
        {
            "campaign": [f"camp {group // 3}" for group in group_of[target]],
            "ad_group": [f"group {group}" for group in group_of[target]],
            "target": [f"target {each}" for each in target],
            "match_type": "broad",
            "search_term": term,
            "sku": [f"sku {each}" for each in product],
            "impressions": clicks * 40,
            "clicks": clicks,
            "spend": np.round(clicks * cost[target] * MICRO).astype(np.int64),
            "orders": orders,
            "units": orders,
            "sales": np.round(orders * price[product] * MICRO).astype(np.int64),
            "expected_sales": clicks * rate * price[product],
        }
    ).filter(pl.col("clicks") > 0)
    catalog = pl.DataFrame(
        {
            "sku": [f"sku {n}" for n in range(products)],
            "family": [f"family {n % 10}" for n in range(products)],
            "category": [f"category {n % 3}" for n in range(products)],
        }
    )

    def summed(rows: pl.DataFrame, keys: list[str]) -> pl.DataFrame:
        return _numbered(rows.group_by(keys).agg(pl.col(MEASURES).cast(pl.Int64).sum()).sort(keys))

    def true(rows: pl.DataFrame, keys: list[str]) -> pl.DataFrame:
        sums = rows.group_by(keys).agg(pl.col("spend").sum() / MICRO, pl.col("expected_sales").sum())
        over = pl.col("spend") - 0.28 * pl.col("expected_sales")
        return sums.with_columns(
            bad=over > 0, overspend=over.clip(0), true_acos=pl.col("spend") / pl.col("expected_sales")
        )

    with_term = frame.filter(pl.col("search_term") != "")
    truth = {"targets": true(frame, TARGET), "search_terms": true(with_term, _TERM), "product_ads": true(frame, _AD)}
    return Happened(
        summed(frame, TARGET), summed(with_term, [*TARGET, "search_term"]), summed(frame, _AD), catalog, truth, 0.28
    )
