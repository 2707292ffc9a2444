"""An account's figures among its category peers, in one window."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Any, Final

import numpy as np
import numpy.typing as npt
import polars as pl

from nimbus_reef.analysis.bootstrap import draws
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import peers
from nimbus_reef.core.metrics import in_units, ratio
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.peers import RATED, Floats, Months, Peers, Standing
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import market_frames, product_frames
from nimbus_reef.store.reading.facts import Facts

AD_METRICS: Final = ("ctr", "cvr", "cpc", "aov", "acos")
SHOP_METRICS: Final = ("cart_rate", "purchase_rate")
ALL: Final = "all"
NONE_GIVEN: Final = "none given"
"""What the group of those is called that no report puts into one."""


@dataclass(frozen=True, slots=True)
class StandingData:
    """
    What standing is worked out from. ads: see `product_frames.placed_ads`, of the part looked at; days: what they did
    by category and day (or block: first_day differs), money in units. cells: the peers of the account's country by
    (category, format, metric). months: what each category did in each month's part of the window.
    """

    account: Account
    window: Window
    ads: pl.DataFrame
    days: pl.DataFrame
    cells: Mapping[tuple[str, str, str], Months]
    months: Mapping[str, list[dict[str, Any]]]
    _made: dict[tuple[str, str, str], Peers | None] = field(default_factory=dict)

    def peers_of(self, category: str, ad_format: str, metric: str) -> Peers | None:
        """Peers of a cell over the months of the window; the account's own products without a feed."""
        key = (category, ad_format, metric)
        if key not in self._made:
            cell = self.cells.get(key)
            weights = self._weights(category, RATED[metric].denominator)
            self._made[key] = None if cell is None else peers.blended(cell, weights)
        return self._made[key]

    def weighed(self, category: str, metric: str, weights: Mapping[str, float]) -> Peers | None:
        """Peers of a cell of all formats, its months weighed by counts that are not in these rows."""
        cell = self.cells.get((category, ALL, metric))
        return None if cell is None else peers.blended(cell, dict(weights))

    def _weights(self, category: str, denominator: str) -> dict[str, float]:
        """Our denominator in each month's part of the window."""
        measure = denominator if denominator in self.days.columns else "clicks"
        return {row["month"]: float(row[measure]) for row in self.months.get(category, [])}


def _by_month(days: pl.DataFrame) -> dict[str, list[dict[str, Any]]]:
    """Category → its months in order, each with the sums of the measures; a block's by its days in each."""
    sums = (
        days.drop_nulls("category")
        .join(_month_shares(days), on=["first_day", "day"], maintain_order="left")
        .group_by("category", "month", maintain_order=True)
        .agg((pl.col(MEASURES) * pl.col("share")).sum())
        .sort("category", "month")
    )
    found: dict[str, list[dict[str, Any]]] = {}
    for row in sums.to_dicts():
        found.setdefault(row["category"], []).append(row)
    return found


def _month_shares(rows: pl.DataFrame) -> pl.DataFrame:
    """first_day, day → month and the share of the span's days that lie in it: 1 for a day."""
    spans = rows.select("first_day", "day").unique()
    days = spans.with_columns(at=pl.date_ranges("first_day", "day")).explode("at", empty_as_null=True)
    return (
        days.group_by("first_day", "day", pl.col("at").dt.strftime("%Y-%m").alias("month"))
        .len("days")
        .with_columns(share=pl.col("days") / pl.col("days").sum().over("first_day", "day"))
        .drop("days")
    )


def standing_data(facts: Facts, selection: Selection) -> StandingData:
    """What one window is placed from; kept until something is loaded."""
    account, window = selection.account, selection.window

    def make() -> StandingData:
        ads = selection.within(facts, product_frames.placed_ads(facts, account.id, window))
        days = daily(facts, selection)
        cells = peers.cells(peer_feed(facts, selection))
        return StandingData(account, window, ads, days, cells, _by_month(days))

    return facts.kept("standing data", account.id, make, window, selection.part)


