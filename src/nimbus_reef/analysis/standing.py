"""An account's figures among its category peers, in one window."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.analysis.look import Look
from nimbus_reef.core import peers
from nimbus_reef.core.funnel import COUNTS
from nimbus_reef.core.metrics import in_units
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.peers import RATED, Peers, Standing
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import market_frames, product_frames
from nimbus_reef.store.reading.facts import Facts

AD_METRICS: Final = ("ctr", "cvr", "cpc", "aov", "acos")
SHOP_METRICS: Final = ("cart_rate", "purchase_rate")
ALL: Final = "all"


@dataclass(frozen=True, slots=True)
class Ground:
    """
    What standing is worked out from. rows: see `product_frames.placed_products`, of the part looked at, money in units.
    feed: the peers of the account's country; cells: its rows by (category, format, metric).
    months: what each category did in each month's part of the window.
    """

    account: Account
    window: Window
    rows: pl.DataFrame
    feed: pl.DataFrame
    cells: Mapping[tuple[Any, ...], pl.DataFrame]
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
        """Peers of a cell of all formats, its months weighed by counts that are not in the ground."""
        cell = self.cells.get((category, ALL, metric))
        return None if cell is None else peers.blended(cell, dict(weights))

    def _weights(self, category: str, denominator: str) -> dict[str, float]:
        """Our denominator in each month's part of the window."""
        measure = denominator if denominator in self.rows.columns else "clicks"
        return {row["month"]: float(row[measure]) for row in self.months.get(category, [])}


