"""A world's next days, with what was changed in its campaigns meanwhile."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.sim.phrases import EXACT_APPEAL, Phrases
from nimbus_reef.sim.schedule import ADJUSTED, PLACES, Delivery, Event, Raise
from nimbus_reef.sim.settings import Held, HeldSettings, Key
from nimbus_reef.sim.world import World, pairs_of

_OFF_SITE_LIMITED: Final = 0.05
_MOST_BACK: Final = 0.9
"""Up to so much of what is stopped comes back under other targets that the same searches meet."""
_NEW_CAMPAIGN: Final = np.array([0.45, 0.35, 0.18, 0.02])
_DEFAULT_EASE: Final = np.array([1.4, 0.95, 0.68, 0.1])


def grown(world: World, settings: HeldSettings, market: Phrases, seed: int) -> World:
    """The world with the campaigns, ad groups, product ads and targets that it does not hold yet, each numbered."""
    rng = np.random.default_rng([seed, 41, len(world.targets)])
    world = _with_campaigns(world, settings)
    world = _with_groups(world, settings)
    world = _with_ads(world, settings)
    world = _with_targets(world, settings, market, rng)
    names = {int(held["no"]): key[0] for key, held in settings.things["campaign"].items()}
    renamed = [names.get(number, name) for number, name in world.campaigns.select("campaign_no", "campaign").rows()]
    return replace(world, campaigns=world.campaigns.with_columns(campaign=pl.Series(renamed)))


def _fresh(things: Mapping[Key, Held]) -> list[tuple[Key, Held]]:
    return [(key, held) for key, held in things.items() if "no" not in held]


def _more(frame: pl.DataFrame, rows: Iterable[Mapping[str, Any]]) -> pl.DataFrame:
    listed = list(rows)
    return pl.concat([frame, pl.DataFrame(listed, schema=frame.schema)]) if listed else frame


def _with_campaigns(world: World, settings: HeldSettings) -> World:
    rows: list[dict[str, Any]] = []
    for key, held in _fresh(settings.things["campaign"]):
        held["no"] = str(len(world.campaigns) + len(rows))
        for name, usual in (("bidding", "fixed"), ("offsite_limited", "no"), ("format", "product"), ("portfolio", "")):
            held.setdefault(name, usual)
        budget = float(held.setdefault("daily_budget", "10.00"))
        held.setdefault("targeting", "manual")
        usual_row = dict.fromkeys(world.campaigns.columns, None) | {"family": ""}
        own = {name: held[name] for name in ("portfolio", "targeting", "format")}
        rows.append({**usual_row, **own, "campaign_no": int(held["no"]), "campaign": key[0], "daily_budget": budget})
    delivery = world.delivery
    if rows and delivery is not None:
        count = len(rows)
        delivery = replace(
            delivery,
            places=np.vstack([delivery.places, np.tile(_NEW_CAMPAIGN, (count, 1))]),
            ease=np.vstack([delivery.ease, np.tile(_DEFAULT_EASE, (count, 1))]),
            adjustments=np.vstack([delivery.adjustments, np.zeros((count, ADJUSTED))]),
            budgets=np.concatenate([delivery.budgets, [row["daily_budget"] for row in rows]]),
            limited=np.concatenate([delivery.limited, np.zeros(count, bool)]),
        )
    return replace(world, campaigns=_more(world.campaigns, rows), delivery=delivery)


def _with_groups(world: World, settings: HeldSettings) -> World:
    rows: list[dict[str, Any]] = []
    for key, held in _fresh(settings.things["ad_group"]):
        held["no"] = str(len(world.ad_groups) + len(rows))
        held.setdefault("default_bid", "0.50")
        campaign = settings.things["campaign"][(key[0],)]["no"]
        rows.append({"ad_group_no": int(held["no"]), "campaign_no": int(campaign), "ad_group": key[1]})
    return replace(world, ad_groups=_more(world.ad_groups, rows))


def _with_ads(world: World, settings: HeldSettings) -> World:
    products = {sku: number for number, sku in enumerate(world.products["sku"])}
    rows = []
    for key, held in _fresh(settings.things["product_ad"]):
        held["no"] = ""
        group = int(settings.things["ad_group"][key[:2]]["no"])
        rows.append({"ad_group_no": group, "product_no": products[key[2]], "share": 1.0, "fit": 1.0})
    mean = float(world.ad_products["share"].mean() or 1.0)  # type: ignore[arg-type]
    return replace(world, ad_products=_more(world.ad_products, ({**row, "share": mean} for row in rows)))


def _with_targets(world: World, settings: HeldSettings, market: Phrases, rng: np.random.Generator) -> World:
    shelf = _categories(world)
    usual = float(world.targets["bid"].median() or 0.5)  # type: ignore[arg-type]
    rows: list[dict[str, Any]] = []
    fresh = _fresh(settings.things["target"])
    fresh += _automatic(settings)
    for key, held in fresh:
        group = settings.things["ad_group"][key[:2]]
        number, campaign = int(group["no"]), int(settings.things["campaign"][key[:1]]["no"])
        held["no"] = str(len(world.targets) + len(rows))
        bid = float(held.setdefault("bid", group["default_bid"]))
        category = shelf.get(number, world.spec.categories[0].name)
        rows.append(
            dict.fromkeys(world.targets.columns, None)
            | {
                "target_no": int(held["no"]),
                "ad_group_no": number,
                "campaign_no": campaign,
                "target": key[2],
                "match_type": key[3],
                "category": category,
                # Pulls are those at this bid, and follow from it: the usual one, so that a low bid is shown less.
                "bid": usual if key[3] in ("exact", "phrase", "broad", "auto") else bid,
                "appeal": EXACT_APPEAL if key[3] == "exact" else 0.9,
                "bad_apple": False,
                "overbid": False,
            }
        )
    if not rows:
        return world
    targets = pl.DataFrame(rows, schema=world.targets.schema)
    world, targets = _searched_for(world, targets, market)
    pairs = pairs_of(targets, world.queries, rng) if len(targets) else world.pairs.clear()
    numbered = pairs.with_columns(pair_no=(pl.col("pair_no") + len(world.pairs)).cast(pl.UInt32))
    bids = np.repeat(targets["bid"].to_numpy()[:, None], world.days, axis=1)
    return replace(
        world,
        targets=pl.concat([world.targets, targets]),
        pairs=pl.concat([world.pairs, numbered.select(world.pairs.columns).cast(world.pairs.schema)]),
        bids=np.vstack([world.bids, bids]),
    )


def _automatic(settings: HeldSettings) -> list[tuple[Key, Held]]:
    """The targets that an automatic campaign has by itself, for its ad groups that hold none."""
    held = {key[:2] for key in settings.things["target"]}
    found: list[tuple[Key, Held]] = []
    for key in settings.things["ad_group"]:
        if settings.things["campaign"][key[:1]].get("targeting") == "auto" and key not in held:
            for text in ("near searches", "wide searches"):
                own = settings.things["target"].setdefault((*key, text, "auto"), {"state": "enabled"})
                found.append(((*key, text, "auto"), own))
    return found


def _categories(world: World) -> dict[int, str]:
    """The shelf of each ad group, by its first product."""
    named = world.ad_products.join(
        world.products.select(pl.col("product_no").cast(pl.Int64), "category"), on="product_no", how="left"
    )
    return dict(named.group_by("ad_group_no").agg(pl.col("category").first()).rows())


def _searched_for(world: World, targets: pl.DataFrame, market: Phrases) -> tuple[World, pl.DataFrame]:
    """The world with the searches of phrases that nobody bought yet; those targets start at the market's own bid."""
    known = frozenset(world.queries["text"])
    asked = targets.filter((pl.col("match_type") == "exact") & ~pl.col("target").is_in(list(known)))
    found = (
        asked.select(phrase="target")
        .unique(maintain_order=True)
        .join(market.phrases, on="phrase", how="inner", maintain_order="left")
    )
    if found.is_empty():
        return world, targets
    queries = found.select(
        query_no=(pl.int_range(len(found)) + len(world.queries)),
        text="phrase",
        category="category",
        # An exact target is shown for a fifth of its searches in `pairs_of`, with luck of its own.
        volume=pl.col("volume") * pl.col("shown") / 0.2,
        intent="worth",
        ctr="ctr",
        misspelt=pl.lit(""),
    )
    prices = found.select(target="phrase", price="price", own=pl.col("category"))
    priced = targets.join(prices, on="target", how="left", maintain_order="left").with_columns(
        bid=pl.coalesce("price", "bid"), category=pl.coalesce("own", "category")
    )
    more = pl.concat([world.queries, queries.select(world.queries.columns).cast(world.queries.schema)])
    return replace(world, queries=more), priced.select(targets.columns)


