"""
What conversion rests on in the market too: the account's fit with our rank and the rivals' presence beside.

It carries what own searches show over to phrases that were never bought. Formulas: "Reach" in docs/calculations.md.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.core import cohorts, factors
from nimbus_reef.core.cohorts import Spelling
from nimbus_reef.core.factors import Family, Fit
from nimbus_reef.core.levels import PRODUCT, RANK, RIVALS, WORD, Floats

SEEN_WITHIN: Final = 40
"""A rank beyond is as good as none."""
_RANKS: Final = (5, 15, SEEN_WITHIN)
_RIVALS: Final = (0.0, 0.25, 0.5)
RANK_WORDS: Final = ("1 to 5", "6 to 15", "16 to 40", "beyond 40")
"""Levels of our own rank."""
RIVAL_WORDS: Final = ("none", "up to a quarter", "up to half", "more than half")
"""Levels of how many of the rivals are seen."""
_LEAST_ORDERS: Final = 0.5
LEAST_MEAN: Final = 1e-5
MOST_MEAN: Final = 0.6


def rank_level(rank: pl.Expr) -> pl.Expr:
    """The level of our best organic rank, null ranks (listed without one) among those beyond 40."""
    first, second, third = _RANKS
    return pl.when(rank <= first).then(0).when(rank <= second).then(1).when(rank <= third).then(2).otherwise(3)


def rivals_level(share: pl.Expr) -> pl.Expr:
    """The level of the part of the chosen rivals that rank within 40."""
    none, quarter, half = _RIVALS
    return pl.when(share <= none).then(0).when(share <= quarter).then(1).when(share <= half).then(2).otherwise(3)


@dataclass(frozen=True, slots=True)
class MarketFit:
    """
    The fit of an account's newest days with what is known of the market.

    mean, orders: Σk/Σn, and all weighted orders; strength: how far search terms scatter around their levels; spreads:
    α by family. products: product, factor, orders; words: word_id, word, level, size (words of that level), factor,
    orders; ranks, rivals: factor and orders of each level in use, by its number. terms: normal_id, clicks, orders and
    cvr (posterior mean, all ad groups together).
    """

    mean: float
    orders: float
    strength: float
    spreads: Mapping[str, float]
    products: pl.DataFrame
    words: pl.DataFrame
    ranks: Mapping[int, tuple[float, float]]
    rivals: Mapping[int, tuple[float, float]]
    terms: pl.DataFrame


def fitted(cells: pl.DataFrame, products: pl.DataFrame, spelling: Spelling, market: pl.DataFrame) -> MarketFit | None:
    """
    Fits the cells of a window; None where the account is too small to say what is usual.

    cells, products, spelling: as `cohorts.fitted` takes them; market: normal_id, rank, rivals: the levels of own search
    terms, null for none.
    """
    if not cohorts.enough(cells):
        return None
    vocabulary = spelling.words.sort("word")
    plain = cohorts.as_fit_takes_them(cells, products, spelling.pairs, vocabulary)
    known = cells.select(pl.col("normal_id").cast(market.schema["normal_id"])).join(
        market, on="normal_id", how="left", maintain_order="left"
    )
    more = {name: known[name].fill_null(-1).to_numpy().astype(np.int64) for name in (RIVALS, RANK)}
    fit = factors.fit(replace(plain, families={**plain.families, **more}))
    means = factors.others(fit, fit.cells.row, fit.cells.rows).means()
    strength = factors.strength(means)
    worth = means.strength(strength)
    posterior = (means.m * worth + np.minimum(means.k, means.n)) / (worth + means.n)
    return MarketFit(
        fit.mean,
        max(_LEAST_ORDERS, float((fit.weight * fit.cells.k).sum())),
        strength,
        {name: family.spread for name, family in fit.families.items()},
        _products(fit, cells, products),
        _words(fit, vocabulary),
        _levels(fit, RANK),
        _levels(fit, RIVALS),
        _terms(fit, cells, posterior),
    )


def _terms(fit: Fit, cells: pl.DataFrame, posterior: Floats) -> pl.DataFrame:
    """What each own search term converts, its ad groups weighed by their clicks."""
    rows = cells.select("normal_id", "clicks", "orders").with_columns(cvr=pl.Series(posterior[fit.cells.row]))
    weighed = (pl.col("cvr") * pl.col("clicks")).sum() / pl.col("clicks").sum()
    return (
        rows.drop_nulls("normal_id")
        .filter(pl.col("clicks") > 0)
        .group_by("normal_id")
        .agg(cvr=weighed, clicks=pl.col("clicks").sum(), orders=pl.col("orders").sum())
        .sort("normal_id")
    )


def _products(fit: Fit, cells: pl.DataFrame, products: pl.DataFrame) -> pl.DataFrame:
    family = fit.families.get(PRODUCT)
    named = cells.join(products, on="ad_group_id")["product"].drop_nulls().unique().sort().cast(pl.String)
    if family is None:
        return pl.DataFrame(schema={"product": pl.String, "factor": pl.Float64, "orders": pl.Float64})
    return _of_levels(pl.DataFrame({"product": named, "level": family.number[: len(named)]}), family).drop("level")


def _words(fit: Fit, vocabulary: pl.DataFrame) -> pl.DataFrame:
    family = fit.families.get(WORD)
    numbers = np.full(len(vocabulary), -1) if family is None else family.number
    rows = vocabulary.select("word_id", "word").with_columns(level=pl.Series(numbers, dtype=pl.Int64))
    if family is None:
        none = pl.lit(None, pl.Float64)
        return rows.clear().with_columns(factor=none, orders=none, size=pl.lit(0, pl.UInt32))
    return _of_levels(rows, family).with_columns(size=pl.len().over("level"))


def _of_levels(rows: pl.DataFrame, family: Family) -> pl.DataFrame:
    """Rows with their level's factor and orders; those of levels that the fit does not know are left out."""
    of_level = pl.DataFrame(
        {"level": np.arange(len(family.theta)), "factor": family.theta, "orders": family.k}
    ).with_columns(pl.col("level").cast(pl.Int64))
    return rows.with_columns(pl.col("level").cast(pl.Int64)).join(of_level, on="level", maintain_order="left")