def has_standing_data(facts: Facts, selection: Selection) -> bool:
    """Whether `standing_data` is worked out already."""
    return facts.known("standing data", selection.account.id, selection.window, selection.part) is not None


def peer_feed(facts: Facts, selection: Selection) -> pl.DataFrame:
    """What the feed tells of the account's country up to the window's end, see `market_frames.peer_feed`."""
    feed = market_frames.peer_feed(facts, selection.account.id, "peer_benchmarks", selection.window.last)
    return feed.filter(pl.col("country") == selection.account.country)


def daily(facts: Facts, selection: Selection, *by: str) -> pl.DataFrame:
    """What the ads of a look did by category and day, and by other columns of theirs; money in units."""
    ads = selection.within(facts, product_frames.named_ads(facts, selection.account.id, selection.window))
    return daily_of(facts, selection, ads, *by, by_month=True)


def daily_of(facts: Facts, selection: Selection, ads: pl.DataFrame, *by: str, by_month: bool = False) -> pl.DataFrame:
    """`daily` of some ads. by_month: see `product_frames.ad_days`."""
    named = ads.select("product_ad_id", *dict.fromkeys((*by, "category")))
    days = product_frames.ad_days(facts, selection.account.id, selection.window, named, by_month=by_month)
    return days.with_columns(in_units())


@dataclass(frozen=True, slots=True)
class Placed:
    """
    One metric of a group of rows. standing: over its categories, weighed by our spend;
    parts: the same per category, with our spend there.
    """

    standing: Standing
    parts: tuple[tuple[str, Standing, float], ...]


def places(
    on: StandingData, days: pl.DataFrame, metrics: Sequence[str] = AD_METRICS, ad_format: str = ALL
) -> dict[str, Placed]:
    """Where metrics of some ads of the ground stand, see `daily_of`; per category first, then weighed by spend."""
    parts: dict[str, list[tuple[str, Standing, float, float]]] = {metric: [] for metric in metrics}
    summed = bool((days["first_day"] < days["day"]).any())
    by_category = _columns_by(days.drop_nulls("category").sort("category", "day"), "category")
    for category, counts in by_category.items():
        sums = {name: float(counts[name].sum()) for name in MEASURES}
        for metric in metrics:
            rated = RATED[metric]
            found = on.peers_of(str(category), ad_format, metric)
            ends = None
            # How a money ratio wavers is seen from day to day; a sum of several does not tell.
            tells = rated.proportion or not summed
            if found is not None and tells and not peers.too_thin(metric, sums):
                ends = peers.ends_of(metric, counts[rated.numerator], counts[rated.denominator], draws)
            standing = peers.standing(metric, sums, found, ends)
            parts[metric].append((str(category), standing, float(sums["spend"]), float(sums[rated.denominator])))
    whole = {name: float(days[name].sum()) for name in MEASURES}
    return {
        metric: Placed(
            peers.combined(metric, whole, [(each, spend, weight) for _, each, spend, weight in result]),
            tuple((category, each, spend) for category, each, spend, _ in result),
        )
        for metric, result in parts.items()
    }


def _columns_by(rows: pl.DataFrame, name: str) -> dict[str, dict[str, Floats]]:
    """The measures of rows that lie in the order of a column, by its values."""
    groups = rows.group_by(name, maintain_order=True).len()
    counts = {each: rows[each].cast(pl.Float64).to_numpy() for each in MEASURES}
    edges = pairwise([0, *groups["len"].cum_sum()])
    return {
        str(value): {each: column[first:end] for each, column in counts.items()}
        for value, (first, end) in zip(groups[name], edges, strict=True)
    }


