"""What shoppers search for beside what is bought: phrases, who ranks for them, what they are worth, and the rivals."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.sim.vocabulary import BrandSpec, Category
from nimbus_reef.sim.world import World

PER_CATEGORY: Final = 170
_STRAY: Final = 0.15
_NOISE: Final = 0.3
_LOOK_ALIKES: Final = 0.15
"""Phrases that belong to another category, for each of a category's own."""
_OF_BRANDS: Final = 0.12
_KNOWN_CATEGORY: Final = 0.7
_SEARCHES_A_DAY: Final = (120.0, 0.8)
_SHOWN: Final = 0.34
"""Part of its searches that an exact target is shown for at the market's bid."""
_RIVALS_PER_CATEGORY: Final = 8
_LISTED_TO: Final = 120
"""A keyword list ends at this rank."""
_SPONSORED: Final = 0.22
_FREE_NOISE: Final = 0.25
_NEW_ADS: Final = 0.08
"""Rivals' ads that began lately."""
_FREE_CLICKS: Final = 0.008
"""Clicks without an ad for each search, at the first rank."""
EXACT_APPEAL: Final = 1.1
_SUGGESTED: Final = 0.15
_IDEAS: Final = 60
RANK_DAYS: Final = (0, 14, 28)
"""How many days before the newest ranks were looked up."""
_MOST_OWN: Final = 160
"""So many of a category's bought searches are in keyword lists, the largest."""


@dataclass(frozen=True, slots=True)
class Phrases:
    """
    phrases: phrase, category (whose words it is made of), told (the category a list gives it, null where none), kind
    (own, look-alike, rival brand, bought), volume (searches a day), worth (true factor on conversion), price (the bid
    at which it is shown as usual), ctr, shown (part of searches), product_no (whose search it is). items: item, brand,
    category, title, launched, price, rating, reviews, monthly_sales, own. ranks: phrase_no, item_no, day, organic,
    sponsored (null for none).
    """

    phrases: pl.DataFrame
    items: pl.DataFrame
    ranks: pl.DataFrame


def build(world: World, seed: int, last_day: date, per_category: int = PER_CATEGORY) -> Phrases:
    """The market around a world; it leaves the world as it is."""
    rng = np.random.default_rng([seed, 19, *world.spec.key.encode()])
    bought = frozenset(world.queries["text"])
    parts, taken = [], set[str](bought)
    for place, category in enumerate(world.spec.categories):
        other = world.spec.categories[(place + 1) % len(world.spec.categories)]
        intent = world.intents[category.name]
        parts.append(_own(category, intent, per_category, taken, rng))
        parts.append(
            _look_alikes(category, other, world.intents[other.name], round(per_category * _LOOK_ALIKES), taken, rng)
        )
        parts.append(_of_brands(world.spec, category, round(per_category * _OF_BRANDS), taken, rng))
    phrases = pl.concat([*parts, _bought(world)]).with_row_index("phrase_no")
    phrases = _with_product(world, phrases)
    items = _items(world, last_day, rng)
    return Phrases(phrases, items, _ranks(phrases, items, rng))


def _worded(category: Category, intent: Mapping[str, float], rng: np.random.Generator) -> tuple[str, float]:
    """One to five words around a head, and what they do to conversion."""
    head = str(rng.choice(category.heads))
    before = list(rng.permutation(category.before)[: rng.integers(0, 3)])
    after = list(rng.permutation(category.after)[: rng.integers(0, 3)])
    factor = float(np.prod([intent[word] for word in (*before, *after)]))
    if rng.random() < _STRAY:
        after.append(str(rng.choice(category.astray)))
        factor *= float(rng.uniform(0.02, 0.18))
    return " ".join([*before, head, *after]), factor


def _own(
    category: Category, intent: Mapping[str, float], count: int, taken: set[str], rng: np.random.Generator
) -> pl.DataFrame:
    found: dict[str, float] = {}
    while len(found) < count:
        text, factor = _worded(category, intent, rng)
        if text not in taken:
            taken.add(text)
            found[text] = factor * float(rng.lognormal(-(_NOISE**2) / 2, _NOISE))
    return _frame(list(found), category.name, "own", list(found.values()), rng)


