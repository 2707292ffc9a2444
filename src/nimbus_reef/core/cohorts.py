"""
The cohort that targets, search terms and product ads are judged in: the account's fit, as frames.

Rows of reports become cells, the fit's levels get their names, and every row gets the prior that all
others give it. Formulas: docs/calculations.md, "Evidence in one fit".
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

import numpy as np
import polars as pl
from scipy.sparse import csr_array
from scipy.special import gammainc

from nimbus_reef.core import factors
from nimbus_reef.core.evidence import MIN_GROUP_CLICKS, MIN_GROUP_ORDERS
from nimbus_reef.core.factors import Cells, Family, Fit
from nimbus_reef.core.levels import AD_GROUP, FAMILIES, PRODUCT, TARGET, WORD, Floats, Ints, Members, Several

SURE_OF_A_WORD: Final = 0.9
"""How likely a word's factor lies below 1 (or above, by the other end) for a sentence to name it."""


@dataclass(frozen=True, slots=True)
class Spelling:
    """What terms are made of. pairs: normal_id, word_id, each once, best in their order; words: word_id, word."""

    pairs: pl.DataFrame
    words: pl.DataFrame

    @staticmethod
    def none() -> Spelling:
        """For accounts whose search terms are not held."""
        ids = {"normal_id": pl.UInt32, "word_id": pl.UInt32}
        return Spelling(pl.DataFrame(schema=ids), pl.DataFrame(schema={"word_id": pl.UInt32, "word": pl.String}))


@dataclass(frozen=True, slots=True)
class Cohort:
    """
    What the fit says of rows. strength: how far they scatter around it (s), free_strength without words.

    rows: the kind's key columns and, per row: prior_a, prior_b; free_a, free_b, the same with the words left
    out; cohort_cvr, its mean without words and target; free_cvr without words; account_cvr, what the
    account converts without the row; slow_word: one of its words surely converts below the others.
    """

    rows: pl.DataFrame
    strength: float
    free_strength: float


@dataclass(frozen=True, slots=True)
class Fitted:
    """
    One fit of targets and search terms. cells: ad_group_id, normal_id (null for a rest), target_id, clicks,
    orders, spend (micro) and due, the orders that the fit expects, in its order; terms, targets: see
    `Cohort`; words: of every level of words, word (joined ones with " + "), factor, spread, k, e (the
    weighted Orders that came, and were due without it), below (P that its factor is below 1); holds: which
    cells stand in them, level × cell.
    """

    cells: pl.DataFrame
    terms: Cohort
    targets: Cohort
    words: pl.DataFrame
    holds: csr_array | None


def cells_of(terms: pl.DataFrame, targets: pl.DataFrame | None) -> pl.DataFrame:
    """
    One cell per target and term, and per target what it did beside its terms.

    Parameters
    ----------
    terms : frame
        target_id, ad_group_id, normal_id, clicks, orders, spend (micro-units), one or more rows each.
    targets : frame or None
        target_id, ad_group_id, clicks, orders, spend; None where no report tells them.

    Returns
    -------
    frame
        In one order, whatever came in.
    """
    of_terms = terms.group_by("ad_group_id", "normal_id", "target_id").agg(
        pl.col("clicks", "orders", "spend").cast(pl.Int64).sum()
    )
    if targets is None:
        return _sorted(of_terms)
    rows = of_terms.group_by("target_id").agg(pl.col("clicks", "orders", "spend").sum().name.suffix("_told"))
    rests = (
        targets.join(rows, on="target_id", how="left")
        .select(
            "ad_group_id",
            pl.lit(None, of_terms.schema["normal_id"]).alias("normal_id"),
            "target_id",
            *(
                (pl.col(name).cast(pl.Int64) - pl.col(f"{name}_told").fill_null(0)).clip(lower_bound=0).alias(name)
                for name in ("clicks", "orders", "spend")
            ),
        )
        .filter((pl.col("clicks") > 0) | ~pl.col("target_id").is_in(of_terms["target_id"].implode()))
    )
    return _sorted(pl.concat([of_terms, rests]))


def _sorted(cells: pl.DataFrame) -> pl.DataFrame:
    return cells.with_columns(orders=pl.min_horizontal("orders", "clicks")).sort(
        "ad_group_id", "normal_id", "target_id", nulls_last=True
    )


