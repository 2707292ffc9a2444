"""Who ranks and who pays for the phrases of keyword lists: gaps to the rivals, and the rivals themselves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import timedelta
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.analysis.reach import buying, market
from nimbus_reef.analysis.reach.pool import pool
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import rank_gaps, words
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.market_fit import SEEN_WITHIN
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.rank_gaps import BattleLimits
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import market_frames, product_frames, target_frames
from nimbus_reef.store.reading.facts import Facts

VIEWS: Final = ("ranks", "rival-ads")
"""Whose rows are phrases of keyword lists."""
_BEFORE: Final = timedelta(days=21)
"""Ranks are compared with those of so long ago, or the oldest after."""


def gaps(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Every phrase of keyword lists: row_id, phrase, sku, category, volume (searches a week), own_rank, best_rival (of
    those looked at), ahead (brands of those that rank within 40 and before us), rivals_seen, rivals_asked, relevance
    (the part of them that ranks within 40), own_ad (best own sponsored rank), paying (items of other brands with a
    sponsored rank), new_paying (of them without one before), bought (paid clicks in 90 days, or a live keyword), title
    (how its words stand in the product's), missing (those that do not), gap, fight (see `core.rank_gaps`), bid, pays,
    gain (of the pool, null where it is not in it), profit and clicks (in 28 days, where an exact keyword would pay).
    Kept.
    """

    def make() -> pl.DataFrame:
        account_id = selection.account.id
        every = market.phrases(facts, selection).filter("listed")
        live = target_frames.live(facts, account_id, selection.window)
        keywords = live.filter(~pl.col("match_type").cast(pl.String).str.starts_with("negative"))["target_normal_id"]
        found = pool(facts, selection)
        judged = pl.DataFrame(
            schema={
                "normal_id": pl.UInt32,
                "bid": pl.Float64,
                "pays": pl.Float64,
                "gain": pl.Float64,
                "clicks": pl.Float64,
                "stays": pl.String,
            }
        )
        if found is not None:
            judged = found.rows.select(judged.columns)
        limits = _limits(selection)
        rows = (
            every.join(_best(facts, selection), on="normal_id", how="left", maintain_order="left")
            .join(_paid(facts, selection), on="normal_id", how="left", maintain_order="left")
            .join(_ahead(facts, selection, every), on="normal_id", how="left", maintain_order="left")
            .join(judged, on="normal_id", how="left", maintain_order="left")
            .with_columns(
                row_id=pl.col("normal_id").cast(pl.String),
                relevance=pl.col("rivals_seen") / pl.col("rivals_asked"),
                bought=(pl.col("own_clicks") > 0)
                | pl.col("normal_id").is_in(keywords.cast(pl.UInt32).unique().implode()),
                sku=pl.col("sku").cast(pl.String),
                would_pay=pl.col("gain").is_not_null() & pl.col("stays").is_null(),
            )
        )
        titles = _titled(facts, selection, rows)
        return (
            rows.hstack(titles)
            .with_columns(
                pl.col("paying", "new_paying").fill_null(0), pl.col("ahead").fill_null(""), gap=rank_gaps.gap(limits)
            )
            .with_columns(
                fight=rank_gaps.fight(),
                profit=pl.when("would_pay").then("gain"),
                clicks=pl.when("would_pay").then("clicks"),
            )
            .select(_COLUMNS)
            .sort(["volume", "phrase"], descending=[True, False], nulls_last=True)
        )

    account = selection.account
    of = (*selection.whole.judging, *market.key(selection), account.settings.unwanted_words, account.own_limits)
    return facts.kept("rank gaps", selection.account.id, make, *of)


_COLUMNS: Final = (
    "row_id",
    "normal_id",
    "phrase",
    "sku",
    "category",
    "volume",
    "own_rank",
    "best_rival",
    "ahead",
    "rivals_seen",
    "rivals_asked",
    "relevance",
    "own_ad",
    "paying",
    "new_paying",
    "bought",
    "title",
    "missing",
    "gap",
    "fight",
    "bid",
    "pays",
    "gain",
    "profit",
    "clicks",
)


def _limits(selection: Selection) -> BattleLimits:
    settings = selection.account.settings
    return BattleLimits(settings.battle_held, settings.battle_behind, settings.battle_rivals)