def _levels(fit: Fit, name: str) -> Mapping[int, tuple[float, float]]:
    family = fit.families.get(name)
    if family is None:
        return {}
    return {
        level: (float(family.theta[number]), float(family.k[number]))
        for level, number in enumerate(family.number.tolist())
        if number >= 0
    }


def expected(fit: MarketFit, phrases: pl.DataFrame, pairs: pl.DataFrame) -> pl.DataFrame:
    """
    What phrases are expected to convert by what the fit knows of their product, words, rank and rivals.

    Parameters
    ----------
    fit : MarketFit
    phrases : frame
        normal_id, product (as the fit calls it), rank, rivals (levels, null for none).
    pairs : frame
        normal_id, word_id: each word of a phrase once.

    Returns
    -------
    frame
        In the same order: mean (m, within 1e-5 … 0.6) and unsure (u).
    """
    log, width = np.full(len(phrases), np.log(fit.mean)), np.full(len(phrases), np.log1p(1 / fit.orders))
    parts = [
        _of_products(fit, phrases),
        _of_words(fit, phrases, pairs),
        _of_level(phrases["rank"], fit.ranks, fit.spreads.get(RANK)),
        _of_level(phrases["rivals"], fit.rivals, fit.spreads.get(RIVALS)),
    ]
    for factor, off in parts:
        log, width = log + factor, width + off
    return pl.DataFrame({"mean": np.clip(np.exp(log), LEAST_MEAN, MOST_MEAN), "unsure": np.expm1(width)})


