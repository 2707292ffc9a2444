"""Who moved: products, families, campaigns and the rest, then and now, side by side."""

from __future__ import annotations

from collections.abc import Hashable, Mapping, Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis.selection import Selection, called
from nimbus_reef.core import naming
from nimbus_reef.core.metrics import in_units
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.movement import moved
from nimbus_reef.core.targeting import Aims
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people import labels
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.reading import campaign_frames, product_frames, target_frames
from nimbus_reef.store.reading.facts import TARGET_SOURCES, TOTAL_SOURCES, Facts

GROUPINGS: Final = ("product", "family", "campaign", "portfolio", "format", "keyword")
REST: Final = "not in product report"
MOVED: Final = (
    "name",
    "where",
    "movement",
    "spend_change",
    "sales_change",
    "acos0",
    "acos1",
    "marginal",
    "worth",
    "profit",
    "thin",
)
"""What is told of a row that moved, as data; money per 30 days."""
_BOTH: Final = [f"{name}{when}" for name in MEASURES for when in (0, 1)]


def sides(facts: Facts, selection: Selection, by: str) -> pl.DataFrame:
    """
    What every group did in the look's window and in the days it is compared with; there must be such days.

    One row per group: key, name, where, sku (of a product), the measures then (…0) and now
    (…1), money in units, target_acos and margin (a fraction, null where unknown); then what
    `core.movement.moved` adds. With products and families, what the totals hold beyond the
    product report is a row of its own, `REST`. Largest effect on profit first, either way; rows
    that neither spent nor sold come last.
    """
    account, aims = selection.account, selection.aims
    windows = both(selection)

    def make() -> pl.DataFrame:
        source = source_of(facts, account, windows, by)
        rows = [_side(facts, selection.at(each), by, source) for each in windows]
        named = pl.concat([each.select(_NAMES) for each in rows[::-1]]).unique("key", keep="first", maintain_order=True)
        joined = named
        for when, each in enumerate(rows):
            sums = each.select("key", *(pl.col(name).alias(f"{name}{when}") for name in MEASURES))
            joined = joined.join(sums, on="key", how="left")
        joined = joined.with_columns(pl.col(_BOTH).fill_null(0))
        if by in ("product", "family") and not selection.part:
            joined = pl.concat([joined, _rest(facts, account, windows, joined, aims)])
        money = [*in_units(suffix="0"), *in_units(suffix="1")]
        then, now = held_days(facts, selection, by)
        rated = moved(joined.with_columns(money), then, now, account.settings.movement)
        return rated.sort(~active(), -pl.col("profit").abs(), maintain_order=True)

    return facts.kept("sides", account.id, make, *_sides_of(facts, selection, by))


def is_made(facts: Facts, selection: Selection, by: str) -> bool:
    """Whether `sides` is worked out already."""
    return facts.known("sides", selection.account.id, *_sides_of(facts, selection, by)) is not None


def _sides_of(facts: Facts, selection: Selection, by: str) -> tuple[Hashable, ...]:
    return *both(selection), selection.aims, by, selection.part, *parts_key(facts, selection.account, by)


def parts_key(facts: Facts, account: Account, by: str) -> tuple[Hashable, ...]:
    """What a grouping by names or labels depends on."""
    return account.naming, tuple(_labels(facts, account).items()) if by == LABEL else ()


def both(selection: Selection) -> tuple[Window, Window]:
    """The days compared with, and those looked at."""
    assert selection.against is not None, "movement is asked for where there are days to compare with"
    return selection.against, selection.window


def active() -> pl.Expr:
    """Rows that spent or sold in either window."""
    return (pl.col("spend0") + pl.col("spend1") + pl.col("sales0") + pl.col("sales1")) != 0


_NAMES: Final = ["key", "name", "where", "sku", "target_acos", "margin"]


def sources(by: str) -> tuple[str, ...]:
    """The reports that a grouping's rows may come from, the better first."""
    if by in ("product", "family"):
        return ("product_ad_daily",)
    return TARGET_SOURCES if by == "keyword" else TOTAL_SOURCES


def source_of(facts: Facts, account: Account, windows: Sequence[Window], by: str) -> str:
    """The one report that a grouping's rows come from in both windows."""
    if by == "keyword":
        counts = {kind: sum(facts.held_days(account.id, kind, each) for each in windows) for kind in TARGET_SOURCES}
        return max(TARGET_SOURCES, key=lambda kind: counts[kind])
    if by in ("product", "family"):
        return "product_ad_daily"
    return facts.total_source(account.id, windows) or "target_daily"


def held_days(facts: Facts, selection: Selection, by: str) -> tuple[int, int]:
    """How many days of both windows (then, now) the rows of a grouping are the sums of."""
    windows = both(selection)
    source = source_of(facts, selection.account, windows, by)
    then, now = (facts.monthly_days(selection.account.id, source, each) for each in windows)
    return then, now


def groupings(facts: Facts, account: Account, windows: Sequence[Window]) -> tuple[str, ...]:
    """The ways of grouping, those first whose reports hold something of the windows."""

    def told(by: str) -> bool:
        return all(any(facts.held_days(account.id, kind, each) for kind in sources(by)) for each in windows)

    return tuple(sorted((*GROUPINGS, *name_parts(facts, account)), key=lambda by: not told(by)))


NAMED: Final = "name: "
"""Begins a grouping by a part of the campaigns' names."""


LABEL: Final = "label"


def _labels(facts: Facts, account: Account) -> Mapping[str, tuple[str, ...]]:
    return labels.of_account(facts.store, account.id).campaigns


def name_parts(facts: Facts, account: Account) -> tuple[str, ...]:
    """Groupings by what campaigns are called, by the account's pattern, and by their labels, where they have some."""
    found = naming.pattern(account.naming)
    named = tuple(f"{NAMED}{part}" for part in found.parts) if found else ()
    return (*named, LABEL) if _labels(facts, account) else named


