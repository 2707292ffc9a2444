"""The report files a marketplace would hand out, and, apart from them, the truth."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import asdict, replace
from datetime import date, timedelta
from pathlib import Path
from typing import Any

import numpy as np
import polars as pl

from nimbus_reef.core.model import MEASURES
from nimbus_reef.sim import shares
from nimbus_reef.sim.delivery import ORGANIC_CLOCK
from nimbus_reef.sim.muddle import Muddle
from nimbus_reef.sim.schedule import ADJUSTED, PLACES
from nimbus_reef.sim.stories import Stories
from nimbus_reef.sim.trade import EXTRA_UNITS, MATURES_IN, ORGANIC_CVR, Trade, true_conversion
from nimbus_reef.sim.world import World

_SETTINGS_EVERY = 7
_TRUTH_DAYS = 30
_FEW_CLICKS = 10
_LISTED_FROM = 10
_ADJUSTMENTS = ("adj_top_of_search", "adj_elsewhere", "adj_product_page")
"""What raises the bid in each of the adjusted places, in their order."""
assert len(_ADJUSTMENTS) == ADJUSTED
_DEFAULT_BID = 0.5
"""A term is listed on a day once it was clicked, or shown this often."""


def changes(world: World, last_day: date) -> pl.DataFrame:
    """Every move of a bid, at some hour of the morning."""
    targets, days = np.nonzero(np.diff(world.bids, axis=1))
    moves = pl.DataFrame(
        {
            "target_no": targets,
            "day": days + 1,
            "minute": targets % 120,
            "old": world.bids[targets, days],
            "new": world.bids[targets, days + 1],
        }
    )
    frame = moves.join(_names(world).with_columns(pl.col("target_no").cast(pl.Int64)), on="target_no")
    hour = pl.duration(hours=8, minutes=pl.col("minute"))
    return (
        with_dates(frame, world, last_day)
        .select(
            (pl.col("date").cast(pl.Datetime) + hour).dt.strftime("%Y-%m-%dT%H:%M:%SZ").alias("at"),
            "campaign",
            "ad_group",
            "target",
            "match_type",
            pl.lit("bid").alias("field"),
            *(pl.col(name).map_elements("{:.2f}".format, return_dtype=pl.String) for name in ("old", "new")),
            pl.lit("bid round").alias("by"),
        )
        .sort("at", "campaign", "target")
    )


def listings(world: World, stories: Stories, seed: int, last_day: date) -> pl.DataFrame:
    """Every product's page on every day; most of them hardly change."""
    rng = np.random.default_rng([seed, 17, *world.spec.key.encode()])
    rows, days = [], range(world.days)
    for product in world.products.to_dicts():
        images, bullets = int(rng.integers(5, 8)), int(rng.integers(4, 6))
        rating, reviews = float(rng.uniform(3.9, 4.8)), int(rng.integers(40, 2400))
        changed = {page.day: page for page in stories.pages if page.product_no == product["product_no"]}
        rich = "yes" if rng.random() < 0.6 else "no"
        for day in days:
            if day in changed:
                images, bullets = changed[day].images, changed[day].bullets
            reviews += int(rng.random() < 0.15)
            rows.append(
                {
                    "day": day,
                    "sku": product["sku"],
                    "title": product["title"],
                    "bullets": bullets,
                    "images": images,
                    "rich_content": rich,
                    "brand_section": rich,
                    "rating": round(rating, 1),
                    "reviews": reviews,
                    "price": product["price"],
                    "in_stock": "yes",
                    "main_offer": "own",
                }
            )
    frame = with_dates(pl.DataFrame(rows), world, last_day)
    return frame.select("date", pl.exclude("date", "day")).sort("date", "sku")


def reports(world: World, trade: Trade, last_day: date, seed: int = 0) -> dict[str, pl.DataFrame]:
    """
    A frame per report kind, with the contract's column names, money in units.

    They are as handed out on the morning after the last day: orders that are not yet
    attributed to their click are not in them.
    """
    trade = replace(trade, clicked=attributed(trade.clicked, world.days - 1))
    usual = {
        "catalog": catalog(world),
        "campaigns": _campaigns(world, last_day),
        "targets": _targets(world, last_day),
        "target_daily": target_daily(world, trade, last_day, seed),
        "search_term_daily": search_term_daily(world, trade, last_day, seed),
        "product_ad_daily": product_ad_daily(world, trade, last_day),
        "product_sales_daily": product_sales_daily(world, trade, last_day),
    }
    return usual if world.delivery is None else usual | _of_delivery(world, trade, seed, last_day)


