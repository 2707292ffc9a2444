"""A world from a seed: products, campaigns, targets, searches, and what is true of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.sim.auction import Auction
from nimbus_reef.sim.schedule import Delivery
from nimbus_reef.sim.vocabulary import BrandSpec, Category, ProductFamily

AUTO_TARGETS: Final = ("near searches", "wide searches", "similar items", "companion items")
BAD_APPLES: Final = 0.10
OVERBID: Final = 0.08
_QUERIES_PER_CATEGORY: Final = 420
_ASTRAY_SHARE: Final = 0.22
_WORKDAY_EVERY: Final = 14
_BIDS_CHANGED: Final = 0.07
_MISSPELT_QUERIES: Final = 45
_MISSPELT_INTENT: Final = 0.05
_DRAG: Final = 0.12
"""What is left of the conversion of the product that drags its ad groups down."""
_DRAG_SHARE: Final = 4.0


@dataclass(frozen=True, slots=True)
class World:
    """
    One brand's world. Frames are joined by the integer columns `…_no`.

    products: sku, family, category, title, price, margin, cvr, drags (converts far below its
    siblings and draws their clicks), lost_on and reason (the day from which it may not be advertised, null where it
    may). queries: text, category, volume, intent, ctr, misspelt (the wrong word in it, or empty). campaigns (format),
    ad_groups, ad_products (ad group × product: share of its clicks, fit: factor on conversion there), targets (bid,
    appeal: the true factor on conversion), pairs (target × query, pull: mean impressions a day at the target's first
    bid). bids: target × day.
    mood: product × day, what a day does to a product's conversion; 1 unless a story is told.
    intents: by category, what each word does to conversion.
    delivery: where and when ads are shown; without one there are no placements, hours or budgets. auction: how clicks
    and prices answer bids, in place of the law of `sim.trade`.
    """

    spec: BrandSpec
    days: int
    products: pl.DataFrame
    queries: pl.DataFrame
    campaigns: pl.DataFrame
    ad_groups: pl.DataFrame
    ad_products: pl.DataFrame
    targets: pl.DataFrame
    pairs: pl.DataFrame
    bids: np.ndarray
    mood: np.ndarray
    intents: Mapping[str, Mapping[str, float]]
    delivery: Delivery | None = None
    auction: Auction | None = None


def build(spec: BrandSpec, seed: int, days: int) -> World:
    """The world of one brand; the same seed gives the same world."""
    rng = np.random.default_rng([seed, *spec.key.encode()])
    products = _products(spec, rng)
    intents, searches = {}, []
    for category in spec.categories:
        intents[category.name] = _intents(category, rng)
        searches.append(_queries(category, intents[category.name], rng))
    queries = pl.concat(searches)
    queries = pl.concat([queries, _misspelt(spec.categories[0], queries, rng)])
    queries = queries.with_row_index("query_no")
    campaigns, ad_groups, ad_products, targets = _structure(spec, products, queries, rng)
    pairs = pairs_of(targets, queries, rng)
    return World(
        spec,
        days,
        products,
        queries,
        campaigns,
        ad_groups,
        ad_products,
        targets,
        pairs,
        _bid_history(targets["bid"].to_numpy(), days, rng),
        np.ones((len(products), days)),
        intents,
    )


def _products(spec: BrandSpec, rng: np.random.Generator) -> pl.DataFrame:
    rows: list[dict[str, Any]] = []
    for category in spec.categories:
        for family in category.families:
            for variant in family.variants:
                suffix = variant.name.upper().replace(" ", "")
                rows.append(
                    {
                        "sku": f"{family.code}-{suffix}",
                        "item_id": f"TM{len(rows) + 40117:07d}",
                        "family_id": f"TMF{hash_of(family.code):06d}",
                        "family": family.name,
                        "category": category.name,
                        "variant": variant.name,
                        "title": f"{spec.name} {family.name} {variant.name}, {category.heads[0]} {category.after[0]}",
                        "price": variant.price,
                        "margin": float(round(rng.uniform(34, 52), 1)),
                        "cvr": float(category.cvr * rng.lognormal(0, 0.28)),
                    }
                )
    products = pl.DataFrame(rows).with_row_index("product_no")
    # One product of the largest families that have a sibling to shame it.
    sizes = products.group_by("family", maintain_order=True).len().sort("len", descending=True, maintain_order=True)
    chosen = products.filter(pl.col("family") == sizes["family"][0])["product_no"][-1]
    drags = pl.col("product_no") == chosen
    return products.with_columns(
        drags=drags,
        cvr=pl.when(drags).then(pl.col("cvr") * _DRAG).otherwise("cvr"),
        fulfilment=pl.lit("marketplace"),
        lost_on=pl.lit(None, pl.Int64),
        reason=pl.lit(""),
    )


def reaching(world: World) -> np.ndarray:
    """By campaign, its true cost of sale beside the target: below 1 it is within; endless where nothing is sold."""
    pair_target, query = (world.pairs[name].to_numpy() for name in ("target_no", "query_no"))
    group = world.targets["ad_group_no"].to_numpy()[pair_target]
    campaign = world.targets["campaign_no"].to_numpy()[pair_target]
    worth = (
        world.ad_products.join(world.products.select("product_no", "cvr", "price"), on="product_no")
        .group_by("ad_group_no")
        .agg((pl.col("share") * pl.col("fit") * pl.col("cvr") * pl.col("price")).sum() / pl.col("share").sum())
        .sort("ad_group_no")["share"]
        .to_numpy()
    )
    clicks = world.pairs["pull"].to_numpy() * world.queries["ctr"].to_numpy()[query]
    bid = world.bids[:, -1][pair_target] * 0.86
    eased = world.queries["intent"].to_numpy()[query] * world.targets["appeal"].to_numpy()[pair_target]
    spend = np.bincount(campaign, clicks * bid, len(world.campaigns))
    sales = np.bincount(campaign, clicks * worth[group] * eased, len(world.campaigns))
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.nan_to_num(spend / sales / world.spec.target_acos, nan=np.inf)


def hash_of(text: str) -> int:
    """A small number that a text always has, unlike Python's own salted hash."""
    return sum((index + 1) * byte for index, byte in enumerate(text.encode())) % 1_000_000


