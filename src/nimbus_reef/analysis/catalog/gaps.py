"""What may not be advertised and what that costs; what sells without ads; how spend follows sales."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date, timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core import gaps as rules
from nimbus_reef.core.changes import Action, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.catalog import NOT_ADVERTISED
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.windows import Window, per_month
from nimbus_reef.errors import NotFound
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

TRADE: Final = "product_sales_daily"
ADS: Final = "product_ad_daily"
_LOOKED_BACK: Final = 120
SHADOW_AT: Final = 0.95
INELIGIBLE: Final = "ineligible"
UNSEEN: Final = "no impressions"
_NAMED: Final = ("sku", "title", "category", "reason")


def eligibility_told(facts: Facts, selection: Selection) -> bool:
    """Whether the catalog says of any product that it may be advertised, or may not."""
    return bool(product_frames.catalog(facts, selection.account.id)["ad_eligible"].count())


def products(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    All products of the catalog: product_id, sku, title, item, family, eligible, reason, fulfilment, launched;
    total_sales of the window (0 where none is held), the measures of their ads, advertised (an ad is enabled), in_ads
    (one is set up).
    """
    account, window = selection.account, selection.window

    def make() -> pl.DataFrame:
        catalog = product_frames.catalog(facts, account.id).select(
            "product_id",
            pl.col("sku", "title", "item", "reason", "fulfilment").cast(pl.String),
            "launched",
            eligible=pl.col("ad_eligible").cast(pl.String).fill_null("yes") != "no",
            family=pl.coalesce("parent", "item").cast(pl.String),
            category=pl.col("category").cast(pl.String),
        )
        trade = (
            product_frames.trade_days(facts, account.id, window)
            .group_by("product_id")
            .agg(pl.col("total_sales", "total_orders").sum())
        )
        rows = product_frames.product_rows(facts, account.id, window)
        ads = rows.group_by("product_id").agg(pl.col(MEASURES).sum())
        enabled = product_frames.enabled_ads(facts, account.id, window).select("product_id").unique()
        return (
            catalog.join(trade, on="product_id", how="left")
            .join(ads, on="product_id", how="left")
            .join(enabled.with_columns(advertised=pl.lit(True)), on="product_id", how="left")
            .with_columns(
                pl.col("total_sales", "total_orders", *MEASURES).fill_null(0), pl.col("advertised").fill_null(False)
            )
            .sort("sku")
        )

    frame = facts.kept("catalog products", account.id, make, window)
    if not selection.part:
        return frame
    if selection.part == selection.part.products_only:
        return selection.within(facts, frame)
    here = selection.within(facts, product_frames.ad_rows(facts, account.id, window)).select("family").unique()
    return frame.join(here, on="family", how="semi")


@dataclass(frozen=True, slots=True)
class Ineligible:
    """
    A product that may not be advertised: since when, ad sales per 30 days it likely costs (units), and what that rests
    on.
    """

    row: Mapping[str, Any]
    since: date | None
    cost: float
    rests_on: str


def ineligible(facts: Facts, selection: Selection) -> list[Ineligible]:
    """Ineligible products, by what that likely costs."""

    def make() -> list[Ineligible]:
        rows = products(facts, selection).filter(~pl.col("eligible")).to_dicts()
        if not rows:
            return []
        account = selection.account
        listed_days = product_frames.ineligible_days(facts, account.id)
        back = Window(selection.window.last - timedelta(days=_LOOKED_BACK - 1), selection.window.last)
        shown = product_frames.shown_days(facts, account.id, back)
        of_family = _family_means(facts, selection)
        entries = []
        for row in rows:
            own = shown.filter(pl.col("product_id") == row["product_id"])
            days = own["day"].to_list()
            since = rules.stopped_since(days, listed_days.get(row["product_id"], []), selection.window.last)
            sales, value = _before(own, since)
            family = of_family.get(row["family"], (0.0, 0))
            cost, rests_on = rules.likely_cost(sales, value, *family, selection.window.days)
            entries.append(Ineligible(row, since, cost, rests_on))
        return sorted(entries, key=lambda each: (-each.cost, each.row["sku"]))

    return facts.kept("ineligible", selection.account.id, make, selection.window, selection.part)


