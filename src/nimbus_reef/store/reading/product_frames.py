"""Products, the ads that show them, and their pages: names, money by window and by day."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from datetime import date, timedelta
from typing import Final

import polars as pl

from nimbus_reef.core import words
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading import month_grids, setting_frames
from nimbus_reef.store.reading.facts import OPENED, Facts
from nimbus_reef.store.record import snapshots

_REPORT: Final = "product_ad_daily"


def product_rows(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """One row per product ad in the window: ad_group_id, product_id, sku and the measures."""
    sums = facts.sums(account_id, _REPORT, window)
    return sums.join(_ad_names(facts, account_id), on="product_ad_id")


def _ad_names(facts: Facts, account_id: int) -> pl.DataFrame:
    query = (
        "SELECT a.id AS product_ad_id, a.ad_group_id, a.product_id, p.sku FROM product p "
        "JOIN product_ad a ON a.product_id = p.id WHERE p.account_id = :account"
    )
    return facts.kept("ads", account_id, lambda: facts.query(query, account=account_id))


def enabled_ads(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    ad_group_id, product_id, sku of what is advertised at the window's end, with rows or without:
    by the settings of product ads; where those are not held, whatever has rows in the window.
    """
    states = setting_frames.product_ad_states(facts, account_id, window)
    columns = ("ad_group_id", "product_id", "sku")
    if states is None:
        return product_rows(facts, account_id, window).select(columns)
    enabled = states.filter(pl.col("state").cast(pl.String) == "enabled")
    return _ad_names(facts, account_id).join(enabled, on="product_ad_id", how="semi").select(columns)


