"""What happens in the world day by day: impressions, then every single click and order."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, timedelta

import numpy as np
import polars as pl

from nimbus_reef.sim.delivery import HOUR_EASE
from nimbus_reef.sim.world import World

_WEEKDAYS = np.array([1.0, 0.95, 0.94, 0.98, 1.03, 1.16, 1.22])
_BID_RESPONSE = 0.6
_PAID = (0.72, 1.0)
_MEAN_PAID = sum(_PAID) / 2
EXTRA_UNITS = 0.07
MATURES_IN = 3
_SAME_DAY = 0.62
"""Part of the orders that a marketplace attributes on the day of the click; the rest within days."""
_VISITS_PER_CLICK = 1.2
ORGANIC_CVR = 0.8
"""Conversion of who comes without an ad, beside the product's own."""


@dataclass(frozen=True, slots=True)
class Trade:
    """
    Everything that happened. shown: pair × day impressions. clicked: one row a click.

    clicked: pair_no, target_no, day, product_no, cost, ordered, units, sales (money in
    units of currency), known (the day on which the order is attributed to the click), ease (what is special
    about it: the product in this ad group, place and hour), place and hour (of a world with delivery).
    visits: product × day without ads: product_no, day, sessions, orders, units, sales. dry: campaign_no, day, at: when
    a budget was gone, in hours. missed: clicks that did not happen for it: as `clicked`.
    """

    shown: pl.DataFrame
    clicked: pl.DataFrame
    visits: pl.DataFrame
    dry: pl.DataFrame = field(default_factory=pl.DataFrame)
    missed: pl.DataFrame = field(default_factory=pl.DataFrame)


def run(world: World, seed: int, last_day: date, often: np.ndarray | None = None) -> Trade:
    """
    Draws the world's days up to `last_day`. often: visits a day without an ad, by product, where they are known from
    earlier days.
    """
    rng = np.random.default_rng([seed, 7, *world.spec.key.encode()])
    pair_target = world.pairs["target_no"].to_numpy()
    query_no = world.pairs["query_no"].to_numpy()
    ctr = world.queries["ctr"].to_numpy()[query_no]
    eager, paid = _answered(world)
    swing = _season(world.days, last_day)
    reach = np.ones(len(pair_target))
    if world.delivery is not None:
        swing = swing * world.delivery.lift(world.days)
        reach = world.delivery.shares().sum(axis=1)[world.targets["campaign_no"].to_numpy()[pair_target]]
    shown, clicks_at = [], []
    for day in range(world.days):
        impressions = rng.poisson(world.pairs["pull"].to_numpy() * swing[day] * eager[pair_target, day] * reach)
        clicks = rng.binomial(impressions, np.minimum(0.5, ctr))
        seen = np.flatnonzero(impressions)
        shown.append(
            pl.DataFrame({"pair_no": seen, "impressions": impressions[seen]}).with_columns(day=pl.lit(day, pl.Int64))
        )
        clicks_at.append(np.repeat(np.arange(len(clicks)), clicks))
    pair = np.concatenate(clicks_at)
    day_of = np.repeat(np.arange(world.days), [len(each) for each in clicks_at])
    clicked = _clicks(world, pair, pair_target[pair], day_of, paid, rng)
    visits = _visits(world, clicked, swing, rng, often)
    if world.delivery is None:
        return Trade(pl.concat(shown), clicked, visits)
    return _within_budgets(world, Trade(pl.concat(shown), clicked, visits), rng, last_day)


def _answered(world: World) -> tuple[np.ndarray, np.ndarray]:
    """Target × day: how often it is shown beside its first bid, and the most that a click costs."""
    first = world.targets["bid"].to_numpy()
    if world.auction is None:
        return (world.bids / first[:, None]) ** _BID_RESPONSE, world.bids
    usual, _ = world.auction.answer(first)
    eager, paid = np.empty(world.bids.shape), np.empty(world.bids.shape)
    for day in range(world.days):
        if day and np.array_equal(world.bids[:, day], world.bids[:, day - 1]):
            eager[:, day], paid[:, day] = eager[:, day - 1], paid[:, day - 1]
            continue
        shown, price = world.auction.answer(world.bids[:, day])
        eager[:, day], paid[:, day] = shown / usual, price / _MEAN_PAID
    return eager, paid