def _of_delivery(world: World, trade: Trade, seed: int, last_day: date) -> dict[str, pl.DataFrame]:
    """What only a world with delivery can tell: campaigns by day, place and hour, trade by hour, ads and ad groups."""
    rng = np.random.default_rng([seed, 29, *world.spec.key.encode()])
    return {
        "campaign_daily": campaign_daily(world, trade, last_day),
        "placement_daily": placement_daily(world, trade, rng, last_day),
        "hourly": hourly(world, trade, rng, last_day),
        "sales_hourly": sales_hourly(world, trade, rng, last_day),
        "ad_groups": _ad_groups(world, last_day),
        "product_ads": _product_ads(world, last_day),
    }


def _campaign_names(world: World) -> pl.DataFrame:
    return world.campaigns.select(pl.col("campaign_no").cast(pl.Int64), "campaign")


def _shown_by_campaign(world: World, trade: Trade) -> pl.DataFrame:
    """campaign_no, day, impressions, idle: those that were not clicked; in order."""
    campaign = world.targets["campaign_no"].to_numpy()[world.pairs["target_no"].to_numpy()]
    shown = (
        trade.shown.with_columns(campaign_no=pl.Series(campaign[trade.shown["pair_no"].to_numpy()], dtype=pl.Int64))
        .group_by("campaign_no", "day")
        .agg(pl.col("impressions").sum())
    )
    clicked = trade.clicked.group_by("campaign_no", "day").agg(pl.len().cast(pl.Int64).alias("seen"))
    return (
        shown.join(clicked, on=["campaign_no", "day"], how="left")
        .with_columns(idle=pl.col("impressions") - pl.col("seen").fill_null(0))
        .sort("campaign_no", "day")
    )


def campaign_daily(world: World, trade: Trade, last_day: date) -> pl.DataFrame:
    """The report of campaigns by day."""
    shown = _shown_by_campaign(world, trade).select("campaign_no", "day", "impressions")
    frame = _measured(shown, trade.clicked, ["campaign_no", "day"]).join(_campaign_names(world), on="campaign_no")
    return with_dates(frame, world, last_day).select("date", "campaign", *MEASURES).sort("date", "campaign")


def _spread(world: World, trade: Trade, weights: np.ndarray, key: str, rng: np.random.Generator) -> pl.DataFrame:
    """Impressions of each campaign and day over places or hours: what was clicked there, the rest by weight."""
    shown = _shown_by_campaign(world, trade)
    whole = np.maximum(1e-12, weights.sum(axis=1, keepdims=True))
    idle = rng.multinomial(shown["idle"].to_numpy(), weights / whole)
    parts = pl.DataFrame(
        {
            "campaign_no": np.repeat(shown["campaign_no"].to_numpy(), idle.shape[1]),
            "day": np.repeat(shown["day"].to_numpy(), idle.shape[1]),
            key: np.tile(np.arange(idle.shape[1]), len(shown)),
            "idle": idle.ravel(),
        }
    )
    seen = trade.clicked.group_by("campaign_no", "day", key).agg(pl.len().cast(pl.Int64).alias("seen"))
    return (
        parts.join(seen, on=["campaign_no", "day", key], how="left")
        .with_columns(impressions=pl.col("idle") + pl.col("seen").fill_null(0))
        .select("campaign_no", "day", key, "impressions")
    )


def placement_daily(world: World, trade: Trade, rng: np.random.Generator, last_day: date) -> pl.DataFrame:
    """The report of placements by day."""
    assert world.delivery is not None
    shown = _shown_by_campaign(world, trade)
    weights = world.delivery.shares()[shown["campaign_no"].to_numpy()]
    spread = _spread(world, trade, weights, "place", rng).filter(pl.col("impressions") > 0)
    names = pl.DataFrame({"place": range(len(PLACES)), "placement": PLACES}, schema_overrides={"place": pl.Int64})
    frame = (
        _measured(spread, trade.clicked, ["campaign_no", "day", "place"])
        .join(_campaign_names(world), on="campaign_no")
        .join(names, on="place")
    )
    return (
        with_dates(frame, world, last_day)
        .select("date", "campaign", "placement", *MEASURES)
        .sort("date", "campaign", "placement")
    )