def shop_place(
    on: StandingData, sums: Mapping[str, int], metric: str, months: Mapping[str, Mapping[str, float]]
) -> Placed:
    """
    Cart and purchase rate: of the account as a whole, against each category it spends in. months:
    see `query_shares.months`.
    """
    own = {name.removeprefix("own_"): value for name, value in sums.items() if name.startswith("own_")}
    rated = RATED[metric]
    ends = None
    if own[rated.denominator]:
        top, below = (np.array([float(own[name])]) for name in (rated.numerator, rated.denominator))
        ends = peers.ends_of(metric, top, below, draws)
    spent = on.days.group_by("category").agg(pl.col("spend").sum()).drop_nulls("category").sort("category")
    parts = [
        (
            category,
            peers.standing(metric, own, on.weighed(category, metric, months[rated.denominator]), ends),
            float(spend),
        )
        for category, spend in spent.rows()
    ]
    return Placed(peers.combined(metric, own, [(each, spend, 1.0) for _, each, spend in parts]), tuple(parts))


def product_standing(on: StandingData) -> pl.DataFrame:
    """
    Every product × metric: sku, title, family, category, measures and per metric its value
    (`ctr`), its percentile (`ctr_at`, null without verdict), where it would stand were it not too thin (`ctr_seen`),
    whether peers are the account's own products (`ctr_own`), and the middle peer (`ctr_typical`); overall.
    """
    products = (
        on.ads.group_by("product_id", "sku", "title", "family", "category", maintain_order=True)
        .agg(pl.col(MEASURES).sum())
        .with_columns(*in_units(), pl.col("sku", "title", "family", "category").cast(pl.String))
        .sort("category", maintain_order=True)
    )
    by_category = _columns_by(products, "category") or {"": dict.fromkeys(MEASURES, np.zeros(0))}
    columns = {}
    for metric in AD_METRICS:
        pairs = [_of_category(on, category, metric, counts) for category, counts in by_category.items()]
        for name, parts in zip(("", "_at", "_seen", "_own", "_typical"), zip(*pairs, strict=True), strict=False):
            columns[f"{metric}{name}"] = pl.Series(np.concatenate(parts), nan_to_null=True)
    return (
        products.with_columns(**columns)
        .with_columns(overall_at=peers.overall_column())
        .sort(["spend", "sku"], descending=[True, False])
    )


def _of_category(
    on: StandingData, category: str, metric: str, counts: Mapping[str, Floats]
) -> tuple[npt.NDArray[Any], ...]:
    """A metric of a category's products: see `peers.columns`, whether they are their own peers, and the middle one."""
    found = on.peers_of(category, ALL, metric)
    if found is None:
        values, _, _ = peers.columns(metric, counts, None)
        found = peers.of_own([float(value) for value in values[peers.enough(metric, counts)]])
    rows = len(counts["clicks"])
    own = np.full(rows, found is not None and found.own)
    return *peers.columns(metric, counts, found), own, np.full(rows, np.nan if found is None else found.typical)