def _look_alikes(
    category: Category,
    other: Category,
    intent: Mapping[str, float],
    count: int,
    taken: set[str],
    rng: np.random.Generator,
) -> pl.DataFrame:
    """Phrases of neighbours' goods that share words with ours: a few of them look like ours and never buy."""
    found: dict[str, float] = {}
    while len(found) < count:
        text, _ = _worded(other, intent, rng)
        text = f"{text} {rng.choice(category.astray)}"
        if text not in taken:
            taken.add(text)
            found[text] = float(rng.uniform(0.02, 0.15))
    return _frame(list(found), category.name, "look-alike", list(found.values()), rng, told=f"{other.name} accessories")


def _of_brands(
    spec: BrandSpec, category: Category, count: int, taken: set[str], rng: np.random.Generator
) -> pl.DataFrame:
    found: dict[str, float] = {}
    while len(found) < count:
        text = f"{rng.choice(spec.rivals)} {rng.choice(category.heads)} {rng.choice(category.after)}".lower()
        if text not in taken:
            taken.add(text)
            found[text] = float(rng.uniform(0.1, 0.35))
    return _frame(list(found), category.name, "rival brand", list(found.values()), rng)


def _frame(
    texts: list[str], category: str, kind: str, worth: list[float], rng: np.random.Generator, told: str = ""
) -> pl.DataFrame:
    middle, spread = _SEARCHES_A_DAY
    known = rng.random(len(texts)) < _KNOWN_CATEGORY
    market = np.array(worth) * rng.lognormal(0, _NOISE, len(texts))
    return pl.DataFrame(
        {
            "phrase": texts,
            "category": category,
            "told": [(told or category) if each else None for each in known],
            "kind": kind,
            "volume": rng.lognormal(np.log(middle), spread, len(texts)),
            "worth": worth,
            "market": market,
            "ctr": rng.lognormal(0, 0.2, len(texts)),
            "shown": _SHOWN * rng.lognormal(-0.18, 0.6, len(texts)),
            "dear": rng.lognormal(-0.22, 0.2, len(texts)),
        },
        schema_overrides={"told": pl.String},
    )


def _bought(world: World) -> pl.DataFrame:
    """The largest searches of each category that are bought: keyword lists hold them too."""
    rows = world.queries.filter(pl.col("misspelt") == "").sort("category", "volume", descending=[False, True])
    return (
        rows.group_by("category", maintain_order=True)
        .head(_MOST_OWN)
        .select(
            pl.col("text").alias("phrase"),
            "category",
            told="category",
            kind=pl.lit("bought"),
            volume="volume",
            worth="intent",
            market="intent",
            ctr=pl.lit(1.0),
            shown=pl.lit(_SHOWN),
            dear=pl.lit(1.0),
        )
    )


def _with_product(world: World, phrases: pl.DataFrame) -> pl.DataFrame:
    """Whose search each is: the product of its category whose title has most of its words, of equals the dearer."""
    products = world.products.sort("price", descending=True).select("product_no", "category", "title", "cvr", "price")
    of = products.partition_by("category", as_dict=True)
    titles = {
        key[0]: [
            (row["product_no"], frozenset(row["title"].lower().replace(",", "").split())) for row in part.to_dicts()
        ]
        for key, part in of.items()
    }
    chosen = [
        max(titles[category], key=lambda each: len(each[1] & frozenset(phrase.split())))[0]
        for phrase, category in phrases.select("phrase", "category").rows()
    ]
    usual = products.group_by("category").agg(fair=(pl.col("cvr") * pl.col("price")).median() * world.spec.target_acos)
    ctr = pl.DataFrame(
        {"category": [c.name for c in world.spec.categories], "usual_ctr": [c.ctr for c in world.spec.categories]}
    )
    return (
        phrases.with_columns(product_no=pl.Series(chosen, dtype=world.products.schema["product_no"]))
        .join(usual, on="category", how="left", maintain_order="left")
        .join(ctr, on="category", how="left", maintain_order="left")
        # What a phrase is worth to all sellers makes its price, though not in full.
        .with_columns(
            price=pl.max_horizontal(0.12, pl.col("fair") * pl.col("market").sqrt() * pl.col("dear")),
            ctr=pl.col("ctr") * pl.col("usual_ctr"),
        )
        .drop("fair", "usual_ctr", "dear", "market")
    )