def _until_dry(world: World, trade: Trade) -> np.ndarray:
    """Hours for which each campaign's ads ran, campaign × day."""
    until = np.full((len(world.campaigns), world.days), 24.0)
    until[trade.dry["campaign_no"].to_numpy(), trade.dry["day"].to_numpy()] = trade.dry["at"].to_numpy()
    return until


def hourly(world: World, trade: Trade, rng: np.random.Generator, last_day: date) -> pl.DataFrame:
    """
    Every hour in which an ad was shown, and those after the budget was gone. In-budget minutes not on every
    marketplace.
    """
    assert world.delivery is not None
    shown = _shown_by_campaign(world, trade)
    campaign, day = shown["campaign_no"].to_numpy(), shown["day"].to_numpy()
    until = _until_dry(world, trade)
    running = np.clip(until[campaign, day][:, None] - np.arange(24)[None, :], 0, 1)
    spread = _spread(world, trade, world.delivery.clock()[campaign] * running, "hour", rng)
    minutes = np.round(60 * running).astype(np.int64).ravel()
    frame = spread.with_columns(in_budget_minutes=pl.Series(minutes)).filter(
        (pl.col("impressions") > 0) | (pl.col("in_budget_minutes") < 60)
    )
    frame = _measured(frame, trade.clicked, ["campaign_no", "day", "hour"]).join(
        _campaign_names(world), on="campaign_no"
    )
    columns = ["date", "hour", "campaign", *MEASURES, "in_budget_minutes"]
    dated = with_dates(frame, world, last_day).select(columns).sort("date", "hour", "campaign")
    if world.spec.key in _TELLS_MINUTES:
        return dated
    return dated.filter(pl.col("impressions") > 0).drop("in_budget_minutes")


_TELLS_MINUTES = ("fernhollow-de", "fernhollow-large")


def sales_hourly(world: World, trade: Trade, rng: np.random.Generator, last_day: date) -> pl.DataFrame:
    """All trade by hour: orders with ads at their click's hour, those without by the shop's own clock."""
    calm = trade.visits.filter(pl.col("orders") > 0)
    day = np.repeat(calm["day"].to_numpy(), calm["orders"].to_numpy())
    worth = np.repeat(calm["sales"].to_numpy() / calm["orders"].to_numpy(), calm["orders"].to_numpy())
    organic = pl.DataFrame({"day": day, "hour": rng.choice(24, len(day), p=ORGANIC_CLOCK), "orders": 1, "sales": worth})
    with_ads = trade.clicked.filter(pl.col("ordered") > 0).select(
        "day", "hour", pl.col("ordered").alias("orders"), "sales"
    )
    frame = (
        pl.concat([organic.select(pl.col("day", "hour", "orders").cast(pl.Int64), "sales"), with_ads])
        .group_by("day", "hour")
        .agg(total_orders=pl.col("orders").sum(), total_sales=pl.col("sales").sum().round(2))
    )
    return with_dates(frame, world, last_day).select("date", "hour", "total_orders", "total_sales").sort("date", "hour")


def _group_names(world: World) -> pl.DataFrame:
    return world.ad_groups.join(world.campaigns, on="campaign_no").select("ad_group_no", "campaign", "ad_group")


def _weekly(world: World) -> pl.DataFrame:
    days = sorted({*range(0, world.days, _SETTINGS_EVERY), world.days - 1})
    return pl.DataFrame({"day": days}, schema={"day": pl.Int64})


def _ad_groups(world: World, last_day: date) -> pl.DataFrame:
    frame = _group_names(world).join(_weekly(world), how="cross")
    return with_dates(frame, world, last_day).select(
        "date", "campaign", "ad_group", pl.lit("enabled").alias("state"), pl.lit(_DEFAULT_BID).alias("default_bid")
    )


def _product_ads(world: World, last_day: date) -> pl.DataFrame:
    skus = world.products.select("product_no", "sku")
    frame = (
        world.ad_products.join(_group_names(world), on="ad_group_no")
        .join(skus.with_columns(pl.col("product_no").cast(world.ad_products.schema["product_no"])), on="product_no")
        .join(_weekly(world), how="cross")
    )
    return with_dates(frame, world, last_day).select(
        "date", "campaign", "ad_group", "sku", pl.lit("enabled").alias("state")
    )


