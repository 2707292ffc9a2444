"""The market around an account: its phrases, whose product each is, who ranks for it, what came without ads."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Final

import polars as pl

from nimbus_reef.analysis.catalog import gaps
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import market_fit, unbought, words
from nimbus_reef.core.market_fit import MarketFit, rank_level, rivals_level
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.targeting import PRODUCT_LEVEL
from nimbus_reef.core.windows import Window, month_factor
from nimbus_reef.store.reading import market_frames, product_frames, target_frames, word_frames
from nimbus_reef.store.reading.facts import Facts

DAYS: Final = 90
"""Own searches are counted over so many days, up to the end of the period."""
LISTS: Final = "keyword_ranks"
FUNNEL: Final = "query_funnel"
BROUGHT: Final = "phrase_lists"
SOURCES: Final = (LISTS, FUNNEL, BROUGHT)
MOST_RIVALS: Final = 8
"""In each category."""
_VOLUME_WEEKS: Final = 4


def window(selection: Selection) -> Window:
    """The days that own searches are counted over."""
    last = selection.window.last
    return Window(last - timedelta(days=DAYS - 1), last)


def as_of(selection: Selection) -> date:
    """The day whose ranks count: they do not mature, so those of the days that still do are told too."""
    return selection.window.last + timedelta(days=selection.account.maturing_days)


def ranks_window(selection: Selection) -> Window:
    """The days whose keyword lists are read."""
    last = as_of(selection)
    return Window(last - timedelta(days=market_frames.RANKS_KEPT - 1), last)


def key(selection: Selection) -> tuple[Hashable, ...]:
    """What the market depends on, besides what is loaded."""
    return selection.window.last, selection.account.maturing_days, selection.account.settings.chosen_rivals


def products(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Products that a phrase may be bought for, advertised and eligible: product_id, sku, item, title, category, sold
    (total sales of the window, of ads where those are not loaded).
    """
    rows = gaps.products(facts, selection.whole.at(window(selection)))
    sold = "total_sales" if int(rows["total_sales"].sum()) else "sales"
    return rows.filter(pl.col("advertised") & pl.col("eligible")).select(
        "product_id", "sku", "item", "title", "category", sold=sold
    )