def next_days(world: World, settings: HeldSettings, days: int, seed: int) -> World:
    """So many days after the world's last one, as it is set now; stopped things are not shown."""
    bids = world.bids[:, -1].copy()
    for held in settings.things["target"].values():
        bids[int(held["no"])] = float(held["bid"])
    pairs = _shown(world, settings, seed)
    return replace(
        world,
        days=days,
        bids=np.repeat(bids[:, None], days, axis=1),
        mood=np.repeat(world.mood[:, -1:], days, axis=1),
        products=world.products.with_columns(lost_on=pl.when(pl.col("lost_on").is_not_null()).then(0).cast(pl.Int64)),
        ad_products=_advertised(world, settings),
        pairs=pairs,
        delivery=_delivered(world, settings),
    )


def _advertised(world: World, settings: HeldSettings) -> pl.DataFrame:
    skus = world.products["sku"].to_list()
    stopped = {
        (int(settings.things["ad_group"][key[:2]]["no"]), skus.index(key[2]))
        for key, held in settings.things["product_ad"].items()
        if held["state"] != "enabled"
    }
    live = [pair not in stopped for pair in world.ad_products.select("ad_group_no", "product_no").rows()]
    return world.ad_products.filter(pl.Series(live))


def _shown(world: World, settings: HeldSettings, seed: int) -> pl.DataFrame:
    """The pairs with what they are shown now; part of what is stopped comes back where the same search is met."""
    things = settings.things
    off = {
        entity: {int(held["no"]) for held in things[entity].values() if held["state"] != "enabled"}
        for entity in ("campaign", "ad_group", "target")
    }
    with_ads = set(_advertised(world, settings)["ad_group_no"].to_list())
    targets = world.targets.select("target_no", "ad_group_no", "campaign_no").with_columns(
        live=~pl.col("target_no").is_in(off["target"])
        & ~pl.col("ad_group_no").is_in(off["ad_group"])
        & ~pl.col("campaign_no").is_in(off["campaign"])
        & pl.col("ad_group_no").is_in(with_ads)
    )
    texts = world.queries.select(pl.col("query_no").cast(pl.Int64), "text")
    pairs = (
        world.pairs.with_columns(pl.col("query_no").cast(pl.Int64))
        .join(targets.with_columns(pl.col("target_no").cast(pl.Int64)), on="target_no", maintain_order="left")
        .join(texts, on="query_no", maintain_order="left")
    )
    live = pairs["live"].to_numpy() & ~_blocked(pairs, settings)
    back = np.random.default_rng([seed, 43]).uniform(0, _MOST_BACK, len(world.targets))
    pull = pairs["pull"].to_numpy()
    query = pairs["query_no"].to_numpy()
    size = len(world.queries)
    lost = np.bincount(query, np.where(live, 0.0, pull * back[pairs["target_no"].to_numpy()]), size)
    left = np.bincount(query, np.where(live, pull, 0.0), size)
    gain = 1 + np.divide(lost, left, out=np.zeros(size), where=left > 0)
    now = np.where(live, pull * gain[query], 0.0)
    return world.pairs.with_columns(pull=pl.Series(now))