def attributed(clicked: pl.DataFrame, today: int) -> pl.DataFrame:
    """Clicks with the orders that are known of them on a day."""
    known = pl.col("known") <= today
    return clicked.with_columns(
        pl.when(known).then(pl.col(name)).otherwise(0).alias(name) for name in ("ordered", "units", "sales")
    )


def product_sales_daily(world: World, trade: Trade, last_day: date) -> pl.DataFrame:
    """All trade of a product: what ads brought (in the product clicked) and what came without."""
    with_ads = trade.clicked.group_by(pl.col("product_no").cast(pl.Int64), pl.col("day").cast(pl.Int64)).agg(
        pl.len().alias("ad_sessions"),
        pl.col("ordered").sum(),
        pl.col("units").sum().alias("ad_units"),
        pl.col("sales").sum().alias("ad_sales"),
    )
    skus = world.products.select(pl.col("product_no").cast(pl.Int64), "sku")
    frame = (
        trade.visits.join(with_ads, on=["product_no", "day"], how="left")
        .with_columns(pl.col("ad_sessions", "ordered", "ad_units", "ad_sales").fill_null(0))
        .join(skus, on="product_no")
    )
    return (
        with_dates(frame, world, last_day)
        .select(
            "date",
            "sku",
            (pl.col("sessions") + pl.col("ad_sessions")).alias("sessions"),
            (pl.col("orders") + pl.col("ordered")).alias("total_orders"),
            (pl.col("units") + pl.col("ad_units")).alias("total_units"),
            (pl.col("sales") + pl.col("ad_sales")).round(2).alias("total_sales"),
        )
        .sort("date", "sku")
    )


def write(frames: Mapping[str, pl.DataFrame], folder: Path) -> dict[str, Path]:
    """Writes each report as CSV into the folder."""
    folder.mkdir(parents=True, exist_ok=True)
    paths = {}
    for kind, frame in frames.items():
        paths[kind] = folder / f"{kind}.csv"
        frame.write_csv(paths[kind])
    return paths


def with_dates(frame: pl.DataFrame, world: World, last_day: date) -> pl.DataFrame:
    """Rows whose days are numbers, with their date."""
    first = last_day - timedelta(days=world.days - 1)
    return frame.with_columns(date=pl.lit(first) + pl.duration(days=pl.col("day")))


def _names(world: World) -> pl.DataFrame:
    """target_no with the names a report shows."""
    groups = world.ad_groups.join(world.campaigns, on="campaign_no").select("ad_group_no", "ad_group", "campaign")
    return world.targets.join(groups, on="ad_group_no").select(
        "target_no", "campaign", "ad_group", "target", "match_type", "ad_group_no"
    )


def catalog(world: World) -> pl.DataFrame:
    """The report of products."""
    launched = date(2024, 3, 4)
    return world.products.select(
        "sku",
        "item_id",
        pl.col("family_id").alias("parent_item_id"),
        "title",
        pl.lit(world.spec.name).alias("brand"),
        "category",
        (pl.lit(launched) + pl.duration(days=11 * pl.col("product_no"))).alias("launch_date"),
        "price",
        "margin",
        "fulfilment",
        pl.when(pl.col("lost_on").is_null()).then(pl.lit("yes")).otherwise(pl.lit("no")).alias("ad_eligible"),
        pl.col("reason").alias("ineligible_reason"),
    )


def _settings_days(world: World) -> list[int]:
    """Settings are exported weekly and on the days on which bids were moved."""
    moved = np.flatnonzero((np.diff(world.bids, axis=1) != 0).any(axis=0)) + 1
    return sorted({*range(0, world.days, _SETTINGS_EVERY), *moved.tolist(), world.days - 1})


def _campaigns(world: World, last_day: date) -> pl.DataFrame:
    days = pl.DataFrame({"day": _settings_days(world)}, schema={"day": pl.Int64})
    frame = world.campaigns.join(days, how="cross")
    settings = ["date", "campaign", "portfolio", "format", "targeting", "state", "daily_budget", "bidding"]
    frame = frame.with_columns(state=pl.lit("enabled"), bidding=pl.lit("down_only"))
    if world.delivery is not None:
        percent = np.round(world.delivery.adjustments * 100).astype(np.int64)
        own = pl.DataFrame(
            {
                "campaign": world.campaigns["campaign"],
                **{name: percent[:, place] for place, name in enumerate(_ADJUSTMENTS)},
                "offsite_limited": np.where(world.delivery.limited, "yes", "no"),
                "bidding": np.where(np.arange(len(percent)) % 9 == 4, "up_and_down", "down_only"),
            }
        )
        frame = frame.drop("bidding").join(own, on="campaign")
        settings += [*_ADJUSTMENTS, "offsite_limited"]
    return with_dates(frame, world, last_day).select(settings)