def _items(world: World, last_day: date, rng: np.random.Generator) -> pl.DataFrame:
    rows: list[dict[str, Any]] = []
    for category in world.spec.categories:
        prices = [variant.price for family in category.families for variant in family.variants]
        for brand in world.spec.rivals[:_RIVALS_PER_CATEGORY]:
            age = int(rng.choice([40, 90, 200, 500, 900, 1500]))
            reviews = int(rng.integers(20, 3000) * min(1.0, age / 500) + 3)
            words = [str(rng.choice(category.before)), str(rng.choice(category.heads)), str(rng.choice(category.after))]
            rows.append(
                {
                    "item": f"TM{900_100 + len(rows):07d}",
                    "brand": brand,
                    "category": category.name,
                    "title": f"{brand} {' '.join(words)}",
                    "launched": last_day - timedelta(days=age),
                    "price": round(float(np.median(prices) * rng.uniform(0.7, 1.4)), 2),
                    "rating": round(float(rng.uniform(3.7, 4.8)), 1),
                    "reviews": reviews,
                    "monthly_sales": round(float(reviews * rng.uniform(2, 9) + 400), 2),
                    "own": False,
                    "product_no": None,
                }
            )
    own = world.products.select(
        item="item_id",
        brand=pl.lit(world.spec.name),
        category="category",
        title="title",
        launched=pl.lit(None, pl.Date),
        price="price",
        rating=pl.lit(None, pl.Float64),
        reviews=pl.lit(None, pl.Int64),
        monthly_sales=pl.lit(None, pl.Float64),
        own=pl.lit(True),
        product_no=pl.col("product_no").cast(pl.Int64),
    )
    return pl.concat([pl.DataFrame(rows, schema=own.schema), own]).with_row_index("item_no")


def _titled(words: frozenset[str], title: str) -> float:
    """The part of a phrase's words that a title has."""
    return len(words & frozenset(title.lower().replace(",", "").split())) / len(words)


def _ranks(phrases: pl.DataFrame, items: pl.DataFrame, rng: np.random.Generator) -> pl.DataFrame:
    """Ranks follow what a phrase is worth to an item, not closely, and what stands in its title."""
    rival = items.filter(~pl.col("own"))
    of_category = {str(key[0]): part for key, part in rival.partition_by("category", as_dict=True).items()}
    own_item = dict(items.filter("own").select("product_no", "item_no").rows())
    entries: list[tuple[int, int, float, bool]] = []
    for row in phrases.to_dicts():
        words = frozenset(row["phrase"].split())
        own_title = items["title"][own_item[row["product_no"]]]
        score = 0.8 * np.log(row["worth"]) + 1.2 * (_titled(words, own_title) - 0.4) + rng.normal(0, 0.8)
        entries.append((row["phrase_no"], own_item[row["product_no"]], score, row["kind"] == "bought"))
        for other in of_category[row["category"]].to_dicts():
            named = other["brand"].lower() in words
            score = 0.7 * np.log(row["worth"]) + 1.2 * (_titled(words, other["title"]) - 0.4) + rng.normal(-0.3, 0.9)
            entries.append((row["phrase_no"], other["item_no"], score + 4 * named, bool(rng.random() < _SPONSORED)))
    frame = pl.DataFrame(
        entries,
        schema={"phrase_no": pl.UInt32, "item_no": pl.UInt32, "score": pl.Float64, "pays": pl.Boolean},
        orient="row",
    )
    began = pl.Series(np.where(rng.random(len(frame)) < _NEW_ADS, RANK_DAYS[1] - 1, RANK_DAYS[-1]))
    drift = {days: rng.normal(0, 0.15, len(frame)) for days in RANK_DAYS}
    found = [
        frame.select(
            "phrase_no",
            "item_no",
            before=pl.lit(days),
            organic=(2.7 - 1.2 * (pl.col("score") + pl.Series(drift[days]))).exp().round().clip(1, 400).cast(pl.Int64),
            sponsored=pl.when(pl.col("pays") & (began >= days)).then(pl.Series(rng.integers(1, 25, len(frame)))),
        )
        for days in RANK_DAYS
    ]
    return (
        pl.concat(found)
        .filter((pl.col("organic") <= _LISTED_TO) | pl.col("sponsored").is_not_null())
        .with_columns(organic=pl.when(pl.col("organic") <= _LISTED_TO).then("organic"))
    )


