"""One brand, simulated whole: its world, what happened, its report files, and the truth."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

import polars as pl

from nimbus_reef.sim import delivery, market, muddle, peers, phrases, reports, stories, trade, world
from nimbus_reef.sim.auction import auction
from nimbus_reef.sim.muddle import Muddle
from nimbus_reef.sim.phrases import Phrases
from nimbus_reef.sim.stories import Stories
from nimbus_reef.sim.trade import Trade
from nimbus_reef.sim.vocabulary import BrandSpec
from nimbus_reef.sim.world import World


@dataclass(frozen=True, slots=True)
class Simulated:
    """
    One brand, simulated. frames: by report kind; truth: what no report tells; searched: what shoppers search for
    besides.
    """

    world: World
    trade: Trade
    stories: Stories
    muddle: Muddle
    frames: dict[str, pl.DataFrame]
    truth: dict[str, Any]
    searched: Phrases


def simulate(
    spec: BrandSpec,
    seed: int,
    days: int,
    last_day: date,
    *,
    in_auction: bool = False,
    phrases_each: int = phrases.PER_CATEGORY,
) -> Simulated:
    """
    A brand's world with its stories, what happened in it, its reports and its truth. in_auction: clicks and prices
    answer bids as in `sim.auction`; phrases_each: how many phrases of each category were never bought.
    """
    built, result = stories.tell(world.build(spec, seed, days))
    built, grown = muddle.add(built, result, seed)
    built = delivery.settle(built, seed)
    if in_auction:
        built = replace(built, auction=auction(built.targets, seed))
    happened = trade.run(built, seed, last_day)
    first_day = last_day - timedelta(days=days - 1)
    searched = phrases.build(built, seed, last_day, phrases_each)
    frames = reports.reports(built, happened, last_day, seed) | {
        "boosts": delivery.boosts_frame(built, last_day),
        "events": delivery.events_frame(built, last_day),
        "changes": reports.changes(built, last_day),
        "listings": reports.listings(built, result, seed, last_day),
        "peer_benchmarks": peers.benchmarks(spec, seed, first_day, last_day),
        "peer_format_mix": peers.format_mix(spec, seed, first_day, last_day),
        "query_funnel": pl.concat(
            [market.funnel(built, happened, seed, last_day), phrases.free_clicks(built, searched, seed, last_day)],
            how="diagonal_relaxed",
        ),
        "rivals": phrases.rivals(searched),
        "keyword_ranks": phrases.keyword_ranks(searched, last_day, seed),
        "phrase_lists": phrases.phrase_lists(searched, seed),
    }
    # Few days have no whole week in them, and no bid was moved: a marketplace hands out no empty file.
    frames = {kind: frame for kind, frame in frames.items() if len(frame)}
    truth = reports.truth(built, happened) | {
        "stories": _told(result),
        "muddle": reports.told_of_muddle(grown, last_day, days),
        "phrases": phrases.truth(built, searched),
    }
    return Simulated(built, happened, result, grown, frames, truth, searched)


def _told(result: Stories) -> dict[str, object]:
    parts = ("collapsed", "bought", "gained", "leaked", "lost")
    return {name: list(getattr(result, name)) for name in parts} | {"turn": result.turn, "broke": result.broke}