def _best(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, best_rival."""
    asked = market.rivals(facts, selection)["item"]
    ranks = market_frames.newest_ranks(facts, selection.account.id, market.as_of(selection))
    here = ranks.filter(pl.col("item").is_in(asked.implode()))
    return here.group_by("normal_id").agg(best_rival=pl.col("organic").min())


def _ahead(facts: Facts, selection: Selection, every: pl.DataFrame) -> pl.DataFrame:
    """normal_id, ahead: brands of the rivals that rank within 40 and before us, the first first."""
    asked = market.rivals(facts, selection).select("item", rival="brand")
    ranks = market_frames.newest_ranks(facts, selection.account.id, market.as_of(selection))
    before_us = pl.col("own_rank").is_null() | (pl.col("organic") < pl.col("own_rank"))
    return (
        ranks.join(asked, on="item")
        .join(every.select("normal_id", "own_rank"), on="normal_id")
        .filter(pl.col("organic") <= SEEN_WITHIN, before_us)
        .sort("normal_id", "organic")
        .group_by("normal_id", maintain_order=True)
        .agg(ahead=pl.col("rival").unique(maintain_order=True).str.join(", "))
    )


def _paid(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, own_ad, paying, new_paying: who shows ads for a phrase."""
    account_id, last = selection.account.id, market.as_of(selection)
    own = product_frames.catalog(facts, account_id)["item"].cast(pl.String).drop_nulls().unique()
    ranks = market_frames.newest_ranks(facts, account_id, last)
    before = market_frames.newest_ranks(facts, account_id, last - _BEFORE).filter(pl.col("sponsored").is_not_null())
    mine = pl.col("item").is_in(own.implode())
    shown = ranks.filter(pl.col("sponsored").is_not_null())
    known = shown.join(
        before.select("normal_id", "item", earlier=pl.lit(True)), on=["normal_id", "item"], how="left"
    ).with_columns(pl.col("earlier").fill_null(False))
    # Before the first load nothing is new: there is nothing to compare with.
    new = ~mine & ~pl.col("earlier") if len(before) else pl.lit(False)
    return known.group_by("normal_id").agg(
        own_ad=pl.col("sponsored").filter(mine).min(),
        paying=(~mine).sum().cast(pl.Int64),
        new_paying=new.sum().cast(pl.Int64),
    )


def _titled(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    """title, missing of each row: how its words stand in its product's title."""
    of = {sku: words.words(title) for sku, title in market.titles(facts, selection).items()}
    told = [rank_gaps.titled(text.split(), of.get(sku, ())) for text, sku in rows.select("text", "sku").rows()]
    return pl.DataFrame(
        [(how.value, lacks) for how, lacks in told], schema={"title": pl.String, "missing": pl.String}, orient="row"
    )


def rows_of(facts: Facts, selection: Selection, keys: Sequence[str]) -> list[dict[str, Any]]:
    """The rows of `gaps` with these keys, in their order; NotFound for one that is not there."""
    order = pl.DataFrame({"row_id": list(keys)}, schema={"row_id": pl.String})
    rows = order.join(gaps(facts, selection), on="row_id", maintain_order="left")
    if len(rows) < len(keys):
        raise NotFound("This phrase is not in a keyword list.", remedy="Reload the list.")
    return rows.to_dicts()


def proposals(facts: Facts, selection: Selection, keys: Sequence[str]) -> list[Proposal]:
    """Of each phrase what the pool proposes; of one that is not in it, that nothing is."""
    found = pool(facts, selection)
    held = set() if found is None else set(found.rows["row_id"].to_list()) & set(keys)
    offered = {each.row_id: each for each in buying.proposals(facts, selection, [key for key in keys if key in held])}
    lacking = {row["row_id"]: row for row in rows_of(facts, selection, [key for key in keys if key not in offered])}
    return [offered[key] if key in offered else _none(lacking[key]) for key in keys]


def _none(row: Mapping[str, Any]) -> Proposal:
    why = "you bid on it already" if row["bought"] else "left out of the phrases that were never bought"
    return Proposal(
        EntityKey(Subject.NEW_PHRASE, "", "", row["phrase"], "exact"),
        row["row_id"],
        Headline(HeadlineKey.LEAVE),
        reasons=(Reason(ReasonKey.PHRASE_HELD, (why,)),),
        name=row["phrase"],
    )


def seen_most(facts: Facts, selection: Selection, phrases: pl.Series) -> list[tuple[str, str]]:
    """Item and brand of the rivals that rank within 40 for most of some phrases, those first."""
    every = _within(facts, selection)

    def most(here: pl.DataFrame) -> pl.DataFrame:
        counts = here.group_by("item").agg(pl.len().alias("phrases"), pl.col("rival").first())
        order = counts.sort(["phrases", "item"], descending=[True, False]).head(market.MOST_RIVALS)
        return order.select("item", pl.coalesce("rival", "item"))

    if len(phrases) < len(gaps(facts, selection)):
        return most(every.filter(pl.col("normal_id").is_in(phrases.implode()))).rows()
    account_id, of = selection.account.id, market.key(selection)
    return facts.kept("rivals seen most", account_id, lambda: most(every), *of).rows()


def ranks_of(facts: Facts, selection: Selection, item: str, phrases: pl.Series) -> dict[int, float]:
    """The ranks within 40 of a rival by the normal_id of some phrases."""
    every = _within(facts, selection)["normal_id"]
    low, high = (every.search_sorted(phrases, side=side).to_numpy().astype(np.int64) for side in ("left", "right"))
    count = high - low
    places = np.arange(count.sum()) + np.repeat(high - np.cumsum(count), count)
    here = _within(facts, selection)[places].filter(pl.col("item") == item)
    return dict(here.select("normal_id", "organic").rows())


def _within(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, item, rival (its brand), organic: where the rivals that are looked at rank within 40. Kept."""

    def make() -> pl.DataFrame:
        asked = market.rivals(facts, selection).select("item", rival="brand")
        ranks = market_frames.newest_ranks(facts, selection.account.id, market.as_of(selection))
        within = ranks.filter(pl.col("organic") <= SEEN_WITHIN).join(asked, on="item")
        return within.select("normal_id", "item", "rival", "organic").sort("normal_id", "item")

    return facts.kept("ranks within 40", selection.account.id, make, *market.key(selection))


def rivals(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Other brands' items of the rivals report and of keyword lists: row_id (the item), brand, title, category, launched,
    price, monthly_sales (units), rating, reviews, seen (phrases for which it ranks within 40), before (the same about
    three weeks ago, null without such a list), ahead (of them, how often it is ahead of us), paying (phrases with a
    sponsored rank), chosen (its ranks are looked at) and picked (by hand). Kept.
    """

    def make() -> pl.DataFrame:
        account_id, last = selection.account.id, market.as_of(selection)
        own = product_frames.catalog(facts, account_id)["item"].cast(pl.String).drop_nulls().unique()
        ranks = market_frames.newest_ranks(facts, account_id, last).filter(~pl.col("item").is_in(own.implode()))
        earlier = market_frames.newest_ranks(facts, account_id, last - _BEFORE)
        ours = market.phrases(facts, selection).select("normal_id", "own_rank")
        within = pl.col("organic") <= SEEN_WITHIN
        ahead = within & (pl.col("own_rank").is_null() | (pl.col("organic") < pl.col("own_rank")))
        sums = (
            ranks.join(ours, on="normal_id", how="left")
            .group_by("item")
            .agg(
                listed_brand=pl.col("brand").drop_nulls().last(),
                seen=within.sum().cast(pl.Int64),
                ahead=ahead.sum().cast(pl.Int64),
                paying=pl.col("sponsored").is_not_null().sum().cast(pl.Int64),
            )
        )
        then = earlier.group_by("item").agg(before=within.sum().cast(pl.Int64))
        looked_at = market.rivals(facts, selection)["item"]
        known = market_frames.rivals(facts, account_id).with_columns(
            pl.col("item", "brand", "title", "category").cast(pl.String)
        )
        return (
            known.join(sums, on="item", how="full", coalesce=True)
            .join(then, on="item", how="left")
            .with_columns(
                pl.col("seen", "ahead", "paying").fill_null(0),
                brand=pl.coalesce("brand", "listed_brand"),
                row_id="item",
                chosen=pl.col("item").is_in(looked_at.implode()),
                picked=pl.col("item").is_in(selection.account.settings.chosen_rivals),
            )
            .drop("listed_brand")
            .sort(["seen", "item"], descending=[True, False])
        )

    return facts.kept("rivals seen", selection.account.id, make, *market.key(selection))