def keyword_ranks(market: Phrases, last_day: date, seed: int) -> pl.DataFrame:
    """The report of keyword ranks; the bid that it suggests lies about the market's price."""
    rng = np.random.default_rng([seed, 27])
    about = pl.Series(rng.lognormal(0, _SUGGESTED, len(market.phrases)))
    told = market.phrases.select("phrase_no", "phrase", "told", "volume", suggested=(pl.col("price") * about).round(2))
    return (
        market.ranks.join(told, on="phrase_no")
        .join(market.items.select("item_no", "item", "brand"), on="item_no")
        .with_columns(date=pl.lit(last_day) - pl.duration(days=pl.col("before")))
        .sort("date", "phrase_no", "item_no")
        .select(
            "date",
            keyword="phrase",
            search_volume=(30 * pl.col("volume")).round().cast(pl.Int64),
            category="told",
            item_id="item",
            brand="brand",
            organic_rank="organic",
            sponsored_rank="sponsored",
            suggested_bid="suggested",
        )
    )


def phrase_lists(market: Phrases, seed: int) -> pl.DataFrame:
    """A list of ideas as an agency hands it over: some phrases of the market, without a figure."""
    rng = np.random.default_rng([seed, 29])
    own = market.phrases.filter(pl.col("kind") == "own")
    chosen = np.sort(rng.choice(len(own), min(_IDEAS, len(own)), replace=False))
    return own[chosen].select(keyword="phrase", name=pl.lit("ideas for spring"))


def rivals(market: Phrases) -> pl.DataFrame:
    """The report of rivals' items."""
    return market.items.filter(~pl.col("own")).select(
        item_id="item",
        brand="brand",
        title="title",
        category="category",
        launch_date="launched",
        price="price",
        rating="rating",
        reviews="reviews",
        monthly_sales_estimate="monthly_sales",
    )


def free_clicks(world: World, market: Phrases, seed: int, last_day: date) -> pl.DataFrame:
    """
    Query funnel rows of phrases that are not bought: what came without ads, where we rank, in each whole week; and the
    market's path around it.
    """
    rng = np.random.default_rng([seed, 23, *world.spec.key.encode()])
    first = last_day - timedelta(days=world.days - 1)
    monday = first + timedelta(days=-first.weekday() % 7)
    weeks = ((last_day - monday).days + 1) // 7
    own = market.items.filter("own").select("item_no")
    newest = market.ranks.filter(pl.col("before") == 0).join(own, on="item_no", how="semi")
    ranked = newest.group_by("phrase_no").agg(rank=pl.col("organic").min()).drop_nulls("rank")
    rows = (
        market.phrases.filter(pl.col("kind") != "bought")
        .join(ranked, on="phrase_no", maintain_order="left")
        .join(world.products.select("product_no", "cvr"), on="product_no", maintain_order="left")
    )
    cvr = np.minimum(0.6, rows["cvr"].to_numpy() * rows["worth"].to_numpy() * rng.lognormal(0, _FREE_NOISE, len(rows)))
    rank, volume = rows["rank"].to_numpy(), 7 * rows["volume"].to_numpy()
    found = []
    for week in range(weeks):
        seen = rng.poisson(volume * np.minimum(1.0, 12 / (rank + 8)))
        clicks = rng.binomial(
            seen, np.minimum(0.5, _FREE_CLICKS / (1 + (rank / 6) ** 1.5) / np.minimum(1.0, 12 / (rank + 8)))
        )
        orders = rng.binomial(clicks, cvr)
        adds = orders + rng.binomial(clicks - orders, 0.1)
        share = 0.15 + 0.1 * rng.random(len(rows))
        market_clicks = np.ceil(clicks / share) + rng.poisson(volume * 0.05)
        market_orders = np.ceil(orders / share) + rng.binomial(market_clicks.astype(np.int64), np.minimum(0.9, cvr))
        found.append(
            rows.select(
                week=pl.lit(monday + timedelta(days=7 * week)),
                query="phrase",
                search_volume=pl.Series(volume.round().astype(np.int64)),
                market_impressions=pl.Series((np.ceil(seen / share) + np.ceil(volume)).astype(np.int64)),
                market_clicks=pl.Series(market_clicks.astype(np.int64)),
                market_cart_adds=pl.Series(
                    (market_orders + np.ceil(0.1 * (market_clicks - market_orders).clip(0)) + adds).astype(np.int64)
                ),
                market_purchases=pl.Series(market_orders.astype(np.int64)),
                own_impressions=pl.Series(seen),
                own_clicks=pl.Series(clicks),
                own_cart_adds=pl.Series(adds),
                own_purchases=pl.Series(orders),
            ).filter(pl.col("own_impressions") > 0)
        )
    return pl.concat(found) if found else pl.DataFrame()