def _intents(category: Category, rng: np.random.Generator) -> dict[str, float]:
    """What each word of a shelf does to conversion."""
    return {word: float(rng.lognormal(0, 0.22)) for word in (*category.before, *category.after)}


def _queries(category: Category, intent: Mapping[str, float], rng: np.random.Generator) -> pl.DataFrame:
    """Searches of one shelf: a long tail of heads with words around them."""
    texts: dict[str, float] = {head: float(rng.lognormal(0, 0.1)) for head in category.heads}
    while len(texts) < _QUERIES_PER_CATEGORY:
        head = str(rng.choice(category.heads))
        before = list(rng.permutation(category.before)[: rng.integers(0, 3)])
        after = list(rng.permutation(category.after)[: rng.integers(0, 3)])
        factor = float(np.prod([intent[word] for word in (*before, *after)]))
        if rng.random() < _ASTRAY_SHARE:
            after.append(str(rng.choice(category.astray)))
            factor *= float(rng.uniform(0.02, 0.18))
        texts.setdefault(" ".join([*before, head, *after]), factor)
    names = list(texts)
    length = np.array([len(name.split()) for name in names])
    rank = np.argsort(np.argsort(length + rng.normal(0, 1.1, len(names))))
    return pl.DataFrame(
        {
            "text": names,
            "category": category.name,
            "volume": 5200.0 / (rank + 4.0) ** 0.92,
            "intent": list(texts.values()),
            "ctr": category.ctr * rng.lognormal(0, 0.3, len(names)),
            "misspelt": "",
        }
    )


