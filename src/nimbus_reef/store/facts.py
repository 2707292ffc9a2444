"""
Hands the core its frames: day files summed over a window, joined with what rows are.

Everything is cached by the account's generation (the sum of its day versions), so a
load makes all of it new at once and nothing else has to.
"""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, field, fields, is_dataclass
from datetime import date, timedelta
from typing import Any, Final, TypeVar

import polars as pl
from sqlalchemy import text

from nimbus_reef.core import words
from nimbus_reef.core.coverage import Span, held_days, labels_in_use
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store import loads, moments, snapshots
from nimbus_reef.store.engine import Store
from nimbus_reef.store.models import KEYS_OF
from nimbus_reef.store.moments import Generation, Loaded

T = TypeVar("T")

_KEPT: Final = 256
_MOST_BYTES: Final = 160 * 2**20
TARGET_SOURCES: Final = ("target_daily", "search_term_daily")
"""Reports that can tell what a target did, the better first."""
_LOADED: Final = text(
    "SELECT kind, SUM(version) AS version, MAX(CASE WHEN `rows` > 0 THEN day END) AS newest "
    "FROM day_version WHERE account_id = :account GROUP BY kind ORDER BY kind"
)
TOTAL_SOURCES: Final = ("campaign_daily", "placement_daily", "target_daily", "product_ad_daily", "hourly")
"""Reports that a total may come from, the better first ("Which report gives a total")."""


@dataclass(frozen=True, slots=True)
class Held:
    """Which report a window's figures come from, and how many of its days it holds."""

    kind: str
    days: int
    of: int


def _bytes_of(made: Any) -> int:
    """What the frames of a result hold, its own or those of its fields."""
    if isinstance(made, pl.DataFrame):
        return int(made.estimated_size())
    if is_dataclass(made) and not isinstance(made, type):
        return sum(_bytes_of(getattr(made, each.name)) for each in fields(made))
    return 0


class Cache:
    """
    The results asked for last, shared by the threads of one process.

    most_bytes: what the frames among them may hold together; a result larger than that is
    kept alone. Counting them is what keeps a worker small whatever the account's size.
    """

    def __init__(self, kept: int = _KEPT, most_bytes: int = _MOST_BYTES) -> None:
        self._kept, self._most_bytes = kept, most_bytes
        self._lock = threading.Lock()
        self._items: OrderedDict[Hashable, Any] = OrderedDict()
        self._sizes: dict[Hashable, int] = {}

    def peek(self, key: Hashable) -> Any:
        """The result kept under the key, or null; nothing is made."""
        with self._lock:
            return self._items.get(key)

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """The result kept under the key, made when it is not there."""
        with self._lock:
            if key in self._items:
                self._items.move_to_end(key)
                found: T = self._items[key]
                return found
        made = make()
        self.put(key, made)
        return made

    def put(self, key: Hashable, made: Any) -> None:
        """Keeps a result; the one not asked for longest gives way."""
        with self._lock:
            self._items[key] = made
            self._items.move_to_end(key)
            self._sizes[key] = _bytes_of(made)
            while len(self._items) > self._kept or (
                len(self._items) > 1 and sum(self._sizes.values()) > self._most_bytes
            ):
                gone, _ = self._items.popitem(last=False)
                del self._sizes[gone]