def truth(world: World, market: Phrases) -> list[dict[str, Any]]:
    """
    Of every phrase that is not bought what no report tells: cvr (as an exact target of its product), price (the bid at
    which it is shown as usual) and clicks (a day, at that bid).
    """
    return (
        market.phrases.filter(pl.col("kind") != "bought")
        .join(world.products.select("product_no", "sku", product_cvr="cvr", product_price="price"), on="product_no")
        .select(
            "phrase",
            "kind",
            "sku",
            "category",
            cvr=pl.col("product_cvr") * pl.col("worth") * EXACT_APPEAL,
            price="price",
            clicks=pl.col("volume") * pl.col("shown") * pl.col("ctr"),
            worth="worth",
        )
        .to_dicts()
    )


def bought(world: World, market: Phrases, rows: pl.DataFrame) -> World:
    """
    The world with exact targets on phrases that were never bought. rows: phrase, ad_group_no, bid; a world that goes on
    is one of `days` alike.
    """
    asked = rows.join(market.phrases, on="phrase", maintain_order="left")
    first_query, first_target, first_pair = len(world.queries), len(world.targets), len(world.pairs)
    numbers = pl.int_range(len(asked), dtype=pl.UInt32)
    campaign = world.ad_groups.select("ad_group_no", "campaign_no")
    queries = asked.select(
        query_no=numbers + first_query,
        text="phrase",
        category="category",
        volume="volume",
        intent="worth",
        ctr="ctr",
        misspelt=pl.lit(""),
    )
    targets = asked.select(
        target_no=numbers + first_target,
        ad_group_no=pl.col("ad_group_no").cast(world.targets.schema["ad_group_no"]),
        target="phrase",
        match_type=pl.lit("exact"),
        category="category",
        bid="price",
        appeal=pl.lit(EXACT_APPEAL),
        bad_apple=pl.lit(False),
        overbid=pl.lit(False),
    ).join(
        campaign.cast(world.targets.select("ad_group_no", "campaign_no").schema),
        on="ad_group_no",
        maintain_order="left",
    )
    pairs = asked.select(
        pair_no=numbers + first_pair,
        target_no=numbers + first_target,
        query_no=numbers + first_query,
        pull=pl.col("volume") * pl.col("shown"),
    )
    parts = {"queries": queries, "targets": targets, "pairs": pairs}
    whole = {
        name: pl.concat(
            [getattr(world, name), part.select(getattr(world, name).columns).cast(getattr(world, name).schema)]
        )
        for name, part in parts.items()
    }
    bids = np.vstack([world.bids, np.repeat(asked["bid"].to_numpy()[:, None], world.days, axis=1)])
    return replace(world, bids=bids, **whole)