def _blocked(pairs: pl.DataFrame, settings: HeldSettings) -> np.ndarray:
    """Which pairs a negative of their ad group or campaign shuts out."""
    numbers = {key: int(held["no"]) for key, held in settings.things["ad_group"].items()}
    campaigns = {key[0]: int(held["no"]) for key, held in settings.things["campaign"].items()}
    hit = np.zeros(len(pairs), bool)
    for key, held in settings.things["negative"].items():
        if held["state"] != "enabled":
            continue
        text = key[2].lower().strip()
        same = (
            (pl.lit(" ") + pl.col("text") + pl.lit(" ")).str.contains(f" {text} ", literal=True)
            if key[3] == "negative_phrase"
            else pl.col("text") == text
        )
        where = pl.col("ad_group_no") == numbers[key[:2]] if key[1] else pl.col("campaign_no") == campaigns[key[0]]
        hit |= pairs.select(same & where).to_series().to_numpy()
    return hit


def _delivered(world: World, settings: HeldSettings) -> Delivery | None:
    delivery = world.delivery
    if delivery is None:
        return None
    places, limited, budgets = delivery.places.copy(), delivery.limited.copy(), delivery.budgets.copy()
    adjustments = delivery.adjustments.copy()
    numbers = {}
    for key, held in settings.things["campaign"].items():
        number = numbers[key[0]] = int(held["no"])
        budgets[number] = float(held["daily_budget"])
        wanted = held["offsite_limited"] == "yes"
        if wanted != limited[number]:
            places[number, ADJUSTED:] *= _OFF_SITE_LIMITED if wanted else 1 / _OFF_SITE_LIMITED
            limited[number] = wanted
    for key, held in settings.things["placement"].items():
        place = PLACES.index(key[1])
        if place < ADJUSTED:
            adjustments[numbers[key[0]], place] = float(held["adjustment"]) / 100
    boosts = [
        Raise(
            held.get("name", "boost"),
            numbers[key[0]],
            what,
            round(float(held["percent"])),
            tuple(int(day) for day in key[1].split() if day.isdecimal()),
            int(key[2] or 0),
            int(key[3] or 24),
        )
        for what in ("bid", "budget")
        for key, held in settings.things[f"{what}_boost"].items()
        if float(held["percent"])
    ]
    events = tuple(
        Event(each.name, each.first - world.days, each.last - world.days)
        for each in delivery.events
        if each.last >= world.days
    )
    return replace(
        delivery,
        places=places,
        limited=limited,
        budgets=budgets,
        adjustments=adjustments,
        boosts=tuple(boosts),
        events=events,
    )