def _of_products(fit: MarketFit, phrases: pl.DataFrame) -> tuple[Floats, Floats]:
    if PRODUCT not in fit.spreads:
        return np.zeros(len(phrases)), np.zeros(len(phrases))
    spread = fit.spreads[PRODUCT]
    known = phrases.select(pl.col("product").cast(pl.String)).join(
        fit.products, on="product", how="left", maintain_order="left"
    )
    factor, orders = known["factor"].fill_null(1.0).to_numpy(), known["orders"].fill_null(0.0).to_numpy()
    return np.log(factor), np.log1p(1 / (spread + orders))


def _of_words(fit: MarketFit, phrases: pl.DataFrame, pairs: pl.DataFrame) -> tuple[Floats, Floats]:
    """A joined level counts once where a phrase has all its words; else each of them is a word not known."""
    if WORD not in fit.spreads:
        return np.zeros(len(phrases)), np.zeros(len(phrases))
    spread = fit.spreads[WORD]
    whole = (pl.col("level") >= 0) & (pl.col("here") == pl.col("size"))
    sums = (
        pairs.join(phrases.select("normal_id").unique(), on="normal_id", how="semi")
        .join(fit.words, on="word_id", how="left")
        .with_columns(pl.col("level").fill_null(-1))
        .group_by("normal_id", "level")
        .agg(here=pl.len(), **{name: pl.col(name).first() for name in ("size", "factor", "orders")})
        .with_columns(
            log=pl.when(whole).then(pl.col("factor").log()).otherwise(0.0),
            off=pl.when(whole)
            .then((1 / (spread + pl.col("orders"))).log1p())
            .otherwise(pl.col("here") * float(np.log1p(1 / spread))),
        )
        .group_by("normal_id")
        .agg(pl.col("log", "off").sum())
    )
    of = phrases.select("normal_id").join(sums, on="normal_id", how="left", maintain_order="left")
    return of["log"].fill_null(0.0).to_numpy(), of["off"].fill_null(0.0).to_numpy()


def _of_level(
    levels: pl.Series, known: Mapping[int, tuple[float, float]], spread: float | None
) -> tuple[Floats, Floats]:
    code = levels.fill_null(-1).to_numpy()
    log, off = np.zeros(len(code)), np.zeros(len(code))
    if spread is None:
        return log, off
    for level in range(len(RANK_WORDS)):
        factor, orders = known.get(level, (1.0, 0.0))
        here = code == level
        log[here], off[here] = np.log(factor), np.log1p(1 / (spread + orders))
    return log, off


@dataclass(frozen=True, slots=True)
class Parts:
    """
    What the conversion expected of one phrase is made of: factors of its product, of its words (null for a word that
    the fit does not know; of joined ones all), of our rank and of the rivals; null where there is no level.
    """

    product: float | None
    words: tuple[tuple[str, float | None], ...]
    rank: float | None
    rivals: float | None


def parts(
    fit: MarketFit, product: str, words: Sequence[tuple[int, str]], rank: int | None, rivals: int | None
) -> Parts:
    """What `expected` multiplies for one phrase; words: word_id and word of each, once."""
    known = fit.products.filter(pl.col("product") == product)["factor"]
    ids = [word_id for word_id, _ in words]
    rows = fit.words.filter(pl.col("word_id").is_in(ids))
    whole = rows.filter(pl.len().over("level") == pl.col("size"))
    factors = {
        word_id: (" + ".join(sorted(together)), factor)
        for _, factor, together, members in whole.group_by("level")
        .agg(pl.col("factor").first(), pl.col("word"), pl.col("word_id"))
        .rows()
        for word_id in members
    }
    named = [factors.get(word_id, (word, None)) for word_id, word in words]
    return Parts(
        float(known[0]) if len(known) else None,
        tuple(dict.fromkeys(named)),
        None if rank is None or rank not in fit.ranks else fit.ranks[rank][0],
        None if rivals is None or rivals not in fit.rivals else fit.rivals[rivals][0],
    )