def _misspelt(category: Category, queries: pl.DataFrame, rng: np.random.Generator) -> pl.DataFrame:
    """Many small searches that share a word written wrong: each too small to notice alone."""
    words = category.heads[0].split()
    wrong = words[-1][:-2] + words[-1][-1] + words[-1][-2]
    tail = queries.filter(pl.col("category") == category.name).sort("volume").head(3 * _MISSPELT_QUERIES)
    picked: pl.DataFrame = tail[np.sort(rng.permutation(len(tail))[:_MISSPELT_QUERIES]).tolist()]
    return (
        picked.with_columns(
            text=pl.concat_str(pl.lit(f"{wrong} "), "text"),
            volume=pl.col("volume") * 2.2,
            intent=pl.col("intent") * _MISSPELT_INTENT,
            misspelt=pl.lit(wrong),
        )
        .unique("text", maintain_order=True)
        .select(queries.columns)
    )


_PURPOSES: Final = (
    ("discover", "auto", "product"),
    ("discover", "broad", "product"),
    ("grow", "phrase", "product"),
    ("own terms", "exact", "product"),
    ("items", "item", "product"),
)
_OF_A_CATEGORY: Final = (("banner", "phrase", "brand"), ("look again", "item", "display"))
"""Campaigns of the other ad formats: one each for the first family of a category."""


def _structure(
    spec: BrandSpec, products: pl.DataFrame, queries: pl.DataFrame, rng: np.random.Generator
) -> tuple[pl.DataFrame, pl.DataFrame, pl.DataFrame, pl.DataFrame]:
    campaigns: list[dict[str, Any]] = []
    groups: list[dict[str, Any]] = []
    ads: list[dict[str, Any]] = []
    targets: list[dict[str, Any]] = []
    for category in spec.categories:
        words = queries.filter(pl.col("category") == category.name).sort("volume", descending=True)
        for family in category.families:
            own = products.filter((pl.col("family") == family.name) & (pl.col("category") == category.name))
            others = _OF_A_CATEGORY if family is category.families[0] else ()
            for purpose, match, ad_format in (*_PURPOSES, *others):
                campaign_no = len(campaigns)
                campaigns.append(
                    {
                        "campaign": f"{family.code} · {purpose} · {match}",
                        "format": ad_format,
                        "portfolio": category.name,
                        "targeting": "auto" if match == "auto" else "manual",
                        "daily_budget": float(rng.choice([15, 20, 30, 45])),
                        "family": family.name,
                    }
                )
                for group in _group_names(family, match):
                    group_no = len(groups)
                    groups.append({"campaign_no": campaign_no, "ad_group": group})
                    pull = 2.5 * np.where(own["drags"].to_numpy(), _DRAG_SHARE, 1.0)
                    share = rng.dirichlet(pull)
                    ads += [
                        {"ad_group_no": group_no, "product_no": product, "share": float(part), "fit": 1.0}
                        for product, part in zip(own["product_no"], share, strict=True)
                    ]
                    # Bids were set for products that sell; nobody has looked at the one that does not.
                    usual = np.where(own["drags"].to_numpy(), 1 / _DRAG, 1.0) * own["cvr"].to_numpy()
                    mix = float(np.average(usual, weights=share))
                    price = float(np.average(own["price"].to_numpy(), weights=share))
                    for text, kind in _target_texts(match, words, rng):
                        targets.append(
                            _target(group_no, campaign_no, text, kind, mix * price * spec.target_acos, category, rng)
                        )
    frames = [pl.DataFrame(rows) for rows in (campaigns, groups, ads, targets)]
    numbered = ("campaign_no", "ad_group_no", None, "target_no")
    out = [f.with_row_index(no) if no else f for f, no in zip(frames, numbered, strict=True)]
    return out[0], out[1], out[2], out[3]


def _group_names(family: ProductFamily, match: str) -> tuple[str, ...]:
    return (f"{family.name}s", f"{family.name}s wide") if match == "broad" else (f"{family.name}s",)


def _target_texts(match: str, words: pl.DataFrame, rng: np.random.Generator) -> list[tuple[str, str]]:
    """What one ad group bids on: (text, match type)."""
    if match == "auto":
        return [(name, "auto") for name in AUTO_TARGETS]
    if match == "item":
        items = rng.choice(90_000, 10, replace=False) + 500_000
        return [(f"TM{number:07d}", "item") for number in items] + [(str(words["category"][0]).lower(), "category")]
    count = {"broad": 14, "phrase": 24, "exact": 34}[match]
    longest = {"broad": 4, "phrase": 5, "exact": 9}[match]
    short = words.filter(pl.col("text").str.split(" ").list.len() <= longest).head(count * 4)
    picks = rng.permutation(len(short))[:count]
    return [(str(short["text"][int(index)]), match) for index in sorted(picks)]


