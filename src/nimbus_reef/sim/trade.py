"""What happens in the world day by day: impressions, then every single click and order."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, timedelta

import numpy as np
import polars as pl

from nimbus_reef.sim.world import World

_WEEKDAYS = np.array([1.0, 0.95, 0.94, 0.98, 1.03, 1.16, 1.22])
_BID_RESPONSE = 0.6
EXTRA_UNITS = 0.07
MATURES_IN = 3
_SAME_DAY = 0.62
"""Part of the orders that a marketplace attributes on the day of the click; the rest within days."""
_VISITS_PER_CLICK = 1.2


@dataclass(frozen=True, slots=True)
class Trade:
    """
    Everything that happened. shown: pair × day impressions. clicked: one row a click.

    clicked: pair_no, target_no, day, product_no, cost, ordered, units, sales (money in
    units of currency), known (the day on which the order is attributed to the click).
    visits: product × day without ads: product_no, day, sessions, orders, units, sales.
    """

    shown: pl.DataFrame
    clicked: pl.DataFrame
    visits: pl.DataFrame


def run(world: World, seed: int, last_day: date) -> Trade:
    """Draws the world's days up to `last_day`."""
    rng = np.random.default_rng([seed, 7, *world.spec.key.encode()])
    pair_target = world.pairs["target_no"].to_numpy()
    query_no = world.pairs["query_no"].to_numpy()
    ctr = world.queries["ctr"].to_numpy()[query_no]
    first_bid = world.targets["bid"].to_numpy()
    swing = _season(world.days, last_day)
    shown, clicks_at = [], []
    for day in range(world.days):
        eager = (world.bids[:, day] / first_bid) ** _BID_RESPONSE
        impressions = rng.poisson(world.pairs["pull"].to_numpy() * swing[day] * eager[pair_target])
        clicks = rng.binomial(impressions, np.minimum(0.5, ctr))
        seen = np.flatnonzero(impressions)
        shown.append(
            pl.DataFrame({"pair_no": seen, "impressions": impressions[seen]}).with_columns(
                day=pl.lit(day, pl.Int64)
            )
        )
        clicks_at.append(np.repeat(np.arange(len(clicks)), clicks))
    pair = np.concatenate(clicks_at)
    day_of = np.repeat(np.arange(world.days), [len(each) for each in clicks_at])
    clicked = _clicks(world, pair, pair_target[pair], day_of, rng)
    return Trade(pl.concat(shown), clicked, _visits(world, clicked, swing, rng))


def _visits(world: World, clicked: pl.DataFrame, swing: np.ndarray, rng: np.random.Generator) -> pl.DataFrame:
    """Shoppers who came without an ad: more of them where the product is worth more of a look."""
    products, days = len(world.products), world.days
    drawn = np.bincount(clicked["product_no"].to_numpy(), minlength=products) / days
    often = (drawn + 1.0) * _VISITS_PER_CLICK * rng.lognormal(0, 0.35, products)
    sessions = rng.poisson(often[:, None] * swing[None, :])
    usual = 0.8 * world.products["cvr"].to_numpy()[:, None] * world.mood
    orders = rng.binomial(sessions, np.minimum(0.5, usual))
    units = orders + rng.binomial(orders, EXTRA_UNITS)
    price = world.products["price"].to_numpy()[:, None]
    return pl.DataFrame(
        {
            "product_no": np.repeat(np.arange(products), days), "day": np.tile(np.arange(days), products),
            "sessions": sessions.ravel(), "orders": orders.ravel(), "units": units.ravel(),
            "sales": np.round(units * price, 2).ravel(),
        }
    )  # fmt: skip


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


def true_conversion(world: World, pair: np.ndarray, product: np.ndarray, day: np.ndarray) -> np.ndarray:
    """The chance that a click becomes an order."""
    usual = world.products["cvr"].to_numpy()[product] * world.mood[product, day]
    return np.asarray(np.minimum(0.6, usual * true_rates(world)[pair]))


def _clicks(
    world: World, pair: np.ndarray, target: np.ndarray, day: np.ndarray,
    rng: np.random.Generator,
) -> pl.DataFrame:  # fmt: skip
    group = world.targets["ad_group_no"].to_numpy()[target]
    product = _chosen_products(world, group, rng)
    cvr = true_conversion(world, pair, product, day)
    ordered = rng.random(len(pair)) < cvr
    units = np.where(ordered, 1 + rng.poisson(EXTRA_UNITS, len(pair)), 0)
    cost = np.round(world.bids[target, day] * rng.uniform(0.72, 1.0, len(pair)), 2)
    sales = np.round(units * world.products["price"].to_numpy()[product], 2)
    return pl.DataFrame(
        {
            "pair_no": pair, "target_no": target, "day": day, "product_no": product,
            "cost": cost, "ordered": ordered.astype(np.int64), "units": units, "sales": sales,
            "known": day + np.minimum(rng.geometric(_SAME_DAY, len(pair)) - 1, MATURES_IN),
        }
    )  # fmt: skip


def _chosen_products(world: World, group: np.ndarray, rng: np.random.Generator) -> np.ndarray:
    """Which of the ad group's products each click went to, by their shares."""
    chosen = np.zeros(len(group), dtype=np.int64)
    for (number,), part in world.ad_products.group_by("ad_group_no", maintain_order=True):
        here = np.flatnonzero(group == number)
        share = part["share"].to_numpy()
        chosen[here] = rng.choice(part["product_no"].to_numpy(), len(here), p=share / share.sum())
    return chosen
