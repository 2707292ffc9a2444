"""Where more of a search can be won: targets and search terms that earn and get little of what shoppers see."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.core.cases import first_that_holds
from nimbus_reef.core.model import Format

SURE: Final = 0.10
"""Chance above target up to which something is well within it."""


@dataclass(frozen=True, slots=True)
class ShareLimits:
    """
    What is worth a look. top: a larger share of the top of search is enough; sales: least ad sales in 30 days, units;
    age: least days; share, rank: search terms with a larger impression share, or a worse rank, are left alone.
    """

    top: float = 0.3
    sales: float = 50.0
    age: int = 14
    share: float = 0.25
    rank: int = 4


STANDARD: Final = ShareLimits()


class TopLeft(StrEnum):
    """Why a target is not listed; the first that holds."""

    NOT_SURE = "not well within target"
    UNTOLD = "without a told share"
    ENOUGH = "with enough of the top"
    SMALL = "with few sales"
    YOUNG = "too young"


def top_left(limits: ShareLimits = STANDARD) -> pl.Expr:
    """
    Why each target is left out, null where it is not.

    Rows: p_over, top_of_search_share (0 … 1, null where no report tells it), sales (in 30 days, units), age (days its
    campaign has run, null where that is not known).
    """
    return first_that_holds(
        (
            (TopLeft.NOT_SURE, pl.col("p_over").is_null() | (pl.col("p_over") > SURE)),
            (TopLeft.UNTOLD, pl.col("top_of_search_share").is_null()),
            (TopLeft.ENOUGH, pl.col("top_of_search_share") > limits.top),
            (TopLeft.SMALL, pl.col("sales") < limits.sales),
            (TopLeft.YOUNG, pl.col("age") < limits.age),
        )
    )


def share_after(e: float) -> pl.Expr:
    """
    The share of the top of search that is expected after a bid was moved: it follows the bid as clicks do.

    Parameters
    ----------
    e : number
        By how many % clicks change when a bid changes by 1 %. Rows: top_of_search_share, bid and proposed (units, null
        where unknown).

    References
    ----------
    docs/calculations.md, “Reach”.
    """
    moved = (pl.col("proposed") / pl.col("bid")).fill_null(1.0)
    return pl.min_horizontal(pl.lit(1.0), pl.col("top_of_search_share") * moved.pow(e))


class TermLeft(StrEnum):
    """Why a search term is not listed; the first that holds."""

    UNTOLD = "without a told share"
    ENOUGH = "with enough impressions"
    BEHIND = "ranked too low"
    ABOVE = "likely above target"
    NO_ORDER = "without an order"
    OTHER_FORMAT = "found by brand or display ads"
    OWN_TARGET = "with a keyword of their own"
    BRAND = "with a brand’s name"
    NEVER = "with a word you dropped"


def term_left(limits: ShareLimits = STANDARD) -> pl.Expr:
    """
    Why each search term is left out, null where it is not.

    Rows: impression_share (0 … 1), impression_rank (both null where no report tells them), p_over, orders, format (of
    the ads that were shown: a product ad takes no search from a banner that earns), and booleans covered (an exact
    keyword of these words is live), branded (names an own or a rival's brand), dropped (has a word that is not ours).
    """
    return first_that_holds(
        (
            (TermLeft.UNTOLD, pl.col("impression_share").is_null()),
            (TermLeft.ENOUGH, pl.col("impression_share") > limits.share),
            (TermLeft.BEHIND, pl.col("impression_rank").round() > limits.rank),
            (TermLeft.ABOVE, pl.col("p_over").is_null() | (pl.col("p_over") >= 0.5)),
            (TermLeft.NO_ORDER, pl.col("orders") < 1),
            (TermLeft.OTHER_FORMAT, pl.col("format").cast(pl.String) != Format.PRODUCT.value),
            (TermLeft.OWN_TARGET, pl.col("covered")),
            (TermLeft.BRAND, pl.col("branded")),
            (TermLeft.NEVER, pl.col("dropped")),
        )
    )
