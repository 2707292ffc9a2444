"""Where and when the world's ads are shown: placements, hours of the day, budgets that run dry, boosts."""

from __future__ import annotations

from dataclasses import replace
from datetime import date, timedelta
from typing import Final

import numpy as np
import polars as pl

from nimbus_reef.sim.schedule import ADJUSTED, CLOCK, RESPONSE, Delivery, Event, Raise
from nimbus_reef.sim.world import World, reaching

_EASE: Final = np.array([1.4, 0.95, 0.68])
_OFF_SITE_EASE: Final = {"pellwick-gb": 1.15}
"""What a click from outside converts like, beside one on the marketplace; elsewhere it rarely buys."""
_OFF_SITE_RARELY: Final = 0.1
_USUAL: Final = {
    "auto": (0.26, 0.30, 0.24, 0.20),
    "broad": (0.30, 0.34, 0.20, 0.16),
    "phrase": (0.40, 0.34, 0.18, 0.08),
    "exact": (0.52, 0.36, 0.12, 0.0),
    "item": (0.05, 0.10, 0.80, 0.05),
    "display": (0.0, 0.0, 0.55, 0.45),
}
"""Shares of impressions by match type, or of display ads."""
_OFTEN_LIMITED: Final = 0.35
_EVENING: Final = np.array([0.62] * 6 + [0.85] * 3 + [0.96] * 8 + [1.12] * 2 + [1.3] * 4 + [0.9])
"""What an hour does to conversion."""
_TIGHT, _IDLE = 3, 3
_TIGHT_AT: Final = 0.6
_EARNS: Final = 0.9


HOUR_EASE: Final = _EVENING
ORGANIC_CLOCK: Final = CLOCK * _EVENING / (CLOCK * _EVENING).sum()


def settle(world: World, seed: int) -> World:
    """The world with its delivery: budgets that fit most campaigns, starve a few that sell well, and idle in others."""
    rng = np.random.default_rng([seed, 19, *world.spec.key.encode()])
    campaigns = world.campaigns.to_dicts()
    usual = np.array([_USUAL[_shown_as(world, each)] for each in campaigns])
    places = rng.gamma(usual * 40 + 1e-9)
    limited = (rng.random(len(campaigns)) < _OFTEN_LIMITED) & (usual[:, 3] > 0)
    places[limited, 3] *= 0.05
    places /= places.sum(axis=1, keepdims=True)
    ease = _EASE * rng.lognormal(0, 0.12, (len(campaigns), ADJUSTED))
    on_site = places[:, :ADJUSTED] / np.maximum(1e-9, places[:, :ADJUSTED].sum(axis=1, keepdims=True))
    ease /= np.maximum(1e-9, (on_site * ease).sum(axis=1, keepdims=True))
    off = _OFF_SITE_EASE.get(world.spec.key, _OFF_SITE_RARELY)
    ease = np.hstack([ease, np.full((len(campaigns), 1), off)])
    adjustments = np.zeros((len(campaigns), ADJUSTED))
    raised = rng.random(len(campaigns)) < 0.3
    adjustments[raised, 0] = rng.choice([0.2, 0.3, 0.5], int(raised.sum()))
    spent = expected_spend(world)
    tight, idle = _picked(world, spent, rng)
    budgets = np.ceil(spent.max(axis=1) * rng.uniform(1.5, 2.0, len(campaigns)) + 3)
    budgets[list(tight)] = np.maximum(2, np.round(spent[list(tight)].mean(axis=1) * _TIGHT_AT, 1))
    budgets[list(idle)] = np.ceil(spent[list(idle)].max(axis=1) * 5 + 10)
    boosts = (
        Raise("after work", tight[0], "bid", 20, from_hour=18, to_hour=22),
        Raise("weekend", tight[-1], "budget", 30, weekdays=(6, 7)),
    )
    events = (Event("Tide days", 12, 14), Event("Lantern week", world.days + 11, world.days + 14))
    delivery = Delivery(places, ease, adjustments, budgets, limited, tight, idle, boosts, events)
    return replace(world, delivery=delivery, campaigns=world.campaigns.with_columns(daily_budget=pl.Series(budgets)))


def _shown_as(world: World, campaign: dict[str, object]) -> str:
    if campaign["format"] == "display":
        return "display"
    own = world.targets.filter(pl.col("campaign_no") == campaign["campaign_no"])["match_type"]
    match = str(own[0]) if len(own) else "broad"
    return "item" if match == "category" else match


def expected_spend(world: World) -> np.ndarray:
    """Campaign × day: what would be spent on a usual weekday without a budget, in units."""
    pair_target = world.pairs["target_no"].to_numpy()
    ctr = np.minimum(0.5, world.queries["ctr"].to_numpy()[world.pairs["query_no"].to_numpy()])
    clicks = np.bincount(pair_target, world.pairs["pull"].to_numpy() * ctr, len(world.targets))
    first = world.targets["bid"].to_numpy()[:, None]
    money = clicks[:, None] * (world.bids / first) ** RESPONSE * world.bids * 0.86
    campaign = world.targets["campaign_no"].to_numpy()
    spent = np.zeros((len(world.campaigns), world.days))
    np.add.at(spent, campaign, money)
    return spent


def _picked(world: World, spent: np.ndarray, rng: np.random.Generator) -> tuple[tuple[int, ...], tuple[int, ...]]:
    """Campaigns that earn and are to run dry, the largest of exact and phrase; and others that idle."""
    usual = spent.mean(axis=1)
    cost = reaching(world)
    names = world.campaigns["campaign"].to_list()
    typed = [number for number in np.argsort(-usual) if names[number].endswith(("exact", "phrase"))]
    # Those that earn, the largest first; where too few do, whoever comes nearest.
    best = sorted(typed[: len(typed) // 2], key=lambda number: max(_EARNS, cost[number]))
    tight = tuple(int(number) for number in best[:_TIGHT])
    rest = [number for number in np.argsort(-usual)[: len(names) // 2] if number not in tight]
    idle = tuple(int(number) for number in rng.permutation(rest)[:_IDLE])
    return tight, idle


def boosts_frame(world: World, last_day: date) -> pl.DataFrame:
    """The raises in force, in the contract's words."""
    delivery = world.delivery
    assert delivery is not None
    first = last_day - timedelta(days=world.days - 1)
    rows = [
        {
            "name": boost.name,
            "campaign": world.campaigns["campaign"][boost.campaign_no],
            "what": boost.what,
            "from": first,
            "to": last_day + timedelta(days=90),
            "weekdays": " ".join(map(str, boost.weekdays)),
            "from_hour": boost.from_hour,
            "to_hour": boost.to_hour,
            "percent": boost.percent,
            "condition": "",
        }
        for boost in delivery.boosts
    ]
    return pl.DataFrame(rows)


def events_frame(world: World, last_day: date) -> pl.DataFrame:
    """The sale events, past and to come."""
    delivery = world.delivery
    assert delivery is not None
    first = last_day - timedelta(days=world.days - 1)
    rows = [
        {
            "name": each.name,
            "from": first + timedelta(days=each.first),
            "to": first + timedelta(days=each.last),
            "country": world.spec.country,
        }
        for each in delivery.events
    ]
    return pl.DataFrame(rows)