@dataclass(frozen=True, slots=True)
class Facts:
    """The frames of one store. Safe to share between threads."""

    store: Store
    cache: Cache = field(default_factory=Cache)

    def generation(self, account_id: int) -> Generation:
        """Changes whenever anything is loaded into the account; one small query, one per moment."""
        return self._loaded(account_id).generation

    def newest_day(self, account_id: int) -> date | None:
        """The newest day of any report that tells what targets did."""
        return self._loaded(account_id).newest

    def _loaded(self, account_id: int) -> Loaded:
        moment = moments.current()
        if moment is None:
            return self._look(account_id)
        if account_id not in moment.seen:
            moment.seen[account_id] = self._look(account_id)
        return moment.seen[account_id]

    def _look(self, account_id: int) -> Loaded:
        with self.store.read() as connection:
            rows = connection.execute(_LOADED, {"account": account_id}).all()
        newest = [row.newest for row in rows if row.kind in TARGET_SOURCES and row.newest]
        return Loaded(tuple((row.kind, int(row.version)) for row in rows), max(newest, default=None))

    def versions(self, account_id: int, kind: str, window: Window) -> dict[date, int]:
        """The version of every day of the window that holds rows, in order."""
        key = ("versions", account_id, self.generation(account_id), kind)
        known = self.cache.get(key, lambda: snapshots.versions(self.store, account_id, kind))
        return {day: version for day, version in known.items() if window.first <= day <= window.last}

    def spans(self, account_id: int, zone: str = "UTC") -> dict[str, list[Span]]:
        """The batches of each kind that stand, kept; zone: in which the day of loading counts."""
        key = ("spans", account_id, self.generation(account_id), zone)
        return self.cache.get(key, lambda: loads.spans(self.store, account_id, zone))

    def held(self, account_id: int, window: Window) -> Held:
        """The report target figures come from: the one that holds most days of the window."""
        counts = {kind: len(self.versions(account_id, kind, window)) for kind in TARGET_SOURCES}
        kind = max(TARGET_SOURCES, key=lambda name: counts[name])
        return Held(kind, counts[kind], window.days)

    def total_source(self, account_id: int, days: Sequence[Window]) -> str | None:
        """
        The report that totals come from: the first that holds every day of the windows, else
        the one that holds most of them; null when none holds any. Never a mixture.
        """
        spans = self.spans(account_id)
        counts: dict[str, int] = {}
        for kind in TOTAL_SOURCES:
            own = spans.get(kind, [])
            labels = labels_in_use(own)
            counts[kind] = sum(held_days(window, own, labels) for window in days)
        wanted = sum(window.days for window in days)
        whole = [kind for kind in TOTAL_SOURCES if counts[kind] == wanted]
        if whole:
            return whole[0]
        best = max(TOTAL_SOURCES, key=lambda kind: counts[kind])
        return best if counts[best] else None

    def by_day(self, account_id: int, kind: str, window: Window, measures: Sequence[str]) -> pl.DataFrame:
        """Day and the sums of a report's columns over the whole account, every held day, in order."""
        versions = self.versions(account_id, kind, window)

        def make() -> pl.DataFrame:
            rows = snapshots.read(self.store, account_id, kind, versions, list(measures))
            return rows.group_by("day").agg(pl.col(measures).cast(pl.Int64).sum()).sort("day").collect()

        key = ("by day", account_id, kind, window, tuple(measures), tuple(versions.items()))
        return self.cache.get(key, make)

    def sums(self, account_id: int, kind: str, window: Window) -> pl.DataFrame:
        """Measures per key of one report kind over the window."""
        versions = self.versions(account_id, kind, window)
        (key,) = KEYS_OF[kind]

        def make() -> pl.DataFrame:
            rows = snapshots.read(self.store, account_id, kind, versions, [key, *MEASURES])
            return rows.group_by(key).agg(pl.col(MEASURES).cast(pl.Int64).sum()).collect()

        return self.cache.get(("sums", account_id, kind, window, tuple(versions.items())), make)

    def target_rows(self, account_id: int, window: Window) -> pl.DataFrame:
        """
        One row per target that did anything in the window.

        target_id, ad_group_id, campaign_id, campaign, ad_group, target, match_type,
        state, bid (micro; both null where no settings are held), the chain of the
        evidence (ad_group_id, main_product, family, category), format, portfolio and the measures.
        """
        source = self.held(account_id, window).kind
        generation = self.generation(account_id)

        def make() -> pl.DataFrame:
            sums = self.sums(account_id, source, window)
            if source == "search_term_daily":
                terms = self._terms(account_id, generation).select("target_term_id", "target_id")
                sums = sums.join(terms, on="target_term_id").group_by("target_id").agg(pl.col(MEASURES).sum())
            return (
                sums.join(self.targets(account_id, generation), on="target_id")
                .join(self._settings(account_id, generation, window), on="target_id", how="left")
                .join(self._company(account_id, generation, window), on="ad_group_id", how="left")
                .join(self._placed(account_id, window), on="campaign_id", how="left")
                .sort("target_id")
            )

        return self.cache.get(("targets", account_id, generation, window, source), make)

    def term_rows(self, account_id: int, window: Window) -> pl.DataFrame:
        """
        One row per (campaign, ad group, normalised term): as `target_rows`, with
        normal_id, term (as most often paid for), targets (how many brought it) and
        target (the one that paid most). Not kept: it is large, and what is judged of it is kept.
        """
        generation = self.generation(account_id)
        rows = (
            self.sums(account_id, "search_term_daily", window)
            .join(self._terms(account_id, generation), on="target_term_id")
            .join(self.targets(account_id, generation), on="target_id")
            .sort(["spend", "impressions", "target_term_id"], descending=[True, True, False])
        )
        return (
            rows.group_by("campaign_id", "ad_group_id", "normal_id", maintain_order=True)
            .agg(
                pl.col("campaign", "ad_group", "target", "match_type", "term", "target_id").first(),
                pl.col("target_id").n_unique().alias("targets"),
                pl.col(MEASURES).sum(),
            )
            .join(self._company(account_id, generation, window), on="ad_group_id", how="left")
            .join(self._placed(account_id, window), on="campaign_id", how="left")
            .sort("ad_group_id", "normal_id")
        )

    def targets(self, account_id: int, generation: Hashable) -> pl.DataFrame:
        """Names of all targets of the account: ids, campaign, ad_group, target, match_type."""
        query = (
            "SELECT t.id AS target_id, g.id AS ad_group_id, c.id AS campaign_id, c.name AS campaign, "
            "g.name AS ad_group, p.text AS target, p.normal_id AS target_normal_id, t.match_type "
            "FROM campaign c JOIN ad_group g ON g.campaign_id = c.id "
            "JOIN target t ON t.ad_group_id = g.id JOIN phrase p ON p.id = t.phrase_id "
            f"WHERE c.account_id = {int(account_id)}"
        )
        return self.cache.get(("names", account_id, generation), lambda: self._query(query))

    def _terms(self, account_id: int, generation: Hashable) -> pl.DataFrame:
        query = (
            "SELECT w.id AS target_term_id, w.target_id, p.normal_id, p.text AS term "
            "FROM campaign c JOIN ad_group g ON g.campaign_id = c.id "
            "JOIN target t ON t.ad_group_id = g.id JOIN target_term w ON w.target_id = t.id "
            f"JOIN phrase p ON p.id = w.phrase_id WHERE c.account_id = {int(account_id)}"
        )
        return self.cache.get(("term names", account_id, generation), lambda: self._query(query))

    def _query(self, query: str) -> pl.DataFrame:
        frame = snapshots.query(self.store, query)
        return frame.with_columns(
            pl.col(name).cast(pl.UInt32) for name in frame.columns if name.endswith("_id")
        )

    def _settings(self, account_id: int, generation: Hashable, window: Window) -> pl.DataFrame:
        """State and bid of each target on the window's last day, or the latest day before."""

        def make() -> pl.DataFrame:
            days = self.versions(account_id, "targets", Window(date(2000, 1, 1), window.last))
            rows = snapshots.read(
                self.store, account_id, "targets", days, ["target_id", "state", "bid", "ad_group_bid"]
            )
            return (
                rows.sort("day")
                .group_by("target_id")
                .last()
                .with_columns(bid=pl.coalesce("bid", "ad_group_bid"))
                .drop("ad_group_bid", "day")
                .collect()
            )

        return self.cache.get(("settings", account_id, generation, window.last), make)

    def target_settings(self, account_id: int, window: Window) -> pl.DataFrame:
        """target_id, state and bid (micro) at the window's end, of targets whose settings are held."""
        return self._settings(account_id, self.generation(account_id), window)

    def _company(self, account_id: int, generation: Hashable, window: Window) -> pl.DataFrame:
        """ad_group_id → main product (largest spend, ties to the smaller SKU), family, category."""

        def make() -> pl.DataFrame:
            catalog = self.catalog(account_id, generation)
            main = self.product_rows(account_id, window).sort(["spend", "sku"], descending=[True, False])
            return (
                main.group_by("ad_group_id", maintain_order=True)
                .first()
                .select("ad_group_id", "product_id", pl.col("sku").alias("main_product"))
                .join(
                    catalog.select(
                        "product_id",
                        pl.coalesce("parent", "item").cast(pl.String).alias("family"),
                        pl.col("category").cast(pl.String),
                    ),
                    on="product_id",
                    how="left",
                )
                .drop("product_id")
            )

        return self.cache.get(("company", account_id, generation, window), make)

    def product_rows(self, account_id: int, window: Window) -> pl.DataFrame:
        """One row per product ad in the window: ad_group_id, product_id, sku and the measures."""
        query = (
            "SELECT a.id AS product_ad_id, a.ad_group_id, a.product_id, p.sku FROM product p "
            f"JOIN product_ad a ON a.product_id = p.id WHERE p.account_id = {int(account_id)}"
        )
        names = self.cache.get(("ads", account_id, self.generation(account_id)), lambda: self._query(query))
        return self.sums(account_id, "product_ad_daily", window).join(names, on="product_ad_id")

    def ad_rows(self, account_id: int, window: Window) -> pl.DataFrame:
        """As `product_rows`, with campaign and ad group, family and category."""
        generation = self.generation(account_id)
        query = (
            "SELECT g.id AS ad_group_id, c.id AS campaign_id, c.name AS campaign, g.name AS ad_group "
            f"FROM campaign c JOIN ad_group g ON g.campaign_id = c.id WHERE c.account_id = {int(account_id)}"
        )
        groups = self.cache.get(("ad groups", account_id, generation), lambda: self._query(query))
        kinds = self.catalog(account_id, generation).select(
            "product_id",
            pl.coalesce("parent", "item").cast(pl.String).alias("family"),
            pl.col("category").cast(pl.String),
        )
        return (
            self.product_rows(account_id, window)
            .join(groups, on="ad_group_id")
            .join(kinds, on="product_id", how="left")
            .join(self._placed(account_id, window), on="campaign_id", how="left")
        )

    def _ad_days(self, account_id: int, window: Window) -> pl.DataFrame:
        """What each product did in each campaign on each day: day, product_id, campaign_id, measures."""
        generation = self.generation(account_id)
        versions = self.versions(account_id, "product_ad_daily", window)
        query = (
            "SELECT a.id AS product_ad_id, a.product_id, g.campaign_id FROM product p "
            "JOIN product_ad a ON a.product_id = p.id JOIN ad_group g ON g.id = a.ad_group_id "
            f"WHERE p.account_id = {int(account_id)}"
        )
        names = self.cache.get(("ad homes", account_id, generation), lambda: self._query(query))
        return (
            snapshots.read(self.store, account_id, "product_ad_daily", versions, ["product_ad_id", *MEASURES])
            .join(names.lazy(), on="product_ad_id")
            .group_by("day", "product_id", "campaign_id")
            .agg(pl.col(MEASURES).cast(pl.Int64).sum())
            .sort("day", "product_id", "campaign_id")
            .collect()
        )

    def placed_products(self, account_id: int, window: Window) -> pl.DataFrame:
        """
        What each product did in each campaign on each day: day, product_id, campaign_id, the
        measures, sku, title, family, category, margin (per cent), campaign, format, portfolio.
        Names are categories: there are many rows and few names.
        """
        generation = self.generation(account_id)

        def make() -> pl.DataFrame:
            catalog = self.catalog(account_id, generation).select(
                "product_id", "title", "margin",
                pl.coalesce("parent", "item").cast(pl.String).alias("family"),
                pl.col("category").cast(pl.String),
            )  # fmt: skip
            query = f"SELECT id AS product_id, sku FROM product WHERE account_id = {int(account_id)}"
            skus = self.cache.get(("skus", account_id, generation), lambda: self._query(query))
            campaigns = self.campaign_settings(account_id, window).select(
                "campaign_id", "campaign", "format", "portfolio"
            )
            return (
                self._ad_days(account_id, window)
                .join(skus, on="product_id")
                .join(catalog, on="product_id", how="left")
                .join(campaigns, on="campaign_id", how="left")
                .with_columns(
                    pl.col("sku", "title", "family", "category", "campaign", "format", "portfolio").cast(
                        pl.Categorical
                    )
                )
            )

        return self.cache.get(("placed products", account_id, generation, window), make)

    def campaign_sums(self, account_id: int, window: Window, source: str) -> pl.DataFrame:
        """Measures per campaign from one report: campaign_id, campaign, format, portfolio, state, measures."""
        generation = self.generation(account_id)

        def make() -> pl.DataFrame:
            (key, *_) = KEYS_OF[source]
            versions = self.versions(account_id, source, window)
            rows = snapshots.read(self.store, account_id, source, versions, [key, *MEASURES])
            sums = rows.group_by(key).agg(pl.col(MEASURES).cast(pl.Int64).sum()).collect()
            if key == "target_id":
                homes = self.targets(account_id, generation).select("target_id", "campaign_id")
                sums = sums.join(homes, on="target_id")
            elif key == "product_ad_id":
                homes = self.ad_rows(account_id, window).select("product_ad_id", "campaign_id")
                sums = sums.join(homes, on="product_ad_id")
            return (
                sums.group_by("campaign_id")
                .agg(pl.col(MEASURES).sum())
                .join(self.campaign_settings(account_id, window), on="campaign_id")
                .sort("campaign_id")
            )

        return self.cache.get(("campaign sums", account_id, generation, window, source), make)

    def peer_feed(self, account_id: int, kind: str, last: date) -> pl.DataFrame:
        """Rows of a peer report up to a day, with month as "2026-10"."""
        versions = self.versions(account_id, kind, Window(date(2000, 1, 1), last))

        def make() -> pl.DataFrame:
            rows = snapshots.read(self.store, account_id, kind, versions).collect()
            texts = [name for name in ("category", "country", "format", "metric") if name in rows.columns]
            return rows.with_columns(
                pl.col("day").dt.strftime("%Y-%m").alias("month"), pl.col(texts).cast(pl.String)
            )

        return self.cache.get((kind, account_id, last, tuple(versions.items())), make)

    def query_weeks(self, account_id: int, window: Window) -> pl.DataFrame:
        """Query funnel rows of weeks wholly inside the window: day (Monday), query, sku (or null), counts."""
        inside = Window(window.first, max(window.first, window.last - timedelta(days=6)))
        versions = self.versions(account_id, "query_funnel", inside)
        generation = self.generation(account_id)

        def make() -> pl.DataFrame:
            if window.days < 7:
                versions.clear()
            texts = self._query(
                "SELECT DISTINCT p.id AS query_phrase_id, p.text AS query FROM query_funnel f "
                f"JOIN phrase p ON p.id = f.query_phrase_id WHERE f.account_id = {int(account_id)}"
            )
            skus = self._query(
                f"SELECT id AS product_id, sku FROM product WHERE account_id = {int(account_id)}"
            )
            return (
                snapshots.read(self.store, account_id, "query_funnel", versions)
                .collect()
                .join(texts, on="query_phrase_id")
                .join(skus, on="product_id", how="left")
            )

        return self.cache.get(("queries", account_id, generation, window), make)

    def listings(self, account_id: int, window: Window) -> pl.DataFrame:
        """Product pages by day: day, product_id and what they show."""
        versions = self.versions(account_id, "listings", window)

        def make() -> pl.DataFrame:
            return snapshots.read(self.store, account_id, "listings", versions).collect()

        return self.cache.get(("listings", account_id, window, tuple(versions.items())), make)

    def _placed(self, account_id: int, window: Window) -> pl.DataFrame:
        """campaign_id, format, portfolio."""
        return self.campaign_settings(account_id, window).select("campaign_id", "format", "portfolio")

    def term_shares(self, account_id: int, window: Window) -> pl.DataFrame:
        """What each target spent on each term: ad_group_id, normal_id, target_id, spend."""
        generation = self.generation(account_id)
        groups = self.targets(account_id, generation).select("target_id", "ad_group_id")
        return (
            self.sums(account_id, "search_term_daily", window)
            .join(self._terms(account_id, generation), on="target_term_id")
            .join(groups, on="target_id")
            .group_by("ad_group_id", "normal_id", "target_id")
            .agg(pl.col("spend").sum())
        )

    def term_sums(self, account_id: int, window: Window) -> pl.DataFrame:
        """What each term of an ad group did: ad_group_id, normal_id and the measures, no names."""
        generation = self.generation(account_id)

        def make() -> pl.DataFrame:
            groups = self.targets(account_id, generation).select("target_id", "ad_group_id")
            names = self._terms(account_id, generation).select("target_term_id", "target_id", "normal_id")
            return (
                self.sums(account_id, "search_term_daily", window)
                .join(names, on="target_term_id")
                .join(groups, on="target_id")
                .group_by("ad_group_id", "normal_id")
                .agg(pl.col(MEASURES).sum())
            )

        return self.cache.get(("term sums", account_id, generation, window), make)

    def live_exact(self, account_id: int, window: Window) -> pl.DataFrame:
        """ad_group_id, normal_id of exact targets that ran at the window's end, as far as is known."""
        generation = self.generation(account_id)
        states = self._settings(account_id, generation, window).select("target_id", "state")
        campaigns = self.campaign_settings(account_id, window).select(
            "campaign_id", pl.col("state").alias("campaign_state")
        )
        runs = pl.all_horizontal(pl.col("state", "campaign_state").fill_null("enabled") == "enabled")
        return (
            self.targets(account_id, generation)
            .filter(pl.col("match_type") == "exact")
            .join(states, on="target_id", how="left")
            .join(campaigns, on="campaign_id", how="left")
            .filter(runs)
            .select("ad_group_id", pl.col("target_normal_id").alias("normal_id"))
        )

    def homes(self, account_id: int, window: Window) -> pl.DataFrame:
        """
        Where a term of an ad group may get an exact target of its own: ad_group_id, home_id,
        campaign, ad_group. The kin with most live exact targets, itself where none has any.
        """
        exact = (
            self.live_exact(account_id, window)
            .group_by(pl.col("ad_group_id").alias("kin_id"))
            .agg(targets=pl.len())
        )
        names = (
            self.targets(account_id, self.generation(account_id))
            .select(pl.col("ad_group_id").alias("home_id"), "campaign", "ad_group")
            .unique()
        )
        itself = pl.col("ad_group_id") == pl.col("kin_id")
        return (
            self.kin(account_id, window)
            .join(exact, on="kin_id", how="left")
            .filter(pl.col("targets").is_not_null() | itself)
            .sort([pl.col("targets").fill_null(0), itself, "kin_id"], descending=[True, True, False])
            .group_by("ad_group_id", maintain_order=True)
            .agg(pl.col("kin_id").first().alias("home_id"))
            .join(names, on="home_id")
        )

    def kin(self, account_id: int, window: Window) -> pl.DataFrame:
        """ad_group_id, kin_id: ad groups that share an advertised product, each its own kin."""
        ads = self.product_rows(account_id, window).select("ad_group_id", "product_id").unique()
        shared = ads.join(ads.rename({"ad_group_id": "kin_id"}), on="product_id").select(
            "ad_group_id", "kin_id"
        )
        groups = self.targets(account_id, self.generation(account_id)).select("ad_group_id").unique()
        return pl.concat(
            [shared, groups.select("ad_group_id", pl.col("ad_group_id").alias("kin_id"))]
        ).unique()

    def campaign_settings(self, account_id: int, window: Window) -> pl.DataFrame:
        """campaign_id, campaign, state, format, portfolio at the window's end; null where not held."""
        generation = self.generation(account_id)

        def make() -> pl.DataFrame:
            days = self.versions(account_id, "campaigns", Window(date(2000, 1, 1), window.last))
            rows = snapshots.read(
                self.store, account_id, "campaigns", days, ["campaign_id", "state", "format", "portfolio"]
            )
            newest = rows.sort("day").group_by("campaign_id").last().drop("day").collect()
            names = self._query(
                f"SELECT id AS campaign_id, name AS campaign FROM campaign WHERE account_id = {int(account_id)}"
            )
            return names.join(newest, on="campaign_id", how="left")

        return self.cache.get(("campaigns", account_id, generation, window.last), make)

    def catalog(self, account_id: int, generation: Hashable) -> pl.DataFrame:
        """The newest known settings of each product."""
        query = (
            "SELECT k.product_id, p.sku, k.item_id AS item, k.parent_item_id AS parent, k.title, k.brand, k.category, "
            "k.price, k.margin, k.ad_eligible FROM catalog k JOIN product p ON p.id = k.product_id "
            f"WHERE k.account_id = {int(account_id)} AND k.day = (SELECT MAX(n.day) FROM catalog n "
            "WHERE n.account_id = k.account_id AND n.product_id = k.product_id)"
        )
        return self.cache.get(("catalog", account_id, generation), lambda: self._query(query))

    def family_names(self, account_id: int) -> dict[str, str]:
        """What product families are called, by id: the words that all their titles begin with."""
        generation = self.generation(account_id)

        def make() -> dict[str, str]:
            families = (
                self.catalog(account_id, generation)
                .select(
                    pl.coalesce("parent", "item").cast(pl.String).alias("family"),
                    pl.col("title", "brand").cast(pl.String),
                )
                .drop_nulls("family")
                .group_by("family")
                .agg("title", pl.col("brand").first())
            )
            return {
                family: words.common_start(titles, brand or "") or family
                for family, titles, brand in families.rows()
            }

        return self.cache.get(("families", account_id, generation), make)

    def daily(self, account_id: int, kind: str, window: Window, keys: list[int]) -> pl.DataFrame:
        """Measures per day of some keys of one report kind, every held day, zeros where idle."""
        versions = self.versions(account_id, kind, window)
        (key,) = KEYS_OF[kind]
        rows = (
            snapshots.read(self.store, account_id, kind, versions, [key, *MEASURES])
            .filter(pl.col(key).is_in(keys))
            .group_by("day")
            .agg(pl.col(MEASURES).cast(pl.Int64).sum())
            .collect()
        )
        days = pl.DataFrame({"day": list(versions)}, schema={"day": pl.Date})
        return days.join(rows, on="day", how="left").with_columns(pl.col(MEASURES).fill_null(0)).sort("day")

    def target_days(
        self, account_id: int, source: str, window: Window, target_ids: Sequence[int]
    ) -> pl.DataFrame:
        """target_id, day and measures of some targets on every held day, zeros where idle; in order."""
        versions = self.versions(account_id, source, window)
        (key,) = KEYS_OF[source]
        wanted = pl.DataFrame({"target_id": list(target_ids)}, schema={"target_id": pl.UInt32})
        keys = wanted
        if key != "target_id":
            terms = self._terms(account_id, self.generation(account_id))
            keys = terms.select(key, "target_id").join(wanted, on="target_id", how="semi")
        rows = (
            snapshots.read(self.store, account_id, source, versions, [key, *MEASURES])
            .join(keys.lazy(), on=key)
            .group_by("target_id", "day")
            .agg(pl.col(MEASURES).cast(pl.Int64).sum())
            .collect()
        )
        days = pl.DataFrame({"day": list(versions)}, schema={"day": pl.Date})
        return (
            wanted.join(days, how="cross")
            .join(rows, on=["target_id", "day"], how="left")
            .with_columns(pl.col(MEASURES).fill_null(0))
            .sort("target_id", "day")
        )

    def bids(self, account_id: int, target_ids: Sequence[int], window: Window) -> pl.DataFrame:
        """target_id, day, bid (micro), state on every day with settings up to the window's end."""
        versions = self.versions(account_id, "targets", Window(date(2000, 1, 1), window.last))
        return (
            snapshots.read(
                self.store, account_id, "targets", versions, ["target_id", "state", "bid", "ad_group_bid"]
            )
            .filter(pl.col("target_id").is_in(list(target_ids)))
            .select("target_id", "day", pl.coalesce("bid", "ad_group_bid").alias("bid"), "state")
            .sort("target_id", "day")
            .collect()
        )

    def terms_of(self, account_id: int, target_id: int, window: Window) -> pl.DataFrame:
        """The terms one target brought in the window: normal_id, term, measures."""
        terms = self._terms(account_id, self.generation(account_id))
        return (
            self.sums(account_id, "search_term_daily", window)
            .join(terms.filter(pl.col("target_id") == target_id), on="target_term_id")
            .sort("spend", descending=True)
        )

    def term_keys(self, account_id: int, ad_group_id: int, normal_id: int) -> pl.DataFrame:
        """target_term_id and target_id of every target of an ad group that brought one term."""
        generation = self.generation(account_id)
        own = self.targets(account_id, generation).filter(pl.col("ad_group_id") == ad_group_id)
        return (
            self._terms(account_id, generation)
            .filter(pl.col("normal_id") == normal_id)
            .join(own, on="target_id")
        )

    def changes(self, account_id: int, window: Window) -> pl.DataFrame:
        """
        What somebody changed in the window, in order: day, at, the ids of what it was about (0
        for none), field, old, new, by.
        """
        versions = self.versions(account_id, "changes", window)

        def make() -> pl.DataFrame:
            keys = [key for key in KEYS_OF["changes"] if key not in ("account_id", "day")]
            rows = snapshots.read(self.store, account_id, "changes", versions, [*keys, "old", "new", "by"])
            return rows.with_columns(pl.col("field", "old", "new", "by").cast(pl.String)).sort("at").collect()

        return self.cache.get(("changes", account_id, window, tuple(versions.items())), make)

    def keys_of_terms(self, account_id: int, terms: pl.DataFrame) -> pl.DataFrame:
        """target_term_id of every target that brought one of the terms (ad_group_id, normal_id)."""
        generation = self.generation(account_id)
        groups = self.targets(account_id, generation).select("target_id", "ad_group_id")
        return (
            self._terms(account_id, generation)
            .join(terms.select("normal_id").unique(), on="normal_id", how="semi")
            .join(groups, on="target_id")
            .join(terms, on=["ad_group_id", "normal_id"], how="semi")
            .select("target_term_id")
        )

    def rows_behind(self, account_id: int, kind: str, window: Window, keys: Sequence[int]) -> pl.DataFrame:
        """The report's own rows of some keys: day, key, measures, batch_id and its file_name, loaded_at."""
        versions = self.versions(account_id, kind, window)
        (key,) = KEYS_OF[kind]
        rows = (
            snapshots.read(self.store, account_id, kind, versions, [key, "batch_id", *MEASURES])
            .filter(pl.col(key).is_in(list(keys)))
            .sort("day", key)
            .collect()
        )
        files = self._query(
            f"SELECT id AS batch_id, file_name, loaded_at FROM batch WHERE account_id = {int(account_id)}"
        )
        return rows.join(files, on="batch_id", how="left")