def compared_products(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    `product_standing` of a look with named (what is searched), and ctr_change … acos_change: the relative change since
    the days before, null without a base. Kept.
    """

    def make() -> pl.DataFrame:
        named = pl.concat_str(
            "sku", pl.lit(" "), pl.col("title").fill_null(""), pl.lit(" "), pl.col("category").fill_null("")
        )
        then = product_standing(standing_data(facts, selection.at(selection.against))) if selection.against else None
        return _with_changes(product_standing(standing_data(facts, selection)), then).with_columns(named=named)

    return facts.kept(
        "product standing", selection.account.id, make, selection.window, selection.against, selection.part
    )


def _with_changes(now: pl.DataFrame, then: pl.DataFrame | None) -> pl.DataFrame:
    if then is None:
        return now.with_columns(pl.lit(None, pl.Float64).alias(f"{metric}_change") for metric in AD_METRICS)
    before = then.select("product_id", *(pl.col(metric).alias(f"{metric}_then") for metric in AD_METRICS))
    return now.join(before, on="product_id", how="left", maintain_order="left").with_columns(
        pl.when(pl.col(f"{metric}_then") > 0)
        .then(pl.col(metric) / pl.col(f"{metric}_then") - 1)
        .alias(f"{metric}_change")
        for metric in AD_METRICS
    )


def format_mix(facts: Facts, on: StandingData) -> list[dict[str, Any]]:
    """
    Our share of spend and of campaigns per ad format beside the peers' (null without a feed), of the ads whose format
    is told; ours null where no ad's is.
    """
    feed = market_frames.peer_feed(facts, on.account.id, "peer_format_mix", on.window.last).filter(
        pl.col("country") == on.account.country
    )
    rows = on.ads.drop_nulls("format")
    spend = int(rows["spend"].sum())
    campaigns = rows.filter(pl.col("impressions") > 0).select("campaign_id", "format").unique()
    by_category = {
        str(name): float(value) for name, value in on.days.group_by("category").agg(pl.col("spend").sum()).rows()
    }
    found = []
    for ad_format in ("product", "brand", "display"):
        theirs = _peer_shares(feed.filter(pl.col("format") == ad_format), by_category)
        own = int(rows.filter(pl.col("format") == ad_format)["spend"].sum())
        running = len(campaigns.filter(pl.col("format") == ad_format))
        found.append(
            {
                "format": ad_format,
                "spend_share": ratio(own, spend),
                "campaign_share": ratio(running, len(campaigns)),
                "peer_spend_share": theirs[0],
                "peer_campaign_share": theirs[1],
            }
        )
    return found


def _peer_shares(feed: pl.DataFrame, weights: Mapping[str, float]) -> tuple[float | None, float | None]:
    """The newest month of each category, weighed by our spend there."""
    newest = feed.sort("month").group_by("category", maintain_order=True).last()
    entries = [row for row in newest.to_dicts() if weights.get(row["category"], 0) > 0]
    whole = sum(weights[row["category"]] for row in entries)
    if not whole:
        return None, None
    spend, campaigns = (
        sum(row[name] * weights[row["category"]] for row in entries) / whole
        for name in ("spend_share", "campaign_share")
    )
    return spend, campaigns


def by_group(facts: Facts, selection: Selection, name: str) -> list[tuple[str, float, list[Placed]]]:
    """Groups of a look (category, format, portfolio), most spend first: name, spend, a place per ad metric."""
    on = standing_data(facts, selection)
    days = on.days if name == "category" else daily(facts, selection, name)
    groups = []
    for (value,), rows in (
        days.sort(name, maintain_order=True).partition_by(name, as_dict=True, maintain_order=True).items()
    ):
        label = str(value) if value is not None else NONE_GIVEN
        ad_format = label if name == "format" and value is not None else ALL
        groups.append((label, float(rows["spend"].sum()), list(places(on, rows, ad_format=ad_format).values())))
    return sorted(groups, key=lambda each: each[1], reverse=True)


# --- kept for a look: what its pages show first --------------------------------------------


def account_places(facts: Facts, selection: Selection) -> dict[str, Placed]:
    """The account's ad metrics among peers; among those of one format where a look is at just that one."""
    on, formats = standing_data(facts, selection), selection.part.formats
    ad_format = formats[0] if len(formats) == 1 else ALL
    return facts.kept(
        "places",
        selection.account.id,
        lambda: places(on, on.days, ad_format=ad_format),
        selection.window,
        selection.part,
    )


def mix(facts: Facts, selection: Selection) -> list[dict[str, Any]]:
    """`format_mix` of a look."""
    on = standing_data(facts, selection)
    return facts.kept(
        "format mix", selection.account.id, lambda: format_mix(facts, on), selection.window, selection.part
    )


def groups(facts: Facts, selection: Selection, by: str) -> list[tuple[str, float, list[Placed]]]:
    """`by_group` of a look."""
    return facts.kept(
        "groups", selection.account.id, lambda: by_group(facts, selection, by), selection.window, selection.part, by
    )
