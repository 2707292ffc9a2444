"""
Phrases that were never bought: how likely each would pay, at which bid, and what it would bring.

Formulas: "Reach" in docs/calculations.md. Money is in units of currency.
"""

from __future__ import annotations

from enum import StrEnum
from typing import Final

import numpy as np
import polars as pl
from scipy.special import betainc, betaincinv

from nimbus_reef.core.bids import STANDARD_RULE, BidRule, to_coin
from nimbus_reef.core.factors import Means
from nimbus_reef.core.levels import Floats
from nimbus_reef.core.market_fit import MOST_MEAN
from nimbus_reef.core.response import ClickResponse

PAYS_AT: Final = 0.2
"""Least chance at the usual price: the bid is made for what a phrase converts, so those that pay below it earn too."""
LEAST_GAIN: Final = 1.0
DAYS: Final = 28
USUAL_CLICKS_A_SEARCH: Final = 0.01
"""Clicks for each search of an own exact target, where the account has too few to tell."""
ENOUGH_CLICKS: Final = 30
ENOUGH_FOR_SEARCHES: Final = 200
_FREE_SPREAD: Final = 0.3
"""By so much phrases differ from what clicks without an ad usually convert."""
_BETA_WEIGHT: Final = 20.0
_LEAST_FREE: Final = 5
QUANTILE: Final = 0.40
CAREFUL: Final = 0.15
"""Where accounts begin: in simulated markets more phrases pay than at 0.40, at no less profit (docs/reach.md)."""
_MOST_BID: Final = 1.5
_RATIO: Final = (0.5, 2.0)
_RANGE: Final = (0.1, 0.9)


def free_rate(clicks: Floats, orders: Floats, cvr: Floats) -> float:
    """
    How much more or less often those buy who come without an ad: β of an account.

    clicks, orders: without ads, of own search terms that were bought; cvr: what each converts by ads.
    """
    use = clicks >= _LEAST_FREE
    due = clicks[use] * cvr[use]
    weight = 1 / (1 + _FREE_SPREAD**2 * due)
    return float((_BETA_WEIGHT + (weight * orders[use]).sum()) / (_BETA_WEIGHT + (weight * due).sum()))


def posterior(rows: pl.DataFrame, strength: float, beta: float) -> pl.DataFrame:
    """
    What phrases are expected to convert, with what came without ads.

    Parameters
    ----------
    rows : frame
        mean, unsure (see `market_fit.expected`), free_clicks, free_orders.
    strength : number
        How far search terms scatter around their levels (s).
    beta : number
        See `free_rate`.

    Returns
    -------
    frame
        clicks_worth (s_r: what the levels are worth), a, b (of the posterior), cvr (its mean).
    """
    m, u, clicks, orders = (
        rows[name].cast(pl.Float64).to_numpy() for name in ("mean", "unsure", "free_clicks", "free_orders")
    )
    worth = Means(m, u, clicks, orders).strength(strength)
    weight = 1 / (1 + _FREE_SPREAD**2 * clicks * m * beta)
    a = m * worth + weight * np.minimum(orders, clicks)
    cvr = np.minimum(MOST_MEAN, a / (worth + weight * clicks * beta))
    return pl.DataFrame({"clicks_worth": worth, "a": a, "b": a * (1 - cvr) / cvr, "cvr": cvr})