def _within_budgets(world: World, trade: Trade, rng: np.random.Generator, last_day: date) -> Trade:
    """What is left of a trade where each campaign stops for the day once its budget is gone."""
    delivery = world.delivery
    assert delivery is not None
    first = last_day - timedelta(days=world.days - 1)
    budgets = np.array(
        [
            [delivery.budget_on(number, (first + timedelta(days=day)).isoweekday()) for day in range(world.days)]
            for number in range(len(world.campaigns))
        ]
    )
    minute = pl.Series("minute", rng.random(len(trade.clicked)))
    timed = trade.clicked.with_columns(at=pl.col("hour") + minute).sort("campaign_no", "day", "at", maintain_order=True)
    budget = budgets[timed["campaign_no"].to_numpy(), timed["day"].to_numpy()]
    before = pl.col("cost").cum_sum().over("campaign_no", "day") - pl.col("cost")
    timed = timed.with_columns(budget=pl.Series(budget)).with_columns(gone=before >= pl.col("budget"))
    # The click that uses up the budget is the last.
    dry = (
        timed.with_columns(spent=before + pl.col("cost"))
        .filter(~pl.col("gone") & (pl.col("spent") >= pl.col("budget")))
        .group_by("campaign_no", "day", maintain_order=True)
        .agg(pl.col("at").max())
    )
    done = timed.filter(~pl.col("gone")).drop("at", "budget", "gone")
    return Trade(
        _thinned(world, trade.shown, done, dry, rng),
        done,
        trade.visits,
        dry,
        timed.filter("gone").drop("at", "budget", "gone"),
    )


def alive(world: World, campaign: np.ndarray, at: np.ndarray) -> np.ndarray:
    """The part of a day's impressions that a campaign gets by an hour of the day."""
    assert world.delivery is not None
    clock = np.hstack([np.zeros((len(world.campaigns), 1)), np.cumsum(world.delivery.clock(), axis=1)])
    hour = np.minimum(23, at.astype(np.int64))
    low, high = clock[campaign, hour], clock[campaign, hour + 1]
    return np.asarray(low + (high - low) * (at - hour))


def _thinned(
    world: World, shown: pl.DataFrame, clicked: pl.DataFrame, dry: pl.DataFrame, rng: np.random.Generator
) -> pl.DataFrame:
    """Impressions of days that ran dry: those before, and never fewer than the clicks."""
    left = dry.with_columns(left=pl.Series(alive(world, dry["campaign_no"].to_numpy(), dry["at"].to_numpy())))
    campaign = world.targets["campaign_no"].to_numpy()[world.pairs["target_no"].to_numpy()]
    frame = (
        shown.with_columns(campaign_no=pl.Series(campaign[shown["pair_no"].to_numpy()], dtype=pl.Int64))
        .join(left.select("campaign_no", "day", "left"), on=["campaign_no", "day"], how="left")
        .join(
            clicked.group_by("pair_no", "day").agg(pl.len().cast(pl.Int64).alias("seen")),
            on=["pair_no", "day"],
            how="left",
        )
        .with_columns(pl.col("left").fill_null(1.0), pl.col("seen").fill_null(0))
    )
    kept = rng.binomial(frame["impressions"].to_numpy(), frame["left"].to_numpy())
    return (
        frame.with_columns(impressions=pl.max_horizontal(pl.Series(kept).cast(pl.Int64), "seen"))
        .filter(pl.col("impressions") > 0)
        .select(shown.columns)
    )


def _visits(
    world: World, clicked: pl.DataFrame, swing: np.ndarray, rng: np.random.Generator, often: np.ndarray | None
) -> pl.DataFrame:
    """Shoppers who came without an ad: more of them where the product is worth more of a look."""
    products, days = len(world.products), world.days
    if often is None:
        drawn = np.bincount(clicked["product_no"].to_numpy(), minlength=products) / days
        # Whoever has no ads is found all the same.
        drawn = np.where(drawn > 0, drawn, np.median(drawn[drawn > 0]))
        often = (drawn + 1.0) * _VISITS_PER_CLICK * rng.lognormal(0, 0.35, products)
    sessions = rng.poisson(often[:, None] * swing[None, :])
    usual = ORGANIC_CVR * world.products["cvr"].to_numpy()[:, None] * world.mood
    orders = rng.binomial(sessions, np.minimum(0.5, usual))
    units = orders + rng.binomial(orders, EXTRA_UNITS)
    price = world.products["price"].to_numpy()[:, None]
    return pl.DataFrame(
        {
            "product_no": np.repeat(np.arange(products), days),
            "day": np.tile(np.arange(days), products),
            "sessions": sessions.ravel(),
            "orders": orders.ravel(),
            "units": units.ravel(),
            "sales": np.round(units * price, 2).ravel(),
        }
    )


def _season(days: int, last_day: date) -> np.ndarray:
    """Weekdays, and a slow swell over the months."""
    dates = [last_day - timedelta(days=days - 1 - index) for index in range(days)]
    weekday = _WEEKDAYS[[each.weekday() for each in dates]]
    slow = 1 + 0.12 * np.sin(2 * np.pi * np.array([each.timetuple().tm_yday for each in dates]) / 182)
    return weekday * slow


