"""
Words, by what they themselves do to the searches they stand in: which to shut out, which to bid lower on.

A word is held against what was due without it, so that one that stands everywhere is not blamed for what
it costs. Formulas: docs/calculations.md, "Words to shut out".
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Final

import numpy as np
import polars as pl
from scipy.sparse import csr_array
from scipy.special import gammainc, gammaincinv, gammaln

from nimbus_reef.core import evidence, words
from nimbus_reef.core.cohorts import SURE_OF_A_WORD, Fitted
from nimbus_reef.core.evidence import ABOVE_AT, INTERVAL, Floats
from nimbus_reef.core.windows import month_factor


@dataclass(frozen=True, slots=True)
class WordLimits:
    """
    A word may be shut out where it brings at most this part of the orders due, and stands in so
    many cells at least.
    """

    factor: float = 0.6
    cells: int = 3


STANDARD: Final = WordLimits()


class WordAdvice(StrEnum):
    """What is to be done about a word, or why nothing is."""

    SHUT_OUT = "negative phrase"
    BID_LOWER = "bid lower"
    UNSURE = "not sure"
    FEW = "in few searches"
    OWN_PRODUCT = "names a product"
    OWN_BRAND = "own brand"


def good_term() -> pl.Expr:
    """A judged term that sells and is rather within target than over it: a phrase that hits it does harm."""
    return ((pl.col("orders") > 0) & (pl.col("p_over") < 0.5)).fill_null(False)


def judged(fitted: Fitted, terms: pl.DataFrame, days: int) -> pl.DataFrame:
    """
    What every word of a fit that has some did in a part of the account, dearest waste first, then by name.

    terms: the judged terms of the part: ad_group_id, normal_id, needed_cvr, p_over, orders. Gives word, factor, shape
    and rate (of the Gamma that it is the mean of), below (P that it is under 1), word_terms (different ones), cells,
    word_clicks, spend (micro), came (orders), due (without the word), limit, p_word (P that the factor is under the
    limit), waste (micro-units per 30 days; null where no order can be valued), good_terms and good_orders (see
    `good_term`), example_id (the normal_id of the dearest term).
    """
    holds = fitted.holds
    assert holds is not None, "a fit without words has none to judge"
    cells = fitted.cells.join(
        terms.select(
            "ad_group_id",
            "normal_id",
            pl.col("needed_cvr").clip(upper_bound=1.0).alias("needed"),
            good_term().alias("good"),
            here=pl.lit(True),
        ),
        on=["ad_group_id", "normal_id"],
        how="left",
        maintain_order="left",
    ).with_columns(pl.col("here", "good").fill_null(False))

    def summed(values: pl.Expr) -> Floats:
        column = cells.select(pl.when("here").then(values).otherwise(0).cast(pl.Float64).fill_null(0.0)).to_series()
        return np.asarray(holds @ column.to_numpy())

    theta, (spread, k, e) = (fitted.words["factor"].to_numpy(), fitted.words.select("spread", "k", "e").to_numpy().T)
    valued = pl.col("needed").is_not_null()
    # What is owed and what is due of the same cells: those in which an order can be valued.
    owed, due = summed(pl.col("clicks") * pl.col("needed")), summed(pl.when(valued).then("due")) / theta
    spent = summed(pl.when(valued).then("spend"))
    with np.errstate(divide="ignore", invalid="ignore"):
        limit = np.where(due > 0, np.minimum(1.0, owed / due), np.nan)
        rate = spread + e
        p_word = gammainc(spread + k, limit * rate)
        share = p_word - theta / limit * gammainc(spread + k + 1, limit * rate)
    waste = month_factor(days) * spent * np.clip(share, 0.0, 1.0)
    by_word = fitted.words.with_columns(
        shape=pl.Series(spread + k),
        rate=pl.Series(rate),
        cells=pl.Series(summed(pl.lit(1))).cast(pl.Int64),
        word_clicks=pl.Series(summed(pl.col("clicks"))).cast(pl.Int64),
        spend=pl.Series(summed(pl.col("spend"))).cast(pl.Int64),
        came=pl.Series(summed(pl.col("orders"))).cast(pl.Int64),
        due=pl.Series(summed(pl.col("due")) / theta),
        limit=pl.Series(limit, nan_to_null=True),
        p_word=pl.Series(p_word, nan_to_null=True),
        waste=pl.Series(waste, nan_to_null=True).round().cast(pl.Int64),
        number=pl.int_range(pl.len(), dtype=pl.UInt32),
    )
    good = _terms_of(holds, cells)
    return (
        by_word.filter(pl.col("cells") > 0)
        .join(good, on="number", how="left")
        .with_columns(pl.col("word_terms", "good_terms", "good_orders").fill_null(0))
        .drop("number", "spread", "k", "e")
        .sort(["waste", "word"], descending=[True, False], nulls_last=True)
    )


def _terms_of(holds: csr_array, cells: pl.DataFrame) -> pl.DataFrame:
    """number, word_terms, good_terms, good_orders, example_id: per level, each different term once."""
    number = np.repeat(np.arange(holds.shape[0], dtype=np.uint32), np.diff(holds.indptr))
    rows = cells.select("normal_id", "orders", "spend", "good", "here")[holds.indices].with_columns(
        number=pl.Series(number)
    )
    return (
        rows.filter("here")
        .group_by("number", "normal_id")
        .agg(pl.col("good").any(), pl.col("orders").filter("good").sum(), pl.col("spend").sum())
        .group_by("number")
        .agg(
            word_terms=pl.len().cast(pl.Int64),
            good_terms=pl.col("good").sum().cast(pl.Int64),
            good_orders=pl.col("orders").sum(),
            example_id=pl.col("normal_id").sort_by("spend", "normal_id").last(),
        )
    )


def with_fate(
    rows: pl.DataFrame, cores: Sequence[frozenset[str]], brand: Collection[str], limits: WordLimits = STANDARD
) -> pl.DataFrame:
    """
    Adds fate: what is to be done about each word, or the first condition for shutting it out that fails.

    cores: the title core of every enabled product; brand: the words of the account's own brands.
    """

    def named(word: str) -> WordAdvice:
        own = word.split(" + ")
        if any(each in brand for each in own):
            return WordAdvice.OWN_BRAND
        return WordAdvice.OWN_PRODUCT if any(core.issuperset(own) for core in cores) else WordAdvice.SHUT_OUT

    sure = (pl.col("p_word") >= ABOVE_AT).fill_null(False)
    mild, few = pl.col("factor") > limits.factor, pl.col("cells") < limits.cells
    bad = rows.with_columns(sure=sure, strong=sure & ~mild & ~few)
    # Few words get this far: only those are looked at as texts.
    fates = [str(named(word)) if strong else "" for word, strong in bad.select("word", "strong").rows()]
    return bad.with_columns(
        fate=pl.when(~pl.col("sure"))
        .then(pl.lit(WordAdvice.UNSURE.value))
        .when(mild)
        .then(pl.lit(WordAdvice.BID_LOWER.value))
        .when(few)
        .then(pl.lit(WordAdvice.FEW.value))
        .otherwise(pl.Series(fates, dtype=pl.String))
    ).drop("sure", "strong")


def nothing() -> pl.DataFrame:
    """No word judged."""
    return pl.DataFrame(
        schema={
            **_OWN,
            "spelt": pl.String,
            "spend": pl.Int64,
            "row_id": pl.String,
            "stake": pl.Int64,
            "clicks": pl.Int64,
            "orders": pl.Int64,
            "sales": pl.Int64,
            "campaign": pl.String,
            "ad_group": pl.String,
            "target": pl.String,
            "match_type": pl.String,
        }
    )


def beside(phrases: pl.DataFrame, own: pl.DataFrame) -> pl.DataFrame:
    """
    Phrases with what their words themselves do: `judged` and `with_fate` at those of one word.

    phrases: judged, see `words.by_phrase`. A word is called costly, leaning or fine by its own chance and stakes its
    own waste; words that stand in the same searches are one row.
    """
    split_up = own.with_columns(phrase=pl.col("word").str.split(" + ")).explode("phrase")
    first = split_up.unique("phrase", keep="first", maintain_order=True).unique(
        "word", keep="first", maintain_order=True
    )
    twins = split_up.join(first, on=["word", "phrase"], how="anti").select("phrase")
    single = pl.col("length") == 1
    joined = phrases.filter(~(single & pl.col("phrase").is_in(twins["phrase"].implode()))).join(
        first.select(*_OWN, "phrase").with_columns(length=pl.lit(1, pl.Int64)),
        on=["phrase", "length"],
        how="left",
        maintain_order="left",
    )
    known = pl.col("p_word").is_not_null()
    return joined.with_columns(
        phrase=pl.coalesce("word", "phrase"),
        p_over=pl.when(known).then("p_word").otherwise("p_over"),
        stake=pl.when(known).then("waste").otherwise("stake"),
    ).with_columns(verdict=pl.when(known).then(evidence.verdict_of("p_over")).otherwise("verdict"))


_OWN: Final = {
    "word": pl.String,
    "factor": pl.Float64,
    "shape": pl.Float64,
    "rate": pl.Float64,
    "below": pl.Float64,
    "word_terms": pl.Int64,
    "cells": pl.Int64,
    "word_clicks": pl.Int64,
    "came": pl.Int64,
    "due": pl.Float64,
    "limit": pl.Float64,
    "p_word": pl.Float64,
    "waste": pl.Int64,
    "good_terms": pl.Int64,
    "good_orders": pl.Int64,
    "fate": pl.String,
}


def interval(shape: float, rate: float, width: float = INTERVAL) -> tuple[float, float]:
    """The central interval of a word's factor that holds `width` of it."""
    tail = (1 - width) / 2
    return float(gammaincinv(shape, tail) / rate), float(gammaincinv(shape, 1 - tail) / rate)