def _target(
    group_no: int,
    campaign_no: int,
    text: str,
    match: str,
    fair_bid: float,
    category: Category,
    rng: np.random.Generator,
) -> dict[str, object]:
    appeal = float(rng.lognormal(0, 0.15))
    bad, dear = rng.random() < BAD_APPLES, rng.random() < OVERBID
    if bad:
        appeal *= float(rng.uniform(0.12, 0.4))
    bid = fair_bid * float(rng.lognormal(-0.22, 0.2)) * (1.9 if dear else 1.0)
    loose = {"auto": 0.85, "broad": 0.8, "phrase": 0.95, "exact": 1.1, "item": 0.7, "category": 0.55}
    return {
        "ad_group_no": group_no,
        "campaign_no": campaign_no,
        "target": text,
        "match_type": match,
        "category": category.name,
        "bid": round(max(0.12, bid), 2),
        "appeal": appeal * loose[match],
        "bad_apple": bool(bad),
        "overbid": bool(dear),
    }


def pairs_of(targets: pl.DataFrame, queries: pl.DataFrame, rng: np.random.Generator) -> pl.DataFrame:
    """Which searches meet which targets, and how many impressions a day that brings."""
    by_category = {
        str(name[0]): (
            part["query_no"].to_numpy(),
            part["text"].to_list(),
            [frozenset(text.split()) for text in part["text"]],
            part["volume"].to_numpy(),
        )
        for name, part in queries.group_by("category")
    }
    rows_target, rows_query, rows_pull = [], [], []
    for target in targets.to_dicts():
        numbers, texts, words, volume = by_category[target["category"]]
        hits = _hits(target, texts, words, rng)
        if not len(hits):
            continue
        keen = {"exact": 0.20, "phrase": 0.055, "broad": 0.035, "auto": 0.03}.get(target["match_type"], 0.012)
        pull = volume[hits] * keen * rng.lognormal(-0.9, 1.7, len(hits))
        rows_target.append(np.full(len(hits), target["target_no"]))
        rows_query.append(numbers[hits])
        rows_pull.append(pull)
    return pl.DataFrame(
        {
            "target_no": np.concatenate(rows_target),
            "query_no": np.concatenate(rows_query),
            "pull": np.concatenate(rows_pull),
        }
    ).with_row_index("pair_no")


def _hits(
    target: dict[str, object], texts: list[str], words: list[frozenset[str]], rng: np.random.Generator
) -> np.ndarray:
    text, match = str(target["target"]), target["match_type"]
    if match == "exact":
        found = [index for index, query in enumerate(texts) if query == text]
    elif match == "phrase":
        found = [index for index, query in enumerate(texts) if f" {text} " in f" {query} "]
    elif match == "broad":
        wanted = frozenset(text.split())
        found = [index for index, query in enumerate(words) if wanted <= query]
    elif match == "auto":
        count = 90 if text == "wide searches" else 45
        found = list(rng.choice(len(texts), count, replace=False))
    else:
        found = list(rng.choice(len(texts), 6, replace=False))
    return np.asarray(found, dtype=np.int64)


def _bid_history(first: np.ndarray, days: int, rng: np.random.Generator) -> np.ndarray:
    """Bids per target and day: on some working days the manager moves a few of them."""
    bids = np.repeat(first[:, None], days, axis=1)
    for day in range(_WORKDAY_EVERY, days, _WORKDAY_EVERY):
        moved = rng.random(len(first)) < _BIDS_CHANGED
        factor = np.where(moved, rng.uniform(0.8, 1.25, len(first)), 1.0)
        bids[:, day:] = np.maximum(0.10, np.round(bids[:, day - 1] * factor, 2))[:, None]
    return bids