def advised(
    rows: pl.DataFrame, response: ClickResponse, rule: BidRule = STANDARD_RULE, quantile: float = QUANTILE
) -> pl.DataFrame:
    """
    The bid at which each phrase would pay, how likely it pays at the usual price, and what 28 days would bring.

    Parameters
    ----------
    rows : frame
        a, b, cvr; price (π: usual price of a click of its product), usual_bid (as offered, adjustments included), aov,
        target_acos (T), goal_acos (T*), margin (null where unknown), multiplier (of the campaign that it goes to),
        floor, ceiling; volume (searches a week, null where unknown), per_search (clicks for each search).
    response : ClickResponse
        How clicks answer bids.
    quantile : probability
        Of the posterior at which the bid is right; 0.25 is careful.

    Returns
    -------
    frame
        In the same order: bid (bare, rounded; null where it is below the floor), offered (adjustments included), pays
        (P that it pays at the usual price), clicks, spend, sales and gain of 28 days (null without a volume),
        sales_low, sales_high (80 %).

    References
    ----------
    docs/calculations.md, “Reach”.
    """
    a, b = rows["a"].to_numpy(), rows["b"].to_numpy()
    low, high = (betaincinv(a, b, at) for at in _RANGE)
    needed = (rows["price"] / (rows["aov"] * rows["target_acos"])).fill_null(float("nan")).to_numpy()
    with np.errstate(invalid="ignore"):
        pays = np.where(needed >= 1, 0.0, 1 - betainc(a, b, np.clip(needed, 0.0, 1.0)))
    ratio = (pl.col("usual_bid") / pl.col("price")).clip(*_RATIO)
    raised = pl.col("offered") / pl.col("usual_bid")
    value = pl.col("clicks") * pl.col("aov")
    return (
        rows.with_columns(
            pays=pl.Series(pays, nan_to_null=True),
            at_quantile=pl.Series(betaincinv(a, b, quantile)),
            low=pl.Series(low),
            high=pl.Series(high),
            ratio=ratio,
        )
        .with_columns(
            offered=pl.min_horizontal(
                pl.col("goal_acos") * pl.col("aov") * pl.col("at_quantile") * pl.col("ratio"),
                _MOST_BID * pl.col("usual_bid"),
            )
        )
        .with_columns(
            bare=pl.col("offered") / pl.col("multiplier"),
            clicks=DAYS
            / 7
            * pl.col("volume")
            * pl.col("per_search")
            * pl.min_horizontal(pl.lit(1.0), raised.pow(response.e)),
        )
        .with_columns(
            bid=pl.when(pl.col("bare") >= pl.col("floor")).then(
                to_coin(pl.min_horizontal("bare", pl.max_horizontal("ceiling", "floor")), rule)
            ),
            spend=pl.col("clicks") * pl.col("offered") / pl.col("ratio"),
            sales=value * pl.col("cvr"),
            sales_low=value * pl.col("low"),
            sales_high=value * pl.col("high"),
        )
        .select(
            "bid",
            "offered",
            "pays",
            "clicks",
            "spend",
            "sales",
            "sales_low",
            "sales_high",
            gain=pl.col("sales") * pl.coalesce("margin", "target_acos") - pl.col("spend"),
        )
    )


def clicks_per_search(clicks: float, searches: float) -> float | None:
    """
    Clicks for each search that an account's exact targets of a known volume get; None under 200 clicks.

    One for all products: targets of one product differ so much that a product's own few say little of the next, and
    its own figure would reward products whose targets were lucky (docs/reach.md).
    """
    return clicks / searches if clicks >= ENOUGH_FOR_SEARCHES and searches > 0 else None


def likeliest_category(known: pl.DataFrame, asked: pl.DataFrame) -> pl.DataFrame:
    """
    The category whose phrases are made of a phrase's words most, where no list tells it.

    Parameters
    ----------
    known : frame
        category, word_id: a row for each word of each phrase of a known category.
    asked : frame
        normal_id, word_id: the words of phrases without one.

    Returns
    -------
    frame
        normal_id, category: the likeliest by its words (naive Bayes, a word more for each), of equals the first by
        name; phrases none of whose words is known are left out.
    """
    words = known["word_id"].n_unique()
    whole = known.group_by("category").agg(all=pl.len())
    counts = known.group_by("category", "word_id").agg(count=pl.len())
    here = asked.join(known.select("word_id").unique(), on="word_id", how="semi")
    return (
        here.join(whole, how="cross")
        .join(counts, on=["category", "word_id"], how="left")
        .with_columns(log=((pl.col("count").fill_null(0) + 1) / (pl.col("all") + words)).log())
        .group_by("normal_id", "category")
        .agg(pl.col("log").sum())
        .sort(["normal_id", "log", "category"], descending=[False, True, False])
        .unique("normal_id", keep="first", maintain_order=True)
        .select("normal_id", "category")
    )


class LeftOut(StrEnum):
    """Why a phrase is no candidate, as it follows a count; the first that applies."""

    OWN_BRAND = "with your own brand"
    RIVAL_BRAND = "with a rival’s brand"
    NEVER = "with a word never to bid on"
    OTHER_CATEGORY = "of another category"
    NEGATIVE = "shut out by a negative"
    NO_PRODUCT = "without an advertised product"


class Stays(StrEnum):
    """Why a phrase is not proposed; the first that applies."""

    NO_VOLUME = "volume unknown"
    NO_PRICE = "price of a click unknown"
    BELOW_FLOOR = "bid below the lowest"
    UNLIKELY = "unlikely to pay"
    SMALL = "small gain"


def stays(least_pays: float = PAYS_AT, least_gain: float = LEAST_GAIN) -> pl.Expr:
    """Why phrases are not proposed, null for those that are, over the columns of `advised`, price and volume."""
    return (
        pl.when(pl.col("price").is_null())
        .then(pl.lit(Stays.NO_PRICE.value))
        .when(pl.col("pays") < least_pays)
        .then(pl.lit(Stays.UNLIKELY.value))
        .when(pl.col("bid").is_null())
        .then(pl.lit(Stays.BELOW_FLOOR.value))
        .when(pl.col("volume").is_null())
        .then(pl.lit(Stays.NO_VOLUME.value))
        .when(pl.col("gain") < least_gain)
        .then(pl.lit(Stays.SMALL.value))
    )