def density(shape: float, rate: float, x: Floats) -> Floats:
    """The density of a word's factor at x > 0."""
    return np.asarray(np.exp(shape * np.log(rate) + (shape - 1) * np.log(x) - rate * x - gammaln(shape)))


def phrase_of(word: str, terms: Sequence[str]) -> str:
    """
    The phrase that a word is shut out by: itself; of joined words all of them where they stand side by side
    in one order in every term, else the longest.
    """
    own = word.split(" + ")
    if len(own) == 1:
        return word
    orders = {tuple(each for each in words.words(term) if each in own) for term in terms}
    side_by_side = len(orders) == 1 and all(words.spelt(term, " ".join(next(iter(orders)))) for term in terms)
    return " ".join(next(iter(orders))) if side_by_side else max(own, key=len)


def deciding(fitted: Fitted, of_row: pl.Expr, *, slow: bool, most: int = 3) -> pl.DataFrame:
    """
    The words that a row's verdict hangs on: those that surely convert below the account's other searches (above
    them when not `slow`), furthest from them first.

    of_row: which of `fitted.cells` are the row's. Gives word, factor, and of the whole level clicks, came and due.
    """
    columns = {"word": pl.String, "factor": pl.Float64, "clicks": pl.Int64, "came": pl.Int64, "due": pl.Float64}
    if fitted.holds is None:
        return pl.DataFrame(schema=columns)
    mine = fitted.cells.select(of_row.cast(pl.Float64).fill_null(0.0)).to_series().to_numpy()
    below = pl.col("below")
    found = (
        fitted.words.with_row_index("number")
        .filter(pl.Series(fitted.holds @ mine > 0))
        .filter(below >= SURE_OF_A_WORD if slow else below <= 1 - SURE_OF_A_WORD)
        .sort(pl.col("factor").log().abs(), "word", descending=[True, False])
        .head(most)
    )
    levels = fitted.holds[found["number"].to_numpy()]
    clicks, came, due = (levels @ fitted.cells[name].to_numpy() for name in ("clicks", "orders", "due"))
    return found.select(
        "word",
        "factor",
        clicks=pl.Series(clicks).cast(pl.Int64),
        came=pl.Series(came).cast(pl.Int64),
        due=pl.Series(due, dtype=pl.Float64) / pl.col("factor"),
    )