def fitted(cells: pl.DataFrame, products: pl.DataFrame, spelling: Spelling) -> Fitted | None:
    """
    Fits the cells of a window, see `cells_of`; None where the account is too small to say what is usual.

    products: ad_group_id, product (the main product, or what stands in for it; None for none).
    """
    if not enough(cells):
        return None
    vocabulary = spelling.words.sort("word")
    fit = factors.fit(as_fit_takes_them(cells, products, spelling.pairs, vocabulary))
    words, of_words = _levels(fit, vocabulary), fit.families.get(WORD)
    target = _codes(cells["target_id"])
    of_targets = _cohort(fit, target, int(target.max()) + 1, words)
    of_rows = _cohort(fit, fit.cells.row, fit.cells.rows, words)
    return Fitted(
        cells.with_columns(due=pl.Series(fit.cells.n * fit.expected)),
        replace(of_rows, rows=_of_terms(cells, fit.cells.row, of_rows.rows)),
        replace(of_targets, rows=cells.select(pl.col("target_id").unique().sort()).hstack(of_targets.rows)),
        words,
        of_words.holding.by_level if of_words and isinstance(of_words.holding, Several) else None,
    )


def _of_terms(cells: pl.DataFrame, row: Ints, rows: pl.DataFrame) -> pl.DataFrame:
    """The rows that are terms, under their keys; rests have none."""
    first = cells["ad_group_id", "normal_id"][np.concatenate([[0], np.flatnonzero(np.diff(row)) + 1])]
    return first.hstack(rows).drop_nulls("normal_id")


def as_fit_takes_them(
    cells: pl.DataFrame, products: pl.DataFrame, pairs: pl.DataFrame, vocabulary: pl.DataFrame
) -> Cells:
    """
    The cells of `cells_of` with the levels of the four families. A rest is a row of its own; a term's cells of one ad
    group are one. vocabulary: word_id, word, sorted; its places are the levels of words, products' their dense ranks.
    """
    product = cells.join(products, on="ad_group_id", how="left", maintain_order="left")["product"]
    rest = pl.when(pl.col("normal_id").is_null()).then("target_id")
    row = _ranked(cells.select("ad_group_id", "normal_id", rest=rest))
    families: dict[str, Ints | Members] = {
        PRODUCT: _codes(product),
        AD_GROUP: _codes(cells["ad_group_id"]),
        TARGET: _codes(cells["target_id"]),
    }
    if len(pairs):
        families[WORD] = _words_of(cells["normal_id"], pairs, vocabulary)
    n, k = (cells[name].to_numpy().astype(np.float64) for name in ("clicks", "orders"))
    return Cells(n, k, row, int(row[-1]) + 1, families)


def fitted_ads(ads: pl.DataFrame) -> Cohort | None:
    """
    The fit of product ads, each a row and a cell: product_ad_id, ad_group_id, product_id, clicks, orders.

    Their cohort leaves the ad group out.
    """
    cells = ads.with_columns(orders=pl.min_horizontal("orders", "clicks")).sort("ad_group_id", "product_ad_id")
    if not enough(cells):
        return None
    row = np.arange(len(cells))
    n, k = (cells[name].to_numpy().astype(np.float64) for name in ("clicks", "orders"))
    families: dict[str, Ints | Members] = {PRODUCT: _codes(cells["product_id"]), AD_GROUP: _codes(cells["ad_group_id"])}
    fit = factors.fit(Cells(n, k, row, len(cells), families))
    cohort = _cohort(fit, row, len(cells), None, apart=(AD_GROUP,))
    return replace(cohort, rows=cells.select("product_ad_id").hstack(cohort.rows))


def enough(cells: pl.DataFrame) -> bool:
    """Whether cells have clicks and orders enough to say what is usual."""
    return (
        int(cells["clicks"].sum()) >= MIN_GROUP_CLICKS
        and int(cells.select(pl.min_horizontal("orders", "clicks").sum()).item()) >= MIN_GROUP_ORDERS
    )


def _ranked(keys: pl.DataFrame) -> Ints:
    """0 … per run of equal rows; equal ones stand beside each other."""
    changed = keys.select(pl.any_horizontal(pl.all().ne_missing(pl.all().shift())).cum_sum().alias("row"))["row"]
    rank = changed.to_numpy().astype(np.int64)
    return np.asarray(rank - rank[0])