def margins(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    ad_group_id, margin before ads (a fraction): of the ad group's products, weighed by their clicks in the window;
    where none was clicked, the plain mean of those that are enabled. Products without a margin are left out.
    """

    def make() -> pl.DataFrame:
        known = catalog(facts, account_id).select("product_id", margin=pl.col("margin") / 100).drop_nulls()
        clicks = pl.col("clicks").cast(pl.Int64)
        clicked = (
            product_rows(facts, account_id, window)
            .join(known, on="product_id")
            .filter(clicks > 0)
            .group_by("ad_group_id")
            .agg(clicked=(pl.col("margin") * clicks).sum() / clicks.sum())
        )
        enabled = (
            enabled_ads(facts, account_id, window)
            .join(known, on="product_id")
            .group_by("ad_group_id")
            .agg(plain=pl.col("margin").mean())
        )
        both = enabled.join(clicked, on="ad_group_id", how="full", coalesce=True)
        return both.select("ad_group_id", margin=pl.coalesce("clicked", "plain"))

    return facts.kept("margins", account_id, make, window)


def ad_groups(facts: Facts, account_id: int) -> pl.DataFrame:
    """ad_group_id, campaign_id, campaign, ad_group of every ad group."""
    query = (
        "SELECT g.id AS ad_group_id, c.id AS campaign_id, c.name AS campaign, g.name AS ad_group "
        "FROM campaign c JOIN ad_group g ON g.campaign_id = c.id WHERE c.account_id = :account"
    )
    return facts.kept("ad groups", account_id, lambda: facts.query(query, account=account_id))


def ad_rows(facts: Facts, account_id: int, window: Window, *, idle: bool = False) -> pl.DataFrame:
    """
    As `product_rows`, with campaign and ad group, family and category. idle: also those that are enabled and did
    nothing, with zeros.
    """
    rows = product_rows(facts, account_id, window)
    states = setting_frames.product_ad_states(facts, account_id, window) if idle else None
    if states is not None:
        enabled = states.filter(pl.col("state").cast(pl.String) == "enabled")
        silent = _ad_names(facts, account_id).join(enabled, on="product_ad_id", how="semi")
        silent = silent.join(rows.select("product_ad_id"), on="product_ad_id", how="anti")
        zeros = [pl.lit(0, rows.schema[name]).alias(name) for name in rows.columns if name not in silent.columns]
        rows = pl.concat([rows, silent.with_columns(zeros).select(rows.columns)])
    groups = ad_groups(facts, account_id)
    kinds = catalog(facts, account_id).select(
        "product_id", pl.coalesce("parent", "item").cast(pl.String).alias("family"), pl.col("category").cast(pl.String)
    )
    return (
        rows.join(groups, on="ad_group_id")
        .join(kinds, on="product_id", how="left")
        .join(setting_frames.placed(facts, account_id, window), on="campaign_id", how="left")
    )


def product_days(
    facts: Facts, account_id: int, window: Window, products: pl.Series | None = None, measures: Sequence[str] = MEASURES
) -> pl.DataFrame:
    """
    Products (all, or those asked for) by day, single days only: product_id, day and measures. For who needs no
    campaigns.
    """

    def make() -> pl.DataFrame:
        homes = _ad_names(facts, account_id).select("product_ad_id", group="product_id")
        if products is not None:
            homes = homes.filter(pl.col("group").is_in(products.implode()))
        rows = month_grids.by_span(facts.grids(account_id, _REPORT, window), _REPORT, homes, measures)
        return (
            rows.filter(pl.col("first_day") == pl.col("day"))
            .select(pl.col("group").alias("product_id"), "day", *measures)
            .sort("product_id", "day")
        )

    return make() if products is not None else facts.kept("product days", account_id, make, window, tuple(measures))


def named_ads(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    Every product ad with what it shows and where, as set at the window's end: product_ad_id, product_id, campaign_id,
    sku, title, family, category, margin (per cent), campaign, format, portfolio; those of one product beside each
    other.
    """

    def make() -> pl.DataFrame:
        known = catalog(facts, account_id).select(
            "product_id",
            "title",
            "margin",
            pl.coalesce("parent", "item").cast(pl.String).alias("family"),
            pl.col("category").cast(pl.String),
        )
        groups = ad_groups(facts, account_id).select("ad_group_id", "campaign_id")
        return (
            _ad_names(facts, account_id)
            .join(groups, on="ad_group_id")
            .join(known, on="product_id", how="left")
            .join(settings, on="campaign_id", how="left")
            .select("product_ad_id", "product_id", "campaign_id", *_AD_TEXTS, "margin")
            .sort("product_id", "campaign_id", "product_ad_id")
        )

    settings = setting_frames.campaign_settings(facts, account_id, window).select(
        "campaign_id", "campaign", "format", "portfolio"
    )
    return facts.kept("named ads", account_id, make, setting_frames.campaigns_settled(facts, account_id, window))


_AD_TEXTS: Final = ("sku", "title", "family", "category", "campaign", "format", "portfolio")


def ads_of_groups(facts: Facts, account_id: int, groups: pl.Series) -> pl.Series:
    """The ids of all product ads of some ad groups."""
    return _ad_names(facts, account_id).filter(pl.col("ad_group_id").is_in(groups.implode()))["product_ad_id"]


def placed_ads(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    `named_ads` of those with rows in the window, in the same order, with their sums: the measures, money in
    micro-units.
    """

    def make() -> pl.DataFrame:
        sums = facts.sums(account_id, _REPORT, window)
        return named_ads(facts, account_id, window).join(sums, on="product_ad_id", maintain_order="left")

    return facts.kept("placed ads", account_id, make, window)


def ad_days(
    facts: Facts, account_id: int, window: Window, ads: pl.DataFrame, *, by_month: bool = False
) -> pl.DataFrame:
    """
    What some ads did, day by day. ads: product_ad_id, each once, and whatever else they are to be summed by. One row
    per day (or block: first_day differs from day) and those: first_day, day, the columns of ads less product_ad_id, the
    measures in micro-units.

    by_month: what these ads did is kept by month, since they are asked for again with other days.
    """
    if not by_month:
        return _summed_by(facts.grids(account_id, _REPORT, window), ads)

    def of_month(month: Window) -> pl.DataFrame:
        def make() -> pl.DataFrame:
            grid = facts.month_grid(account_id, _REPORT, month)
            return _summed_by([(grid, range(len(grid.spans)))], ads)

        return facts.kept("ad days", account_id, make, month, these, dear=OPENED)

    these = _told_apart(ads)
    months = [of_month(month) for month in facts.months(account_id, _REPORT, window)]
    # In one piece, since sums of fractions are told to the last digit, whatever months they lie in.
    return pl.concat([_summed_by([], ads), *months]).filter(_inside(window)).rechunk()


def _inside(window: Window) -> pl.Expr:
    return (pl.col("first_day") >= window.first) & (pl.col("day") <= window.last)


def _told_apart(ads: pl.DataFrame) -> str:
    """
    What these ads and what they are summed by have in common with no others: settings of another day may say the same
    of them.
    """
    by_key = {column.name: column.to_list() for column in ads.iter_columns()}
    return hashlib.sha256(json.dumps(by_key).encode()).hexdigest()


def _summed_by(pieces: month_grids.Pieces, ads: pl.DataFrame) -> pl.DataFrame:
    by = [name for name in ads.columns if name != "product_ad_id"]
    # By their numbers: there are many ads and few names.
    keys = [*by, "all"]
    groups = ads.select(*by, all=0).unique().sort(keys).with_row_index("group")
    numbered = ads.with_columns(all=0).join(groups, on=keys, nulls_equal=True).select("product_ad_id", "group")
    return (
        month_grids.by_span(pieces, _REPORT, numbered)
        .join(groups, on="group", maintain_order="left")
        .select("day", "first_day", *by, *MEASURES)
    )


def listings(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """Product pages by day: day, product_id and what they show."""
    versions = facts.versions(account_id, "listings", window)

    def make() -> pl.DataFrame:
        return snapshots.read(facts.store, account_id, "listings", versions).collect()

    return facts.kept("listings", account_id, make, window)


def newest_pages(facts: Facts, account_id: int, side_days: int) -> pl.DataFrame:
    """`listings` of the newest day held and the days before it, and of the load before however old it is."""
    window = _newest_days(facts, account_id, "listings", side_days)
    return listings(facts, account_id, window) if window else snapshots.no_rows("listings")


def newest_eligibility(facts: Facts, account_id: int, side_days: int) -> pl.DataFrame:
    """product_id, day, eligible (yes, no, null), of the catalog's newest days as `newest_pages` has them."""
    window = _newest_days(facts, account_id, "catalog", side_days)
    rows = (
        snapshots.read(facts.store, account_id, "catalog", facts.versions(account_id, "catalog", window)).collect()
        if window
        else snapshots.no_rows("catalog")
    )
    return rows.select("product_id", "day", eligible="ad_eligible")


def _newest_days(facts: Facts, account_id: int, kind: str, side_days: int) -> Window | None:
    entries = sorted(day.last for day in facts.versions(account_id, kind, Window(date.min, date.max)))
    if not entries:
        return None
    since = entries[-1] - timedelta(days=side_days)
    before = [day for day in entries if day < since]
    return Window(before[-1] if before else min(since, entries[0]), entries[-1])


def catalog(facts: Facts, account_id: int) -> pl.DataFrame:
    """The newest known settings of each product."""
    query = (
        "SELECT k.product_id, p.sku, k.item_id AS item, k.parent_item_id AS parent, k.title, k.brand, k.category,"
        " k.price, k.margin, k.ad_eligible, k.ineligible_reason AS reason, k.fulfilment, k.launch_date AS launched FROM"
        " catalog k JOIN product p ON p.id = k.product_id WHERE k.account_id = :account AND k.day = (SELECT MAX(n.day)"
        " FROM catalog n WHERE n.account_id = k.account_id AND n.product_id = k.product_id)"
    )

    def make() -> pl.DataFrame:
        rows = facts.query(query, account=account_id)
        usual = own_setting(facts, account_id, "margin")
        return rows.with_columns(pl.col("margin").fill_null(100 * float(usual))) if usual else rows

    return facts.kept("catalog", account_id, make)


def own_setting(facts: Facts, account_id: int, name: str) -> str:
    """A setting of an account as it is kept, empty where it has none of its own; see `core.settings`."""
    rows = facts.query(
        "SELECT value FROM account_setting WHERE account_id = :account AND name = :name", account=account_id, name=name
    )
    return str(rows["value"][0]) if len(rows) else ""


def skus(facts: Facts, account_id: int) -> pl.DataFrame:
    """product_id, sku of every product that any report named."""
    query = "SELECT id AS product_id, sku FROM product WHERE account_id = :account"
    return facts.kept("skus", account_id, lambda: facts.query(query, account=account_id))


def ineligible_days(facts: Facts, account_id: int) -> dict[int, list[date]]:
    """
    By product, the days of the catalog on which it is called ineligible since the last on which it was not; none of one
    that the catalog never called eligible: since when is then not known from it.
    """

    def make() -> dict[int, list[date]]:
        rows = facts.query(
            "SELECT product_id, day, ad_eligible FROM catalog WHERE account_id = :account ORDER BY product_id, day",
            account=account_id,
        )
        found: dict[int, list[date]] = {}
        for product_id, day, eligible in rows.rows():
            if eligible != "no":
                found[product_id] = []
            elif product_id in found:
                found[product_id].append(day)
        return found

    return facts.kept("ineligible days", account_id, make)


def shown_days(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """product_id, day of every held day on which an ad of a product was shown, with what it sold: sales."""
    shown = product_days(facts, account_id, window, measures=("impressions", "sales")).filter(pl.col("impressions") > 0)
    return shown.select("product_id", "day", "sales")


def trade_days(facts: Facts, account_id: int, window: Window) -> pl.DataFrame:
    """
    All trade of every product: first_day, day, product_id, sessions, total_orders, total_units, total_sales. Kept by
    month, so that other days hardly have to be read.
    """
    months = [_trade_of_month(facts, account_id, month) for month in facts.months(account_id, _TRADE, window)]
    return pl.concat([_traded(snapshots.no_rows(_TRADE)), *months]).filter(_inside(window))


def _trade_of_month(facts: Facts, account_id: int, month: Window) -> pl.DataFrame:
    def make() -> pl.DataFrame:
        versions = facts.versions_of(account_id, _TRADE, month)
        return _traded(snapshots.read(facts.store, account_id, _TRADE, versions).collect())

    return facts.kept("trade", account_id, make, month, dear=OPENED)


def _traded(rows: pl.DataFrame) -> pl.DataFrame:
    return rows.select("first_day", "day", "product_id", *(pl.col(name).cast(pl.Int64) for name in TRADE))


_TRADE: Final = "product_sales_daily"
TRADE: Final = ("sessions", "total_orders", "total_units", "total_sales")


def item_shapes(facts: Facts, account_id: int) -> frozenset[str]:
    """How ids of items are built on this marketplace: by the catalog, the rivals, and targets on items."""

    def make() -> frozenset[str]:
        known = catalog(facts, account_id)
        texts = {*known["item"].cast(pl.String).drop_nulls(), *known["parent"].cast(pl.String).drop_nulls()}
        for query in (
            "SELECT DISTINCT item_id AS text FROM rivals WHERE account_id = :account",
            (
                "SELECT DISTINCT p.text FROM campaign c JOIN ad_group g ON g.campaign_id = c.id JOIN target t "
                "ON t.ad_group_id = g.id JOIN phrase p ON p.id = t.phrase_id "
                "WHERE c.account_id = :account AND t.match_type IN ('item', 'negative_item')"
            ),
        ):
            texts |= set(facts.query(query, account=account_id)["text"].cast(pl.String))
        texts.add(own_setting(facts, account_id, "item_pattern"))
        return frozenset(shape for text in texts if (shape := words.item_shape(text)))

    return facts.kept("item shapes", account_id, make)


def title_cores(facts: Facts, account_id: int, window: Window, brand: str) -> list[frozenset[str]]:
    """What each enabled product is called: its title's words less brands, sizes and words with a digit."""

    def make() -> list[frozenset[str]]:
        enabled = enabled_ads(facts, account_id, window).select(pl.col("product_id").unique())
        known = catalog(facts, account_id).join(enabled, on="product_id", how="semi")
        titles = known.select(pl.col("title", "brand").cast(pl.String)).drop_nulls("title").unique()
        sizes = own_setting(facts, account_id, "size_words").split("\n")
        return [words.title_core(title, [own or brand, *sizes]) for title, own in titles.rows()]

    return facts.kept("title cores", account_id, make, window, brand)


def brand_words(facts: Facts, account_id: int, brand: str) -> frozenset[str]:
    """The words of the account's own brands."""
    named = {brand, *catalog(facts, account_id)["brand"].cast(pl.String).drop_nulls()}
    return frozenset(word for each in named for word in words.words(each))


def rival_brands(facts: Facts, account_id: int) -> frozenset[str]:
    """The brands of the rivals report."""

    def make() -> frozenset[str]:
        rows = facts.query("SELECT DISTINCT brand AS text FROM rivals WHERE account_id = :account", account=account_id)
        return frozenset(rows["text"].cast(pl.String).drop_nulls())

    return facts.kept("rival brands", account_id, make)


def family_names(facts: Facts, account_id: int) -> dict[str, str]:
    """What product families are called, by id: the words that all their titles begin with."""

    def make() -> dict[str, str]:
        families = (
            catalog(facts, account_id)
            .select(
                pl.coalesce("parent", "item").cast(pl.String).alias("family"), pl.col("title", "brand").cast(pl.String)
            )
            .drop_nulls("family")
            .group_by("family")
            .agg("title", pl.col("brand").first())
        )
        return {family: words.common_start(titles, brand or "") or family for family, titles, brand in families.rows()}

    return facts.kept("families", account_id, make)