def _targets(world: World, last_day: date) -> pl.DataFrame:
    days = _settings_days(world)
    bids = pl.DataFrame(
        {
            "target_no": np.tile(np.arange(len(world.targets)), len(days)),
            "day": np.repeat(days, len(world.targets)),
            "bid": world.bids[:, days].T.ravel(),
        }
    )
    frame = bids.join(_names(world).with_columns(pl.col("target_no").cast(pl.Int64)), on="target_no")
    return with_dates(frame, world, last_day).select(
        "date", "campaign", "ad_group", "target", "match_type", pl.lit("enabled").alias("state"), "bid"
    )


_CLICKED = (
    pl.len().alias("clicks"),
    pl.col("cost").sum().round(2).alias("spend"),
    pl.col("ordered").sum().alias("orders"),
    pl.col("units").sum(),
    pl.col("sales").sum().round(2),
)


def _measured(shown: pl.DataFrame, clicked: pl.DataFrame, key: list[str]) -> pl.DataFrame:
    sums = clicked.group_by(key).agg(_CLICKED)
    return shown.join(sums, on=key, how="left").with_columns(pl.col(*MEASURES[1:]).fill_null(0))


def target_daily(world: World, trade: Trade, last_day: date, seed: int) -> pl.DataFrame:
    """The report of targets by day."""
    pair_target = world.pairs.select(pl.col("pair_no", "target_no").cast(pl.Int64))
    shown = trade.shown.join(pair_target, on="pair_no").group_by("target_no", "day").agg(pl.col("impressions").sum())
    names = _names(world).with_columns(pl.col("target_no").cast(pl.Int64))
    clicked = trade.clicked.with_columns(pl.col("target_no").cast(pl.Int64))
    frame = _measured(shown, clicked, ["target_no", "day"]).join(names, on="target_no")
    share = pl.Series(shares.at_the_top(world, frame["target_no"].to_numpy(), frame["day"].to_numpy(), seed))
    searched = pl.col("match_type").is_in(shares.SEARCHED) & (pl.col("impressions") >= _LISTED_FROM)
    return (
        with_dates(frame.with_columns(top_of_search_share=pl.when(searched).then(share)), world, last_day)
        .select("date", "campaign", "ad_group", "target", "match_type", *MEASURES, "top_of_search_share")
        .sort("date", "campaign", "ad_group", "target", "match_type")
    )


def search_term_daily(world: World, trade: Trade, last_day: date, seed: int) -> pl.DataFrame:
    """Display ads are not searched for: their campaigns have no terms."""
    pairs = world.pairs.select(pl.col("pair_no", "target_no", "query_no").cast(pl.Int64))
    names = _names(world).with_columns(pl.col("target_no").cast(pl.Int64))
    text = world.queries.select(pl.col("query_no").cast(pl.Int64), pl.col("text").alias("search_term"))
    searched = world.campaigns.filter(pl.col("format") != "display").select("campaign")
    frame = (
        _measured(trade.shown, trade.clicked, ["pair_no", "day"])
        .filter((pl.col("clicks") > 0) | (pl.col("impressions") >= _LISTED_FROM))
        .join(pairs, on="pair_no")
        .join(names, on="target_no")
        .join(searched, on="campaign", how="semi")
        .join(text, on="query_no")
    )
    share, rank = shares.of_searches(world, frame["query_no"].to_numpy(), frame["day"].to_numpy(), seed)
    frame = frame.with_columns(impression_share=pl.Series(share), impression_rank=pl.Series(rank))
    return (
        with_dates(frame, world, last_day)
        .select(
            *("date", "campaign", "ad_group", "target", "match_type", "search_term", *MEASURES),
            *("impression_share", "impression_rank"),
        )
        .sort("date", "campaign", "ad_group", "target", "match_type", "search_term")
    )