def _before(own: pl.DataFrame, since: date | None) -> tuple[float, int]:
    """
    What a product's ads sold in the (up to) 30 days before they stopped, in units, and on how many days they were
    shown.
    """
    if since is None or own.is_empty():
        return 0.0, 0
    first = since - timedelta(days=rules.BEFORE_DAYS)
    part = own.filter(pl.col("day").is_between(first, since - timedelta(days=1)))
    return float(part["sales"].sum()) / MICRO, len(part)


def _family_means(facts: Facts, selection: Selection) -> dict[str, tuple[float, int]]:
    """By family: ad sales of the window in units, and of how many advertised children."""
    rows = products(facts, selection).filter(pl.col("advertised") & pl.col("eligible") & (pl.col("clicks") > 0))
    sums = rows.group_by("family").agg(pl.col("sales").sum(), pl.len())
    return {family: (sales / MICRO, count) for family, sales, count in sums.rows()}


def unseen(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Advertised products that no shopper saw in the window, though they may be: sku, title, family, shadow (the sibling
    that took nearly all impressions of the family, null where none did).
    """
    rows = products(facts, selection)
    seen = pl.col("impressions")
    share = seen / seen.sum().over("family")
    with_shadow = rows.with_columns(
        shadow=pl.when((share >= SHADOW_AT).any().over("family")).then(
            pl.col("sku").sort_by("impressions").last().over("family")
        )
    )
    return with_shadow.filter(pl.col("advertised") & pl.col("eligible") & (pl.col("impressions") == 0) | _shadowed())


def _shadowed() -> pl.Expr:
    """Ineligible products whose sibling takes all there is."""
    return ~pl.col("eligible") & pl.col("shadow").is_not_null() & (pl.col("impressions") == 0)


def not_shown(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Products that are ineligible, and advertised ones that nobody saw, a row each, what that likely costs first: row_id,
    sku, title, category, status (INELIGIBLE, UNSEEN), reason and since (null where not known), cost (units per 30 days,
    null where not known), rests_on, shadow (see `unseen`).
    """
    lost = ineligible(facts, selection)
    shadows = unseen(facts, selection).select("sku", "title", "category", "shadow")
    rows = pl.DataFrame(
        [
            (*(each.row[name] for name in _NAMED), each.since, each.cost if each.rests_on else None, each.rests_on)
            for each in lost
        ],
        schema={**dict.fromkeys(_NAMED, pl.String), "since": pl.Date, "cost": pl.Float64, "rests_on": pl.String},
        orient="row",
    ).with_columns(status=pl.lit(INELIGIBLE))
    others = shadows.join(rows, on="sku", how="anti").with_columns(status=pl.lit(UNSEEN)).drop("shadow")
    return (
        pl.concat([rows, others], how="diagonal")
        .join(shadows.select("sku", "shadow"), on="sku", how="left", maintain_order="left")
        .with_columns(row_id=pl.col("sku").str.head(64))
    )


def unadvertised(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Products that sold and have no ads: see `core.gaps.unadvertised`; with row_id and monthly total sales (units)."""
    value = facts.monthly_days(selection.account.id, TRADE, selection.window)
    rows = rules.unadvertised(products(facts, selection))
    return rows.with_columns(row_id=pl.col("sku").str.head(64), month=per_month(pl.col("total_sales") / MICRO, value))


def row_of(facts: Facts, selection: Selection, row_id: str) -> Mapping[str, Any]:
    """A product without ads; NotFound where it has some, or sold nothing in the window."""
    found = unadvertised(facts, selection).filter(pl.col("row_id") == row_id)
    if found.is_empty():
        raise NotFound("This product has ads, or no sales in this period.", remedy="Reload the list.")
    return found.row(0, named=True)


def proposals(facts: Facts, selection: Selection, rows: Iterable[Mapping[str, Any]]) -> list[Proposal]:
    """
    Ads for each product that has none: wherever the older SKU of its item stands, else in the ad group in which its
    family's siblings made most orders; none where neither is known (the catch-all is for those).
    """
    homes = _homes(facts, selection)
    return [_proposal(selection, homes, row) for row in rows]


def _proposal(selection: Selection, homes: _Homes, row: Mapping[str, Any]) -> Proposal:
    newer = row["replaces"] is not None
    places = homes.of_sku.get(row["replaces"], ()) if newer else homes.of_family.get(row["family"], ())
    sells = Reason(ReasonKey.SELLS_UNADVERTISED, (row["month"],))
    subject = EntityKey(Subject.PRODUCT, name=row["sku"])
    if not places:
        why = (sells, Reason(ReasonKey.NO_AD_GROUP))
        return Proposal(subject, row["row_id"], Headline(HeadlineKey.NO_AD_GROUP), reasons=why)
    result = promise(selection, NO_BASIS, "gaps", row["row_id"])
    package = tuple(
        (
            change(
                Entity.PRODUCT_AD,
                "state",
                campaign,
                "enabled",
                "",
                NOT_ADVERTISED.key,
                Action.CREATE,
                ad_group=group,
                sku=row["sku"],
            ),
            result,
        )
        for campaign, group in places
    )
    there = Reason(ReasonKey.NEWER_SKU, (row["replaces"],)) if newer else Reason(ReasonKey.SIBLINGS_THERE)
    named = tuple(f"{campaign} · {group}" for campaign, group in places)
    return Proposal(subject, row["row_id"], Headline(HeadlineKey.ADD_AD, (row["sku"], *named)), package, (sells, there))


@dataclass(frozen=True, slots=True)
class _Homes:
    """
    Ad groups, as (campaign, ad group), for what sells without ads: of each SKU that one replaces all it runs in, of
    each of their families the one with most orders.
    """

    of_sku: Mapping[str, tuple[tuple[str, str], ...]]
    of_family: Mapping[str, tuple[tuple[str, str], ...]]


def _homes(facts: Facts, selection: Selection) -> _Homes:
    def make() -> _Homes:
        group = pl.col("campaign", "ad_group").cast(pl.String)
        wanting = rules.unadvertised(products(facts, selection.whole))
        older, families = (wanting[name].drop_nulls().unique() for name in ("replaces", "family"))
        ads = _running(facts, selection).with_columns(pl.col("sku", "family").cast(pl.String))
        places = ads.filter(pl.col("sku").is_in(older.implode())).with_columns(group)
        by_sku = places.group_by("sku").agg(pl.struct("campaign", "ad_group").unique().sort())
        best = (
            ads.filter(pl.col("family").is_in(families.implode()))
            .group_by("family", "campaign", "ad_group")
            .agg(pl.col("orders", "spend").sum())
            .filter(pl.col("orders") > 0)
            .with_columns(group)
            .sort(["orders", "spend", "campaign", "ad_group"], descending=[True, True, False, False])
            .unique("family", keep="first", maintain_order=True)
        )
        return _Homes(
            {sku: tuple((each["campaign"], each["ad_group"]) for each in stored) for sku, stored in by_sku.rows()},
            {row["family"]: ((row["campaign"], row["ad_group"]),) for row in best.to_dicts()},
        )

    return facts.kept("homes of ads", selection.account.id, make, selection.window)


def _running(facts: Facts, selection: Selection) -> pl.DataFrame:
    account = selection.account
    enabled = product_frames.enabled_ads(facts, account.id, selection.window).select("ad_group_id", "product_id")
    rows = product_frames.ad_rows(facts, account.id, selection.window)
    return rows.join(enabled.unique(), on=["ad_group_id", "product_id"], how="semi")


def concentration(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    How much of spend the top sellers get: see `core.gaps.concentration`; by all trade, by ad sales where that is not
    held.
    """
    rows = products(facts, selection)
    sold = "total_sales" if int(rows["total_sales"].sum()) else "sales"
    return rules.concentration(rows.select("sku", sold=pl.col(sold), spend="spend"))