def _codes(values: pl.Series) -> Ints:
    """0 … in the order of the values, -1 for null."""
    codes = values.rank("dense").cast(pl.Int64) - 1
    return codes.fill_null(-1).to_numpy().astype(np.int64)


def _words_of(normal: pl.Series, pairs: pl.DataFrame, vocabulary: pl.DataFrame) -> Members:
    """Each cell's words by their place in the vocabulary; by positions, for a join of so many rows costs more."""
    level = vocabulary.select("word_id").with_row_index("level").sort("word_id")
    place = level["level"].to_numpy()[level["word_id"].search_sorted(pairs["word_id"]).to_numpy()]
    both = _numbers(pl.concat([pairs["normal_id"], normal]))
    having, wanted = both[: len(pairs)], both[len(pairs) :]
    if np.any(having[1:] < having[:-1]):
        order = np.argsort(having, kind="stable")
        having, place = having[order], place[order]
    # In their order, each once: a search that jumps about takes four times as long.
    each, of = np.unique(wanted, return_inverse=True)
    first, last = (np.searchsorted(having, each, side=side)[of] for side in ("left", "right"))
    count = np.where(wanted < 0, 0, last - first)
    start = np.concatenate([[0], np.cumsum(count)])
    at = np.arange(start[-1]) - np.repeat(start[:-1] - first, count)
    return Members(start, place[at].astype(np.int64), len(vocabulary))


def _numbers(values: pl.Series) -> Ints:
    """Values as numbers, -1 for null."""
    coded = values.cast(pl.Categorical).to_physical() if values.dtype == pl.String else values
    return coded.cast(pl.Int64).fill_null(-1).to_numpy().astype(np.int64)


def _levels(fit: Fit, vocabulary: pl.DataFrame) -> pl.DataFrame:
    """Every level of words with its names."""
    schema: dict[str, pl.DataType | type[pl.DataType]] = {
        "word": pl.String,
        "factor": pl.Float64,
        "spread": pl.Float64,
        "k": pl.Float64,
        "e": pl.Float64,
        "below": pl.Float64,
    }
    family = fit.families.get(WORD)
    if family is None:
        return pl.DataFrame(schema=schema)
    named = (
        vocabulary.with_columns(level=pl.Series(family.number))
        .filter(pl.col("level") >= 0)
        .group_by("level")
        .agg(pl.col("word").sort().str.join(" + "))
        .sort("level")
    )
    return named.select(
        "word",
        factor=pl.Series(family.theta),
        spread=pl.lit(family.spread),
        k=pl.Series(family.k),
        e=pl.Series(family.e),
        below=pl.Series(_below(family)),
    )


def _below(family: Family) -> Floats:
    """P(θ < 1) of every level: Gamma(α + K, rate α + E)."""
    return np.asarray(gammainc(family.spread + family.k, family.spread + family.e))


def _cohort(
    fit: Fit, row: Ints, rows: int, words: pl.DataFrame | None, apart: Sequence[str] = (WORD, TARGET)
) -> Cohort:
    others = factors.others(fit, row, rows)
    with_all, free = others.means(), others.means((WORD,))
    strength = factors.strength(with_all)
    free_strength = factors.strength(free) if WORD in fit.families else strength
    worth, free_worth = with_all.strength(strength), free.strength(free_strength)
    by_key = {
        "prior_a": with_all.m * worth,
        "prior_b": (1 - with_all.m) * worth,
        "free_a": free.m * free_worth,
        "free_b": (1 - free.m) * free_worth,
        "cohort_cvr": others.means(apart).m,
        "free_cvr": free.m,
        "account_cvr": others.means(FAMILIES).m,
    }
    slow = pl.Series("slow_word", np.bincount(row, _slow_words(fit, words), rows) > 0)
    return Cohort(pl.DataFrame(by_key).with_columns(slow), strength, free_strength)


def _slow_words(fit: Fit, words: pl.DataFrame | None) -> Floats:
    """How many of each cell's words surely convert below the others."""
    family = fit.families.get(WORD)
    if family is None or words is None:
        return np.zeros(len(fit.cells.n))
    return family.holding.give((words["below"].to_numpy() >= SURE_OF_A_WORD).astype(np.float64))