def product_ad_daily(world: World, trade: Trade, last_day: date) -> pl.DataFrame:
    """Impressions that were not clicked are spread over the ad group's products by share."""
    group_of = world.targets.select(pl.col("target_no", "ad_group_no").cast(pl.Int64))
    pair_target = world.pairs.select(pl.col("pair_no", "target_no").cast(pl.Int64))
    unclicked = (
        trade.shown.join(pair_target, on="pair_no")
        .join(group_of, on="target_no")
        .group_by("ad_group_no", "day")
        .agg(pl.col("impressions").sum())
        .join(
            trade.clicked.join(group_of, on="target_no").group_by("ad_group_no", "day").len("clicks"),
            on=["ad_group_no", "day"],
            how="left",
        )
        .with_columns(rest=pl.col("impressions") - pl.col("clicks").fill_null(0))
    )
    lost = world.products.select(pl.col("product_no").cast(pl.Int64), "lost_on")
    ads = world.ad_products.select(pl.col("ad_group_no", "product_no").cast(pl.Int64), "share").join(
        lost, on="product_no"
    )
    clicked = trade.clicked.join(group_of, on="target_no")
    sums = clicked.group_by("ad_group_no", "product_no", "day").agg(_CLICKED)
    frame = (
        unclicked.join(ads, on="ad_group_no")
        .filter(pl.col("lost_on").is_null() | (pl.col("day") < pl.col("lost_on")))
        .with_columns(share=pl.col("share") / pl.col("share").sum().over("ad_group_no", "day"))
        .join(sums.rename({"clicks": "own_clicks"}), on=["ad_group_no", "product_no", "day"], how="left")
        .with_columns(pl.col("own_clicks", *MEASURES[2:]).fill_null(0))
        .with_columns(
            clicks=pl.col("own_clicks"),
            impressions=(pl.col("rest") * pl.col("share")).floor().cast(pl.Int64) + pl.col("own_clicks"),
        )
    )
    groups = world.ad_groups.join(world.campaigns, on="campaign_no").select(
        pl.col("ad_group_no").cast(pl.Int64), "ad_group", "campaign"
    )
    skus = world.products.select(pl.col("product_no").cast(pl.Int64), "sku")
    frame = frame.join(groups, on="ad_group_no").join(skus, on="product_no")
    return (
        with_dates(frame, world, last_day)
        .select("date", "campaign", "ad_group", "sku", pl.lit("enabled").alias("state"), *MEASURES)
        .sort("date", "campaign", "ad_group", "sku")
    )


def truth(world: World, trade: Trade) -> dict[str, Any]:
    """
    What is true of every target, (ad group, term), product ad and misspelt word in the
    newest mature 30 days.

    true_acos is the mean price paid ÷ (true conversion × mean order value), over the
    clicks the row really had; bad means over the account's target. unlucky lists rows
    that are good, had clicks and no order.
    """
    newest = world.days - MATURES_IN
    recent = trade.clicked.filter(pl.col("day").is_between(newest - _TRUTH_DAYS, newest - 1))
    drawn = ("pair_no", "product_no", "day", "ease")
    cvr = true_conversion(world, *(recent[name].to_numpy() for name in drawn))
    price = world.products["price"].to_numpy()[recent["product_no"].to_numpy()]
    names = _names(world).with_columns(pl.col("target_no").cast(pl.Int64))
    text = world.pairs.join(world.queries, on="query_no").select(
        pl.col("pair_no").cast(pl.Int64), pl.col("text").alias("search_term"), "misspelt"
    )
    facts = (
        recent.with_columns(
            pl.col("target_no").cast(pl.Int64),
            expected_orders=pl.Series(cvr),
            expected_sales=pl.Series(cvr * price * (1 + EXTRA_UNITS)),
        )
        .join(names, on="target_no")
        .join(text, on="pair_no")
        .with_columns(placement=pl.col("place").replace_strict(dict(enumerate(PLACES))))
        .join(world.products.select(pl.col("product_no").cast(pl.Int64), "sku"), on="product_no")
    )

    def rows(key: list[str]) -> list[dict[str, object]]:
        frame = facts.group_by(key).agg(
            pl.len().alias("clicks"),
            pl.col("cost").sum().round(2).alias("spend"),
            pl.col("ordered").sum().alias("orders"),
            pl.col("expected_orders").mean().alias("true_cvr"),
            (pl.col("cost").sum() / pl.col("expected_sales").sum()).alias("true_acos"),
            pl.col("expected_sales").sum(),
        )
        overspend = pl.col("spend") - world.spec.target_acos * pl.col("expected_sales")
        return (
            frame.with_columns(bad=pl.col("true_acos") > world.spec.target_acos, overspend=overspend.clip(0).round(2))
            .with_columns(unlucky=~pl.col("bad") & (pl.col("orders") == 0) & (pl.col("clicks") >= _FEW_CLICKS))
            .drop("expected_sales")
            .sort(key)
            .to_dicts()
        )

    return {
        "account": world.spec.key,
        "target_acos": world.spec.target_acos,
        "targets": rows(["campaign", "ad_group", "target", "match_type"]),
        "search_terms": rows(["campaign", "ad_group", "search_term"]),
        "product_ads": rows(["campaign", "ad_group", "sku"]),
        "misspelt": [row for row in rows(["misspelt"]) if row["misspelt"]],
        "drags": world.products.filter("drags")["sku"].to_list(),
        **({} if world.delivery is None else _truth_of_delivery(world, trade, rows)),
    }