def is_told(by: str) -> bool:
    """Whether `part_column` tells a grouping."""
    return by == LABEL or by.startswith(NAMED)


def part_column(facts: Facts, account: Account, rows: pl.DataFrame, by: str) -> pl.Series:
    """What each campaign is called in a part of its name, or its labels."""
    names = rows["campaign"].cast(pl.String)
    if by == LABEL:
        texts = {name: ", ".join(own) for name, own in _labels(facts, account).items()}
        return names.replace_strict(texts, default="no label", return_dtype=pl.String)
    part = by.removeprefix(NAMED)
    by_key = {name: called(account.naming, name).get(part, "no pattern") for name in names.unique().drop_nulls()}
    return names.replace_strict(by_key, default="no pattern", return_dtype=pl.String)


def _side(facts: Facts, selection: Selection, by: str, source: str) -> pl.DataFrame:
    account, window, aims = selection.account, selection.window, selection.aims
    if by in ("product", "family"):
        rows = selection.within(facts, product_frames.placed_ads(facts, account.id, window))
        return (
            _products(rows, aims)
            if by == "product"
            else _families(rows, aims, product_frames.family_names(facts, account.id))
        )
    if by == "keyword":
        rows = selection.within(facts, target_frames.named_targets(facts, account.id, window, source))
        where = pl.concat_str("match_type", pl.lit(" · "), "campaign", pl.lit(" · "), "ad_group")
        return _named(rows.with_columns(aims.expr(rows.columns)), pl.col("target_id").cast(pl.String), "target", where)
    rows = selection.within(facts, campaign_frames.campaign_sums(facts, account.id, window, source))
    rows = rows.with_columns(aims.expr(rows.columns))
    if by == "campaign":
        where = pl.concat_str(pl.col("format").fill_null("–"), pl.lit(" · "), pl.col("portfolio").fill_null("–"))
        return _named(rows, pl.col("campaign"), "campaign", where)
    if is_told(by):
        rows = rows.with_columns(part_column(facts, account, rows, by).alias(by))
    rows = rows.with_columns(pl.col(by).cast(pl.String).fill_null("none given"))
    sums = rows.group_by(by).agg(pl.col(MEASURES).sum(), pl.len().alias("campaigns"))
    count = pl.concat_str(pl.col("campaigns").cast(pl.String), pl.lit(" campaigns"))
    return _named(sums.with_columns(target_acos=pl.lit(aims.account)), pl.col(by), by, count)


def _named(rows: pl.DataFrame, key: pl.Expr, name: str, where: pl.Expr) -> pl.DataFrame:
    return rows.select(
        key.cast(pl.String).alias("key"),
        pl.col(name).cast(pl.String).alias("name"),
        where.alias("where"),
        pl.lit(None, pl.String).alias("sku"),
        pl.col("target_acos"),
        pl.lit(None, pl.Float64).alias("margin"),
        *MEASURES,
    )


def _products(rows: pl.DataFrame, aims: Aims) -> pl.DataFrame:
    sums = rows.group_by("sku", "title", "category", "margin", maintain_order=True).agg(pl.col(MEASURES).sum())
    sums = sums.with_columns(pl.col("sku", "title", "category").cast(pl.String))
    return sums.with_columns(aims.expr(sums.columns)).select(
        pl.col("sku").alias("key"),
        pl.col("sku").alias("name"),
        pl.col("title").cast(pl.String).fill_null("").alias("where"),
        "sku",
        "target_acos",
        (pl.col("margin") / 100).alias("margin"),
        *MEASURES,
    )


def _families(rows: pl.DataFrame, aims: Aims, names: Mapping[str, str]) -> pl.DataFrame:
    """The margin of a family is that of its products, weighed by what they sell."""
    weight = pl.col("sales") + 1
    margin = (pl.col("margin") * weight).sum() / weight.filter(pl.col("margin").is_not_null()).sum()
    products = (
        rows.with_columns(pl.col("family").cast(pl.String).fill_null("no family"))
        .group_by("family", "sku", "title", "margin", maintain_order=True)
        .agg(pl.col(MEASURES).sum())
    )
    sums = products.group_by("family", maintain_order=True).agg(
        pl.col(MEASURES).sum(),
        margin.alias("margin"),
        pl.col("title").sort_by("sales", maintain_order=True).last(),
        pl.len().alias("products"),
    )
    return sums.select(
        pl.col("family").alias("key"),
        pl.col("family").replace(names).alias("name"),
        pl.concat_str(
            pl.col("products").cast(pl.String), pl.lit(" products, most sales: "), pl.col("title").cast(pl.String)
        ).alias("where"),
        pl.lit(None, pl.String).alias("sku"),
        pl.lit(aims.account).alias("target_acos"),
        (pl.col("margin") / 100).alias("margin"),
        *MEASURES,
    )


def _rest(facts: Facts, account: Account, windows: Sequence[Window], rows: pl.DataFrame, aims: Aims) -> pl.DataFrame:
    """What the account's totals hold that the product report does not; nothing where they agree."""
    source = facts.total_source(account.id, windows)
    sums: Mapping[str, int] = {}
    if source is not None and source != "product_ad_daily":
        sums = {
            f"{name}{when}": int(days[name].sum()) - int(rows[f"{name}{when}"].sum())
            for when, each in enumerate(windows)
            for days in [facts.by_day(account.id, source, each, MEASURES)]
            for name in MEASURES
        }
    row = {"key": REST, "name": REST, "where": "", "sku": None, "target_acos": aims.account, "margin": None, **sums}
    return pl.DataFrame([row] if any(sums.values()) else [], schema=rows.schema)