def _by_month(rows: pl.DataFrame) -> dict[str, list[dict[str, Any]]]:
    """Category → its months in order, each with the sums of the measures; a block's by its days in each."""
    sums = (
        rows.drop_nulls("category")
        .join(_month_shares(rows), on=["first_day", "day"])
        .group_by(pl.col("category").cast(pl.String), "month")
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


def ground(facts: Facts, look: Look) -> Ground:
    """The ground of one window; kept until something is loaded."""
    account, window = look.account, look.window

    def make() -> Ground:
        rows = look.within(facts, product_frames.placed_products(facts, account.id, window))
        rows = rows.with_columns(in_units())
        feed = market_frames.peer_feed(facts, account.id, "peer_benchmarks", window.last)
        feed = feed.filter(pl.col("country") == account.country)
        cells = feed.partition_by("category", "format", "metric", as_dict=True, maintain_order=True)
        return Ground(account, window, rows, feed, cells, _by_month(rows))

    return facts.kept("ground", account.id, make, window, look.part)


@dataclass(frozen=True, slots=True)
class Placed:
    """
    One metric of a group of rows. standing: over its categories, weighed by our spend;
    parts: the same per category, with our spend there.
    """

    standing: Standing
    parts: tuple[tuple[str, Standing, float], ...]


def places(
    on: Ground, rows: pl.DataFrame, metrics: Sequence[str] = AD_METRICS, ad_format: str = ALL
) -> dict[str, Placed]:
    """Where metrics of some rows of the ground stand; per category first, then weighed by spend."""
    parts: dict[str, list[tuple[str, Standing, float, float]]] = {metric: [] for metric in metrics}
    summed = bool((rows["first_day"] < rows["day"]).any())
    daily = rows.drop_nulls("category").group_by("category", "day").agg(pl.col(MEASURES).sum()).sort("day")
    order = rows["category"].drop_nulls().unique(maintain_order=True).to_list()
    by_category = daily.partition_by("category", as_dict=True)
    for category in order:
        days = by_category[category,]
        sums = {name: float(days[name].sum()) for name in MEASURES}
        for metric in metrics:
            rated = RATED[metric]
            found = on.peers_of(str(category), ad_format, metric)
            ends = None
            # How a money ratio wavers is seen from day to day; a sum of several does not tell.
            tells = rated.proportion or not summed
            if found is not None and tells and not peers.too_thin(metric, sums):
                ends = peers.ends_of(
                    metric,
                    *(
                        days[name].cast(pl.Float64).to_numpy()
                        for name in (rated.numerator, rated.denominator)
                    ),
                )
            standing = peers.standing(metric, sums, found, ends)
            parts[metric].append(
                (str(category), standing, float(sums["spend"]), float(sums[rated.denominator]))
            )
    whole = {name: float(rows[name].sum()) for name in MEASURES}
    return {
        metric: Placed(
            peers.combined(metric, whole, [(each, spend, weight) for _, each, spend, weight in told]),
            tuple((category, each, spend) for category, each, spend, _ in told),
        )
        for metric, told in parts.items()
    }


def shop_sums(facts: Facts, account: Account, window: Window) -> Mapping[str, int]:
    """The account's own and the market's counts over the weeks inside the window, all queries."""
    rows = market_frames.query_weeks(facts, account.id, window).filter(pl.col("sku").is_null())
    return {name: int(rows[name].sum()) for name in COUNTS}


def shop_months(facts: Facts, account: Account, window: Window) -> Mapping[str, Mapping[str, float]]:
    """What peer months of cart and purchase rate weigh: the counted weeks' own clicks, own cart adds."""
    rows = market_frames.query_weeks(facts, account.id, window).filter(pl.col("sku").is_null())
    months = rows.group_by(pl.col("day").dt.strftime("%Y-%m").alias("month")).agg(
        pl.col("own_clicks", "own_cart_adds").sum()
    )
    return {
        name.removeprefix("own_"): dict(months.select("month", pl.col(name).cast(pl.Float64)).rows())
        for name in ("own_clicks", "own_cart_adds")
    }


def shop_place(
    on: Ground, sums: Mapping[str, int], metric: str, months: Mapping[str, Mapping[str, float]]
) -> Placed:
    """
    Cart and purchase rate: of the account as a whole, against each category it spends in. months:
    see `shop_months`.
    """
    own = {name.removeprefix("own_"): value for name, value in sums.items() if name.startswith("own_")}
    rated = RATED[metric]
    ends = None
    if own[rated.denominator]:
        top, below = (np.array([float(own[name])]) for name in (rated.numerator, rated.denominator))
        ends = peers.ends_of(metric, top, below)
    spent = on.rows.group_by("category").agg(pl.col("spend").sum()).drop_nulls("category").sort("category")
    parts = [
        (
            category,
            peers.standing(metric, own, on.weighed(category, metric, months[rated.denominator]), ends),
            float(spend),
        )
        for category, spend in spent.rows()
    ]
    return Placed(peers.combined(metric, own, [(each, spend, 1.0) for _, each, spend in parts]), tuple(parts))


def product_standing(on: Ground) -> pl.DataFrame:
    """
    Every product × metric: sku, title, family, category, measures and per metric its value
    (`ctr`), its percentile (`ctr_at`, null without verdict), where it would stand were it not too thin (`ctr_seen`), and whether peers are the account's
    own products (`ctr_own`); overall.
    """
    products = (
        on.rows.group_by("product_id", "sku", "title", "family", "category")
        .agg(pl.col(MEASURES).sum())
        .with_columns(pl.col("sku", "title", "family", "category").cast(pl.String))
        .sort("spend", descending=True)
    )
    return pl.concat(
        [
            _of_category(on, str(name[0]), part)
            for name, part in products.partition_by("category", as_dict=True).items()
        ]
        or [_of_category(on, "", products)]
    ).sort(["spend", "sku"], descending=[True, False])


def _of_category(on: Ground, category: str, part: pl.DataFrame) -> pl.DataFrame:
    columns: dict[str, pl.Series] = {}
    for metric in AD_METRICS:
        found = on.peers_of(category, ALL, metric)
        if found is None:
            values, _, _ = peers.columns(metric, part, None)
            found = peers.of_own([float(value) for value in values[peers.enough(metric, part)]])
        values, at, seen = peers.columns(metric, part, found)
        columns[metric] = pl.Series(values, nan_to_null=True)
        columns[f"{metric}_at"] = pl.Series(at, nan_to_null=True)
        columns[f"{metric}_seen"] = pl.Series(seen, nan_to_null=True)
        columns[f"{metric}_own"] = pl.Series(
            [found is not None and found.own] * len(values), dtype=pl.Boolean
        )
    return part.with_columns(**columns).with_columns(overall_at=peers.overall_column())


def format_mix(facts: Facts, on: Ground) -> list[dict[str, Any]]:
    """Our share of spend and of campaigns per ad format beside the peers' (null without a feed)."""
    feed = market_frames.peer_feed(facts, on.account.id, "peer_format_mix", on.window.last).filter(
        pl.col("country") == on.account.country
    )
    spend = float(on.rows["spend"].sum())
    campaigns = on.rows.filter(pl.col("impressions") > 0).select("campaign_id", "format").unique()
    by_category = {
        str(name): float(value)
        for name, value in on.rows.group_by("category").agg(pl.col("spend").sum()).rows()
    }
    found = []
    for ad_format in ("product", "brand", "display"):
        theirs = _peer_shares(feed.filter(pl.col("format") == ad_format), by_category)
        own = float(on.rows.filter(pl.col("format") == ad_format)["spend"].sum())
        running = len(campaigns.filter(pl.col("format") == ad_format))
        found.append(
            {
                "format": ad_format,
                "spend_share": own / spend if spend else None,
                "campaign_share": running / len(campaigns) if len(campaigns) else None,
                "peer_spend_share": theirs[0], "peer_campaign_share": theirs[1],
            }
        )  # fmt: skip
    return found


def _peer_shares(feed: pl.DataFrame, weights: Mapping[str, float]) -> tuple[float | None, float | None]:
    """The newest month of each category, weighed by our spend there."""
    newest = feed.sort("month").group_by("category", maintain_order=True).last()
    told = [row for row in newest.to_dicts() if weights.get(row["category"], 0) > 0]
    whole = sum(weights[row["category"]] for row in told)
    if not whole:
        return None, None
    spend, campaigns = (
        sum(row[name] * weights[row["category"]] for row in told) / whole
        for name in ("spend_share", "campaign_share")
    )
    return spend, campaigns


def by_group(
    on: Ground, name: str, metrics: Sequence[str] = AD_METRICS
) -> list[tuple[str, float, list[Placed]]]:
    """Groups of the ground (category, format, portfolio), most spend first: name, spend, a place per metric."""
    groups = []
    for (value,), rows in on.rows.partition_by(name, as_dict=True, maintain_order=True).items():
        label = str(value) if value is not None else "none given"
        ad_format = label if name == "format" and value is not None else ALL
        groups.append(
            (label, float(rows["spend"].sum()), list(places(on, rows, metrics, ad_format).values()))
        )
    return sorted(groups, key=lambda each: each[1], reverse=True)


# --- kept for a look: what its pages show first --------------------------------------------


def account_places(facts: Facts, look: Look, ad_format: str = ALL) -> dict[str, Placed]:
    """The account's ad metrics among peers; of one format where a look is at just that one."""
    on = ground(facts, look)
    return facts.kept(
        "places", look.account.id, lambda: places(on, on.rows, ad_format=ad_format), look.window, look.part
    )


def mix(facts: Facts, look: Look) -> list[dict[str, Any]]:
    """`format_mix` of a look."""
    on = ground(facts, look)
    return facts.kept("format mix", look.account.id, lambda: format_mix(facts, on), look.window, look.part)


def groups(facts: Facts, look: Look, by: str) -> list[tuple[str, float, list[Placed]]]:
    """`by_group` of a look."""
    on = ground(facts, look)
    return facts.kept("groups", look.account.id, lambda: by_group(on, by), look.window, look.part, by)