def _truth_of_delivery(
    world: World, trade: Trade, rows: Callable[[list[str]], list[dict[str, object]]]
) -> dict[str, object]:
    """Placements like targets; by campaign, what was missed in the same days since its budget was gone."""
    assert world.delivery is not None
    newest = world.days - MATURES_IN
    of_days = pl.col("day").is_between(newest - _TRUTH_DAYS, newest - 1)
    missed = trade.missed.filter(of_days)
    cvr = true_conversion(world, *(missed[name].to_numpy() for name in ("pair_no", "product_no", "day", "ease")))
    price = world.products["price"].to_numpy()[missed["product_no"].to_numpy()]
    lost = missed.with_columns(worth=pl.Series(cvr * price * (1 + EXTRA_UNITS)))
    sums = (
        lost.join(_campaign_names(world), on="campaign_no")
        .group_by("campaign")
        .agg(
            clicks=pl.len(),
            spend=pl.col("cost").sum().round(2),
            sales=pl.col("worth").sum().round(2),
            days=pl.col("day").n_unique(),
        )
        .sort("campaign")
    )
    names = world.campaigns["campaign"]
    dry = trade.dry.filter(of_days).join(_campaign_names(world), on="campaign_no")
    return {
        "families": _truth_of_families(world, trade, newest),
        "dry": dry.select("campaign", "day", "at").to_dicts(),
        "placements": rows(["campaign", "placement"]),
        "missed": sums.to_dicts(),
        "tight": [names[number] for number in world.delivery.tight],
        "idle": [names[number] for number in world.delivery.idle],
    }


def _truth_of_families(world: World, trade: Trade, newest: int) -> list[dict[str, object]]:
    """
    By product in the same days: what its clicks cost, and what it is expected to sell in all, with
    ads and without.
    """
    of_days = pl.col("day").is_between(newest - _TRUTH_DAYS, newest - 1)
    clicked, visits = trade.clicked.filter(of_days), trade.visits.filter(of_days)
    drawn = ("pair_no", "product_no", "day", "ease")
    by_ads = true_conversion(world, *(clicked[name].to_numpy() for name in drawn))
    products, days = (visits[name].to_numpy() for name in ("product_no", "day"))
    usual = ORGANIC_CVR * world.products["cvr"].to_numpy()[products] * world.mood[products, days]
    by_visits = visits["sessions"].to_numpy() * np.minimum(0.5, usual)
    size, price = len(world.products), world.products["price"].to_numpy()
    orders = np.bincount(clicked["product_no"].to_numpy(), by_ads, size) + np.bincount(products, by_visits, size)
    spend = np.bincount(clicked["product_no"].to_numpy(), clicked["cost"].to_numpy(), size)
    frame = world.products.select("sku", "family").with_columns(
        spend=pl.Series(spend), sales=pl.Series(orders * price * (1 + EXTRA_UNITS))
    )
    return frame.to_dicts()


def told_of_muddle(muddle: Muddle, last_day: date, days: int) -> dict[str, object]:
    """What is out of order, with dates in place of the numbers of days."""
    first = last_day - timedelta(days=days - 1)
    lost = [
        {"sku": each.sku, "reason": each.reason, "since": (first + timedelta(days=each.day)).isoformat()}
        for each in muddle.lost
    ]
    return {**asdict(muddle), "lost": lost}


def write_truth(truth: Mapping[str, object], path: Path) -> None:
    """Writes the truth beside, never among, the reports."""
    path.write_text(json.dumps(truth, ensure_ascii=False, indent=1))