def true_rates(world: World) -> np.ndarray:
    """
    The true conversion of every (pair, product) is product × intent × appeal; here the part
    that does not depend on the product, per pair.
    """
    intent = world.queries["intent"].to_numpy()[world.pairs["query_no"].to_numpy()]
    appeal = world.targets["appeal"].to_numpy()[world.pairs["target_no"].to_numpy()]
    return np.asarray(intent * appeal)


def true_conversion(
    world: World, pair: np.ndarray, product: np.ndarray, day: np.ndarray, ease: np.ndarray | None = None
) -> np.ndarray:
    """The chance that a click becomes an order; ease: what is special about it besides."""
    usual = world.products["cvr"].to_numpy()[product] * world.mood[product, day]
    return np.asarray(np.minimum(0.6, usual * true_rates(world)[pair] * (1.0 if ease is None else ease)))


def _clicks(
    world: World, pair: np.ndarray, target: np.ndarray, day: np.ndarray, paid: np.ndarray, rng: np.random.Generator
) -> pl.DataFrame:
    group = world.targets["ad_group_no"].to_numpy()[target]
    product, fit = _chosen_products(world, group, rng)
    campaign = world.targets["campaign_no"].to_numpy()[target]
    place, hour, price = np.zeros(len(pair), np.int64), np.zeros(len(pair), np.int64), np.ones(len(pair))
    ease = fit
    if world.delivery is not None:
        product, fit = _while_allowed(world, group, product, fit, day, rng)
        place, hour = (_drawn(weights, campaign, rng) for weights in (world.delivery.shares(), world.delivery.clock()))
        ease = fit * world.delivery.ease[campaign, place] * HOUR_EASE[hour]
        price = world.delivery.prices()[campaign, place] * (1 + world.delivery.bid_boosts()[campaign, hour])
    nobody = product < 0
    cvr = true_conversion(world, pair, np.maximum(product, 0), day, ease)
    ordered = rng.random(len(pair)) < cvr
    units = np.where(ordered, 1 + rng.poisson(EXTRA_UNITS, len(pair)), 0)
    cost = np.round(paid[target, day] * rng.uniform(*_PAID, len(pair)) * price, 2)
    sales = np.round(units * world.products["price"].to_numpy()[np.maximum(product, 0)], 2)
    clicked = pl.DataFrame(
        {
            "pair_no": pair,
            "target_no": target,
            "day": day,
            "product_no": product,
            "cost": cost,
            "ordered": ordered.astype(np.int64),
            "units": units,
            "sales": sales,
            "known": day + np.minimum(rng.geometric(_SAME_DAY, len(pair)) - 1, MATURES_IN),
            "ease": ease,
            "campaign_no": campaign.astype(np.int64),
            "place": place,
            "hour": hour,
        }
    )
    return clicked.filter(~pl.Series(nobody))


def _drawn(weights: np.ndarray, campaign: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """One column for each click, by its campaign's weights."""
    edges = np.cumsum(weights / weights.sum(axis=1, keepdims=True), axis=1)
    return np.asarray(
        np.minimum((rng.random(len(campaign))[:, None] > edges[campaign]).sum(axis=1), weights.shape[1] - 1)
    )


def _chosen_products(world: World, group: np.ndarray, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Which of the ad group's products each click went to, by their shares, and how it fits there."""
    chosen = np.zeros(len(group), dtype=np.int64)
    fit = np.ones(len(group))
    for (number,), part in world.ad_products.group_by("ad_group_no", maintain_order=True):
        here = np.flatnonzero(group == number)
        share = part["share"].to_numpy()
        picked = rng.choice(len(part), len(here), p=share / share.sum())
        chosen[here], fit[here] = part["product_no"].to_numpy()[picked], part["fit"].to_numpy()[picked]
    return chosen, fit


def _while_allowed(
    world: World, group: np.ndarray, product: np.ndarray, fit: np.ndarray, day: np.ndarray, rng: np.random.Generator
) -> tuple[np.ndarray, np.ndarray]:
    """
    Clicks of products that may not be advertised on a day go to their siblings in the ad group, or
    to nobody (-1).
    """
    never = world.days
    lost_on = world.products["lost_on"].fill_null(never).to_numpy()
    product, fit = product.copy(), fit.copy()
    shut = np.flatnonzero(lost_on[product] <= day)
    for number in np.unique(group[shut]):
        part = world.ad_products.filter(pl.col("ad_group_no") == int(number))
        here = shut[group[shut] == number]
        may = lost_on[part["product_no"].to_numpy()] >= never
        if not may.any():
            product[here] = -1
            continue
        share = part["share"].to_numpy() * may
        picked = rng.choice(len(part), len(here), p=share / share.sum())
        product[here], fit[here] = part["product_no"].to_numpy()[picked], part["fit"].to_numpy()[picked]
    return product, fit
