"""What an account has grown over the years: products out of order, ads in odd places, names nobody keeps to."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.sim.stories import Stories
from nimbus_reef.sim.world import AUTO_TARGETS, World, pairs_of

_FIT_OF_DRAINS: Final = 0.08
_SHARE_OF_DRAINS: Final = 7.0
_BUSY: Final = 3.0
_DOUBLED: Final = 12
_CROWD: Final = (("phrase", 30), ("broad", 26), ("exact", 16))
_QUIET: Final = 0.35
WRONG_MARK: Final = "marked as a restricted item"
NO_STOCK: Final = "sold by another seller at a lower price"


@dataclass(frozen=True, slots=True)
class Lost:
    """A product that may not be advertised from a day on."""

    sku: str
    reason: str
    day: int


@dataclass(frozen=True, slots=True)
class Muddle:
    """
    What is out of order. everything: a campaign whose one ad group holds all products, of which `drains` (SKUs) waste
    its money. replaced: SKUs with the newer SKU of their item. gap: SKUs that sell and have no ads. lost: may not be
    advertised; shadowing: the sibling that takes all impressions. doubled: a campaign that buys keywords of another
    again; crowded: one of several match types and unlike products; unnamed: campaigns that break the naming.
    """

    everything: str
    drains: tuple[str, ...]
    replaced: tuple[tuple[str, str], ...]
    gap: tuple[str, ...]
    lost: tuple[Lost, ...]
    shadowing: str
    doubled: str
    crowded: str
    unnamed: tuple[str, ...]


class _Growing:
    """The frames of a world while campaigns are added to it."""

    def __init__(self, world: World) -> None:
        self.world = world
        self.campaigns: list[dict[str, Any]] = []
        self.groups: list[dict[str, Any]] = []
        self.ads: list[dict[str, Any]] = []
        self.targets: list[dict[str, Any]] = []

    def campaign(self, name: str, like: dict[str, Any], **other: Any) -> int:
        number = len(self.world.campaigns) + len(self.campaigns)
        self.campaigns.append({**like, **other, "campaign_no": number, "campaign": name})
        return number

    def group(self, campaign_no: int, name: str, shares: dict[int, float], fits: dict[int, float]) -> int:
        number = len(self.world.ad_groups) + len(self.groups)
        self.groups.append({"ad_group_no": number, "campaign_no": campaign_no, "ad_group": name})
        whole = sum(shares.values())
        self.ads += [
            {"ad_group_no": number, "product_no": product, "share": share / whole, "fit": fits.get(product, 1.0)}
            for product, share in shares.items()
        ]
        return number

    def target(self, group_no: int, campaign_no: int, **values: Any) -> None:
        number = len(self.world.targets) + len(self.targets)
        self.targets.append(
            {
                "target_no": number,
                "ad_group_no": group_no,
                "campaign_no": campaign_no,
                "bad_apple": False,
                "overbid": False,
                **values,
            }
        )


def add(world: World, stories: Stories, seed: int) -> tuple[World, Muddle]:
    """The world with its muddle; what was there before is as it was."""
    rng = np.random.default_rng([seed, 23, *world.spec.key.encode()])
    spare = _spare_families(world, stories)
    world, lost, shadowing = _shelved(world, spare)
    world, replaced, gap = _more_products(world, spare, rng)
    grown = _Growing(world)
    drains = _everything(grown, spare, rng)
    doubled = _doubled(grown, spare)
    crowded = _crowded(grown, spare, rng)
    _leftover(grown, spare, rng)
    world = _with(world, grown, rng)
    return world, Muddle(
        everything="catch everything",
        drains=drains,
        replaced=replaced,
        gap=gap,
        lost=lost,
        shadowing=shadowing,
        doubled=doubled,
        crowded=crowded,
        unnamed=("catch everything", crowded, "old test 2"),
    )


def _spare_families(world: World, stories: Stories) -> list[str]:
    """Families in which no story plays, largest first."""
    played = {*stories.collapsed, *stories.bought, *stories.gained, *stories.leaked}
    sizes = (
        world.products.group_by("family", maintain_order=True)
        .agg(pl.len().alias("size"), (pl.col("sku").is_in(list(played)) | pl.col("drags")).any().alias("plays"))
        .filter(~pl.col("plays"))
        .sort("size", descending=True, maintain_order=True)
    )
    return [str(name) for name in sizes["family"]]


def _shelved(world: World, spare: list[str]) -> tuple[World, tuple[Lost, ...], str]:
    """One product that lost its ads lately for a wrong mark, and one that never had any: its sibling takes them all."""
    twins = [name for name in spare if len(_of(world, name)) >= 2]
    marked, never = _of(world, twins[0])[0], _of(world, twins[1])[0]
    shadowing = _of(world, twins[1])[1]
    since = max(1, world.days - 15)
    lost = (Lost(world.products["sku"][marked], WRONG_MARK, since), Lost(world.products["sku"][never], NO_STOCK, 0))
    on = {marked: since, never: 0}
    reasons = {marked: WRONG_MARK, never: NO_STOCK}
    products = world.products.with_columns(
        lost_on=pl.Series([on.get(n) for n in range(len(world.products))], dtype=pl.Int64),
        reason=pl.Series([reasons.get(n, "") for n in range(len(world.products))]),
    )
    return replace(world, products=products), lost, str(world.products["sku"][shadowing])


def _of(world: World, family: str) -> list[int]:
    return [int(number) for number in world.products.filter(pl.col("family") == family)["product_no"]]


def _more_products(
    world: World, spare: list[str], rng: np.random.Generator
) -> tuple[World, tuple[tuple[str, str], ...], tuple[str, ...]]:
    """The newer SKU of an item, sent by the marketplace itself; and two products that nobody advertises."""
    rows = world.products.to_dicts()
    old = rows[_of(world, spare[-1])[0]]
    fresh = [
        {
            **old,
            "sku": f"{old['sku']}-N",
            "fulfilment": "marketplace",
            "cvr": old["cvr"] * 1.1,
            "lost_on": None,
            "reason": "",
        }
    ]
    for family in (spare[-1], spare[0]):
        like = rows[_of(world, family)[-1]]
        number = len(rows) + len(fresh)
        fresh.append(
            {
                **like,
                "sku": f"{like['sku'].rsplit('-', 1)[0]}-GIFT{number}",
                "item_id": f"TM{number + 40117:07d}",
                "variant": "gift box",
                "title": like["title"].replace(like["variant"], "gift box"),
                "price": round(like["price"] * 1.3, 2),
                "cvr": float(like["cvr"] * rng.uniform(0.9, 1.2)),
                "lost_on": None,
                "reason": "",
            }
        )
    for offset, row in enumerate(fresh):
        row |= {"product_no": len(rows) + offset, "drags": False}
    products = pl.DataFrame(rows + fresh, schema=world.products.schema).with_columns(
        fulfilment=pl.when(pl.col("sku") == old["sku"]).then(pl.lit("merchant")).otherwise("fulfilment")
    )
    mood = np.vstack([world.mood, np.ones((len(fresh), world.days))])
    gap = tuple(str(row["sku"]) for row in fresh[1:])
    return (replace(world, products=products, mood=mood), ((str(old["sku"]), str(fresh[0]["sku"])),), gap)


def _advertised(world: World) -> list[int]:
    return sorted({int(number) for number in world.ad_products["product_no"]})


def _everything(grown: _Growing, spare: list[str], rng: np.random.Generator) -> tuple[str, ...]:
    """One automatic campaign for all there is; two products in it take the clicks and sell next to nothing there."""
    world = grown.world
    like = world.campaigns.to_dicts()[0]
    number = grown.campaign("catch everything", like, targeting="auto", format="product", family="")
    entries = _advertised(world)
    safe = [n for n in entries if world.products["family"][n] in spare and world.products["lost_on"][n] is None]
    drains = [int(n) for n in rng.permutation(safe)[:2]]
    shares = {n: float(rng.uniform(0.6, 1.4)) * (_SHARE_OF_DRAINS if n in drains else 1.0) for n in entries}
    group = grown.group(number, "All products", shares, dict.fromkeys(drains, _FIT_OF_DRAINS))
    products = world.products
    worth = float(np.mean((products["cvr"] * products["price"]).to_numpy()[entries])) * world.spec.target_acos
    for place, text in enumerate(AUTO_TARGETS):
        category = world.spec.categories[place % len(world.spec.categories)].name
        grown.target(
            group,
            number,
            target=text,
            match_type="auto",
            category=category,
            bid=round(worth * 0.8, 2),
            appeal=0.95,
            busy=_BUSY,
        )
    return tuple(str(products["sku"][n]) for n in drains)


def _shares_like(world: World, group_no: int) -> dict[int, float]:
    own = world.ad_products.filter(pl.col("ad_group_no") == group_no)
    return dict(zip(own["product_no"].to_list(), own["share"].to_list(), strict=True))


def _doubled(grown: _Growing, spare: list[str]) -> str:
    """Keywords that a campaign buys already, bought once more for the same products."""
    world = grown.world
    first = world.campaigns.filter(
        (pl.col("family") == spare[0]) & pl.col("campaign").str.ends_with("exact")
    ).to_dicts()[0]
    name = first["campaign"].replace("own terms", "own terms again")
    number = grown.campaign(name, first)
    old = world.ad_groups.filter(pl.col("campaign_no") == first["campaign_no"])["ad_group_no"][0]
    group = grown.group(number, f"{spare[0]}s again", _shares_like(world, old), {})
    for row in world.targets.filter(pl.col("ad_group_no") == old).head(_DOUBLED).to_dicts():
        grown.target(
            group,
            number,
            target=row["target"],
            match_type="exact",
            category=row["category"],
            bid=round(row["bid"] * 1.1, 2),
            appeal=row["appeal"] * 0.9,
            busy=0.5,
        )
    return str(name)


def _crowded(grown: _Growing, spare: list[str], rng: np.random.Generator) -> str:
    """An ad group with too many targets of three match types, for products that have nothing in common."""
    world = grown.world
    first = world.campaigns.filter(pl.col("family") == spare[0]).to_dicts()[0]
    name = f"{first['campaign'].split(' · ')[0]} mix 2024"
    number = grown.campaign(name, first, targeting="manual", format="product")
    members = {n: 1.0 for family in (spare[0], spare[-1]) for n in _of(world, family) if n in _advertised(world)}
    group = grown.group(number, "mix", members, {})
    category = first["portfolio"]
    texts = world.queries.filter(pl.col("category") == category).sort("volume", descending=True)["text"].to_list()
    mean = float(np.mean([world.products["cvr"][n] * world.products["price"][n] for n in members]))
    for match, count in _CROWD:
        for text in rng.choice(texts[:160], count, replace=False):
            grown.target(
                group,
                number,
                target=str(text),
                match_type=match,
                category=category,
                bid=max(0.12, round(mean * world.spec.target_acos * 0.6, 2)),
                appeal=float(rng.lognormal(-0.1, 0.2)),
                busy=_QUIET,
            )
    return name


def _leftover(grown: _Growing, spare: list[str], rng: np.random.Generator) -> None:
    """A small campaign of which nobody knows any more what it was for."""
    world = grown.world
    first = world.campaigns.filter(pl.col("family") == spare[0]).to_dicts()[0]
    number = grown.campaign("old test 2", first, targeting="manual", format="product")
    members = {n: 1.0 for n in _of(world, spare[0]) if n in _advertised(world)}
    group = grown.group(number, "test", members, {})
    texts = world.queries.filter(pl.col("category") == first["portfolio"])["text"].to_list()
    for text in rng.choice(texts[:60], 3, replace=False):
        grown.target(
            group,
            number,
            target=str(text),
            match_type="phrase",
            category=first["portfolio"],
            bid=0.3,
            appeal=0.9,
            busy=0.4,
        )


def _with(world: World, grown: _Growing, rng: np.random.Generator) -> World:
    targets = pl.DataFrame(grown.targets)
    pairs = pairs_of(targets, world.queries, rng).join(targets.select("target_no", "busy"), on="target_no")
    pairs = pairs.with_columns(pull=pl.col("pull") * pl.col("busy")).drop("busy")

    def more(frame: pl.DataFrame, rows: pl.DataFrame) -> pl.DataFrame:
        return pl.concat([frame, rows.select(pl.col(name).cast(dtype) for name, dtype in frame.schema.items())])

    bids = np.repeat(targets["bid"].to_numpy()[:, None], world.days, axis=1)
    return replace(
        world,
        campaigns=more(world.campaigns, pl.DataFrame(grown.campaigns)),
        ad_groups=more(world.ad_groups, pl.DataFrame(grown.groups)),
        ad_products=more(world.ad_products, pl.DataFrame(grown.ads)),
        targets=more(world.targets, targets),
        pairs=more(world.pairs, pairs.with_columns(pair_no=pl.col("pair_no") + len(world.pairs))),
        bids=np.vstack([world.bids, bids]),
    )