def rivals(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Rivals whose ranks are looked at, at most eight a category: item, brand, title, category, seen (phrases for which
    they rank within 40). Those that the account chose; where it chose none, those that are seen most; where no list of
    rivals is loaded, nobody.
    """
    return facts.kept("looked-at rivals", selection.account.id, lambda: _rivals(facts, selection), *key(selection))


def _rivals(facts: Facts, selection: Selection) -> pl.DataFrame:
    ranks = market_frames.newest_ranks(facts, selection.account.id, as_of(selection))
    seen = ranks.filter(pl.col("organic") <= market_fit.SEEN_WITHIN).group_by("item").agg(seen=pl.len())
    every = (
        market_frames.rivals(facts, selection.account.id)
        .with_columns(pl.col("item", "brand", "title", "category").cast(pl.String))
        .join(seen, on="item", how="left")
        .with_columns(pl.col("seen").fill_null(0))
        .sort(["category", "seen", "item"], descending=[False, True, False])
        .select("item", "brand", "title", "category", "seen")
    )
    chosen = every.filter(pl.col("item").is_in(selection.account.settings.chosen_rivals))
    return (chosen if len(chosen) else every).group_by("category", maintain_order=True).head(MOST_RIVALS)


def phrases(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Every phrase of keyword lists, query funnel and own search terms, a row each: normal_id, phrase, words (word_id, in
    their order), text (“ plant lamp ”: words in the singular with a space on each side), product_id, sku, category (of
    that product), told (what lists call the phrase's category, null where they do not), listed, searched (in lists of
    ranks, in the funnel), brought (the names of lists that were brought in, null for none), suggested (the bid that the
    marketplace suggests, units), own_rank (best organic rank of any own item, null for none), rivals_seen,
    rivals_asked, rank, rivals
    (levels of `market_fit`, null for none), volume (searches a week, null where unknown), free_clicks, free_orders
    (query funnel less what ads brought, in the window's whole weeks), own_clicks, own_orders (by ads). Kept.
    """

    def make() -> pl.DataFrame:
        rows = _with_text(facts, market_frames.phrases(facts, selection.account.id))
        lists = _lists(facts, selection)
        funnel = _funnel(facts, selection)
        placed = (
            rows.join(lists, on="normal_id", how="left", maintain_order="left")
            .join(funnel, on="normal_id", how="left", maintain_order="left")
            .join(_brought(facts, selection), on="normal_id", how="left", maintain_order="left")
            .join(_bought(facts, selection), on="normal_id", how="left", maintain_order="left")
            .with_columns(
                pl.col("own_clicks", "own_orders").fill_null(0),
                pl.col("listed", "searched").fill_null(False),
                told=pl.coalesce("told", "brought_told"),
                month_volume=pl.coalesce("month_volume", "brought_volume"),
            )
            .drop("brought_told", "brought_volume")
        )
        of_product = _with_product(facts, selection, placed)
        return _with_levels(facts, selection, of_product)

    return facts.kept("market", selection.account.id, make, *key(selection))


def _with_text(facts: Facts, rows: pl.DataFrame) -> pl.DataFrame:
    texts = market_frames.word_texts(facts)
    spelt = (
        rows.select("normal_id", word_id="words")
        .explode("word_id")
        .join(texts, on="word_id", how="left", maintain_order="left")
        .group_by("normal_id", maintain_order=True)
        .agg(text=pl.col("word").str.join(" "))
        .with_columns(text=pl.concat_str(pl.lit(" "), "text", pl.lit(" ")))
    )
    return rows.join(spelt, on="normal_id", how="left", maintain_order="left")


def _lists(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, told, month_volume, own_rank, suggested, listed."""
    own = product_frames.catalog(facts, selection.account.id)["item"].cast(pl.String).drop_nulls().unique()
    ranks = market_frames.newest_ranks(facts, selection.account.id, as_of(selection))
    return (
        ranks.sort("day", "item")
        .group_by("normal_id", maintain_order=True)
        .agg(
            told=pl.col("category").drop_nulls().last(),
            month_volume=pl.col("volume").last(),
            suggested=pl.col("suggested").drop_nulls().last() / MICRO,
            own_rank=pl.col("organic").filter(pl.col("item").is_in(own.implode())).min(),
        )
        .with_columns(listed=pl.lit(True))
    )


def _brought(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, brought, brought_told, brought_volume (a month)."""
    return market_frames.brought_phrases(facts, selection.account.id).rename(
        {"lists": "brought", "told": "brought_told", "volume": "brought_volume"}
    )


def _funnel(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    normal_id, week_volume, searched, funnel_clicks, funnel_orders over the window's whole weeks; rows of single
    products where those of the brand are not loaded.
    """
    weeks = market_frames.query_weeks(facts, selection.account.id, window(selection))
    of_brand = weeks.filter(pl.col("sku").is_null())
    rows = of_brand if len(of_brand) else weeks
    newest = rows["day"].unique().sort().tail(_VOLUME_WEEKS)
    weekly = rows.group_by("normal_id", "day").agg(
        pl.col("search_volume").max(), pl.col("own_clicks", "own_purchases").cast(pl.Int64).sum()
    )
    recent = pl.col("search_volume").filter(pl.col("day").is_in(newest.implode()))
    return (
        weekly.group_by("normal_id")
        .agg(
            week_volume=recent.mean(),
            funnel_clicks=pl.col("own_clicks").sum(),
            funnel_orders=pl.col("own_purchases").sum(),
        )
        .with_columns(pl.col("normal_id").cast(pl.UInt32), searched=pl.lit(True))
        .sort("normal_id")
    )


def whole_weeks(facts: Facts, selection: Selection) -> Window | None:
    """The days of the weeks that the query funnel holds in the window; None where it holds none."""
    weeks = market_frames.query_weeks(facts, selection.account.id, window(selection))["day"]
    return None if weeks.is_empty() else Window(weeks.min(), weeks.max() + timedelta(days=6))  # type: ignore[arg-type,operator]


def _bought(facts: Facts, selection: Selection) -> pl.DataFrame:
    """normal_id, own_clicks, own_orders by ads in the window; paid_clicks, paid_orders in the funnel's weeks alone."""
    account_id = selection.account.id

    def of(days: Window) -> pl.DataFrame:
        sums = target_frames.term_sums(facts, account_id, days)
        return sums.group_by("normal_id").agg(pl.col("clicks", "orders").cast(pl.Int64).sum())

    whole = of(window(selection))
    weeks = whole_weeks(facts, selection)
    in_weeks = (of(weeks) if weeks else whole.clear()).rename({"clicks": "paid_clicks", "orders": "paid_orders"})
    both = whole.rename({"clicks": "own_clicks", "orders": "own_orders"}).join(in_weeks, on="normal_id", how="left")
    return both.with_columns(pl.col("normal_id").cast(pl.UInt32))


def _with_product(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    """
    The product of a phrase's category whose title has most of its words; the category that lists tell, else the one
    that its words tell; of all products where neither does.
    """
    offered = products(facts, selection)
    texts = market_frames.word_texts(facts)
    titled = (
        offered.select(
            "product_id", pl.col("title").fill_null("").map_elements(_title_words, pl.List(pl.String)).alias("word")
        )
        .explode("word")
        .drop_nulls()
        .unique()
        .join(texts, on="word")
        .select("product_id", "word_id")
    )
    hits = (
        rows.select("normal_id", word_id="words")
        .explode("word_id")
        .unique()
        .join(titled, on="word_id")
        .group_by("normal_id", "product_id")
        .agg(hits=pl.len())
    )
    asked = rows.select("normal_id", here=_category(rows, offered["category"].drop_nulls().unique()))
    in_category = asked.drop_nulls("here").join(offered, left_on="here", right_on="category", coalesce=False)
    anywhere = asked.filter(pl.col("here").is_null()).drop("here").join(offered, how="cross")
    columns = ("normal_id", "product_id", "sku", "category", "sold")
    best = (
        pl.concat([in_category.select(columns), anywhere.select(columns)])
        .join(hits, on=["normal_id", "product_id"], how="left")
        .sort(["normal_id", pl.col("hits").fill_null(0), "sold", "sku"], descending=[False, True, True, False])
        .unique("normal_id", keep="first", maintain_order=True)
    )
    return rows.join(best.drop("hits", "sold"), on="normal_id", how="left", maintain_order="left")


def _category(rows: pl.DataFrame, advertised: pl.Series) -> pl.Series:
    """The category of each phrase among those that have advertised products, null where it cannot be told."""
    here = pl.col("told").is_in(advertised.implode())
    words_of = rows.select("normal_id", "told", word_id="words").explode("word_id").drop_nulls("word_id")
    likely = unbought.likeliest_category(
        words_of.filter(here).select("word_id", category="told"),
        words_of.filter(pl.col("told").is_null()).select("normal_id", "word_id"),
    )
    told = rows.select("normal_id", told=pl.when(here).then("told"))
    return told.join(likely, on="normal_id", how="left", maintain_order="left").select(
        pl.coalesce("told", "category").alias("here")
    )["here"]


def _title_words(title: str) -> list[str]:
    return list(words.words(title))


def _with_levels(facts: Facts, selection: Selection, rows: pl.DataFrame) -> pl.DataFrame:
    asked = rivals(facts, selection)
    ranks = market_frames.newest_ranks(facts, selection.account.id, as_of(selection))
    seen = (
        ranks.filter(pl.col("organic") <= market_fit.SEEN_WITHIN)
        .join(asked.select("item", of="category"), on="item")
        .group_by("normal_id", "of")
        .agg(rivals_seen=pl.len())
    )
    count = asked.group_by(of="category").agg(rivals_asked=pl.len())
    market = pl.col("listed") | pl.col("searched")
    return (
        rows.join(
            seen, left_on=["normal_id", "category"], right_on=["normal_id", "of"], how="left", maintain_order="left"
        )
        .join(count, left_on="category", right_on="of", how="left", maintain_order="left")
        .with_columns(pl.col("rivals_seen").fill_null(0))
        .with_columns(
            rank=pl.when(market).then(rank_level(pl.col("own_rank"))),
            rivals=pl.when(pl.col("listed") & pl.col("rivals_asked").is_not_null()).then(
                rivals_level(pl.col("rivals_seen") / pl.col("rivals_asked"))
            ),
            volume=pl.coalesce("week_volume", pl.col("month_volume") / month_factor(7)),
            free_clicks=(pl.col("funnel_clicks").fill_null(0) - pl.col("paid_clicks").fill_null(0)).clip(0),
            free_orders=(pl.col("funnel_orders").fill_null(0) - pl.col("paid_orders").fill_null(0)).clip(0),
        )
        .with_columns(free_orders=pl.min_horizontal("free_orders", "free_clicks"))
        .drop("week_volume", "month_volume", "funnel_clicks", "funnel_orders", "paid_clicks", "paid_orders")
    )


def fitted(facts: Facts, selection: Selection) -> MarketFit | None:
    """The account's fit with rank and rivals beside; None where the account is too small. Kept."""
    account_id, days = selection.account.id, window(selection)

    def make() -> MarketFit | None:
        cells = target_frames.fit_cells(facts, account_id, days)
        main = target_frames.groups(facts, account_id, days).select("ad_group_id", product=PRODUCT_LEVEL)
        levels = phrases(facts, selection).select("normal_id", "rank", "rivals")
        return market_fit.fitted(cells, main, word_frames.spelling(facts, account_id), levels)

    return facts.kept("market fit", account_id, make, *key(selection))


def ranks_of(facts: Facts, selection: Selection, phrases_shown: pl.Series) -> dict[int, list[float]]:
    """By normal_id the organic ranks of the rivals that are looked at, the first first."""

    def make() -> pl.DataFrame:
        asked = rivals(facts, selection)["item"]
        ranks = market_frames.newest_ranks(facts, selection.account.id, as_of(selection))
        of_rivals = ranks.filter(pl.col("item").is_in(asked.implode())).drop_nulls("organic")
        return of_rivals.sort("normal_id", "organic").group_by("normal_id", maintain_order=True).agg("organic")

    every = facts.kept("ranks of rivals", selection.account.id, make, *key(selection))
    return dict(every[every["normal_id"].search_sorted(phrases_shown)].rows()) if len(every) else {}


@dataclass(frozen=True, slots=True)
class Ranked:
    """An item that ranks for a phrase; title empty and price (micro-units) null where they are not known."""

    rank: int
    brand: str
    title: str
    price: int | None
    item: str


def ranked(facts: Facts, selection: Selection, normal_id: int) -> list[Ranked]:
    """Who ranks for a phrase; the first first."""
    account_id = selection.account.id
    ranks = market_frames.newest_ranks(facts, account_id, as_of(selection))
    known = pl.concat(
        [
            frame.select(pl.col("item", "title").cast(pl.String), pl.col("price").cast(pl.Int64))
            for frame in (product_frames.catalog(facts, account_id), market_frames.rivals(facts, account_id))
        ]
    ).unique("item", keep="first", maintain_order=True)
    rows = (
        ranks.filter(pl.col("normal_id") == normal_id)
        .drop_nulls("organic")
        .join(known, on="item", how="left")
        .sort("organic", "item")
    )
    columns = (pl.col("organic").cast(pl.Int64), pl.col("brand", "title").fill_null(""), "price", "item")
    return [Ranked(*row) for row in rows.select(*columns).rows()]


def brand_of(facts: Facts, selection: Selection, item: str) -> str:
    """The brand of another brand's item; the item where that is not known."""
    known = rivals(facts, selection).filter(pl.col("item") == item)["brand"].drop_nulls()
    return str(known[0]) if len(known) else item


def titles(facts: Facts, selection: Selection) -> dict[str, str]:
    """The title of each product, by SKU."""
    catalog = product_frames.catalog(facts, selection.account.id)
    return dict(catalog.select(pl.col("sku", "title").cast(pl.String).fill_null("")).rows())
