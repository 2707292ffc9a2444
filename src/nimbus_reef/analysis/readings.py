"""
What checks read: the rows that each selects from, with what findings are told by.

All have row_id, stake (micro-units per 30 days), campaign, ad_group, target, match_type and the measures (money in
micro-units). Rows of products and categories besides name and where; further what their reading says below.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.judged import judged_targets, judged_terms, own_words, winners
from nimbus_reef.analysis.look import Look
from nimbus_reef.core import listings, peers
from nimbus_reef.core import movement as movement_rules
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.evidence import STAKE_DAYS
from nimbus_reef.core.metrics import in_micro, is_money
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.peers import RATED
from nimbus_reef.core.windows import Window, preceding
from nimbus_reef.store.reading import product_frames
from nimbus_reef.store.reading.facts import Facts

_JUDGED: Final = ("ctr", "cvr", "cpc", "acos")
_COMMON: Final[Mapping[str, Any]] = {
    "row_id": pl.String, "name": pl.String, "where": pl.String, "stake": pl.Int64, "campaign": pl.String,
    "ad_group": pl.String, "target": pl.String, "match_type": pl.String, **dict.fromkeys(MEASURES, pl.Int64),
}  # fmt: skip


def reading(facts: Facts, look: Look, asked: Reading) -> pl.DataFrame:
    """The rows of a reading in the part that is looked at."""
    return READERS[asked](facts, look)


def _targets(facts: Facts, look: Look) -> pl.DataFrame:
    return look.within(facts, judged_targets(facts, look))


def _terms(facts: Facts, look: Look) -> pl.DataFrame:
    return look.within(facts, judged_terms(facts, look))


def _winners(facts: Facts, look: Look) -> pl.DataFrame:
    """Nothing is at stake in them."""
    return look.within(facts, winners(facts, look)).with_columns(stake=pl.lit(0, pl.Int64))


def _moved(facts: Facts, look: Look) -> pl.DataFrame:
    """
    Products that can be judged, against the days before whatever the look compares with, so that what was put away or
    closed keeps its meaning: movement, worth, spend_change, sales_change, marginal (see `core.movement.moved`).
    """
    sides = movement.sides(facts, look.against_days(preceding(look.window)), "product")
    own = sides.filter(~pl.col("thin") & pl.col("sku").is_not_null())
    sums = [
        (pl.col(f"{name}1") * (MICRO if is_money(name) else 1)).round().cast(pl.Int64).alias(name)
        for name in MEASURES
    ]
    titled = pl.when(pl.col("where") == "").then(pl.lit(look.account.brand)).otherwise("where")
    return own.select(
        row_id=pl.col("key").str.head(64), name="key", where=titled,
        stake=(movement_rules.stake() * MICRO).round().cast(pl.Int64),
        campaign=pl.lit(""), ad_group=pl.lit(""), target="key", match_type=pl.lit(""),
    ).hstack(own.select(*sums, "movement", "worth", "spend_change", "sales_change", "marginal"))  # fmt: skip


_FALL: Final[Mapping[str, Any]] = {
    "day": pl.Date, "cvr_before": pl.Float64, "cvr_after": pl.Float64,
    "page": pl.List(pl.Struct({"field": pl.String, "old": pl.String, "new": pl.String})),
}  # fmt: skip


def _falls(facts: Facts, look: Look) -> pl.DataFrame:
    """Products whose conversion fell at a page change of the window: day, cvr_before, cvr_after, page (what changed)."""
    account, window = look.account, look.window
    around = look.at(Window(window.first - timedelta(days=listings.SIDE_DAYS), window.last))
    pages = product_frames.listings(facts, account.id, around.window)
    if pages.is_empty():
        return pl.DataFrame(schema={**_COMMON, **_FALL})
    changes = listings.page_changes(pages).filter(pl.col("day").is_between(window.first, window.last))
    # A sum of several days says nothing of before and after.
    rows = product_frames.placed_products(facts, account.id, around.window).filter(
        pl.col("first_day") == pl.col("day")
    )
    rows = around.within(facts, rows)
    daily = rows.group_by("product_id", "day").agg(pl.col("clicks", "orders", "spend", "sales").sum())
    sold = daily.group_by("product_id").agg(pl.col("clicks", "orders", "spend", "sales").sum())
    named = (
        rows.unique("product_id", keep="last", maintain_order=True)
        .select("product_id", pl.col("sku", "title").cast(pl.String))
        .join(sold, on="product_id")
    )
    newest = facts.newest_day(account.id) or window.last
    mature = min(window.last, newest - timedelta(days=account.maturing_days))
    page = changes.group_by("product_id", "day", maintain_order=True).agg(
        page=pl.struct("field", "old", "new")
    )
    found = listings.falls(daily, changes, mature).join(
        page, on=["product_id", "day"], maintain_order="left"
    ).join(named, on="product_id", maintain_order="left")  # fmt: skip
    return found.select(
        row_id=pl.col("sku").str.head(64), name="sku", where=pl.col("title").fill_null(""), stake="stake",
        campaign=pl.lit(""), ad_group=pl.lit(""), target="sku", match_type=pl.lit(""),
    ).hstack(
        found.select(
            *((pl.col(name) if name in named.columns else pl.lit(0)).cast(pl.Int64).alias(name) for name in MEASURES),
            *_FALL,
        )
    )  # fmt: skip


_GAP: Final[Mapping[str, Any]] = {
    "gaps": pl.List(
        pl.Struct({"metric": pl.String, "percentile": pl.Float64, "value": pl.Float64, "typical": pl.Float64})
    ),
    "drag_metric": pl.String, "drag_sku": pl.String,
}  # fmt: skip


def _gaps(facts: Facts, look: Look) -> pl.DataFrame:
    """
    Categories with metrics behind three quarters of their peers, one row each: gaps, the cause before the effect; and
    the product that drags the first most. The gaps of its metrics are the same money, so the largest stands for all.
    """
    on = standing.ground(facts, look)
    monthly = STAKE_DAYS / facts.monthly_days(look.account.id, "product_ad_daily", look.window)
    made = []
    for (category,), rows in on.rows.partition_by("category", as_dict=True, maintain_order=True).items():
        gaps = [] if category is None else _behind(on, rows)
        if not gaps:
            continue
        sums = {name: float(rows[name].sum()) for name in MEASURES}
        money = max(
            peers.gap(each["metric"], each["value"], each["typical"], sums, look.aims.account)
            for each in gaps
        )
        name = f"{category}: {', '.join(RATED[each['metric']].label for each in gaps)}"
        key = f"peers of {category}"
        made.append(
            {
                "row_id": key[:64], "name": name, "where": "", "stake": round(max(0.0, money * monthly) * MICRO),
                "campaign": "", "ad_group": "", "target": name, "match_type": "", "gaps": gaps,
                "drag_metric": gaps[0]["metric"],
                "drag_sku": peers.drag(gaps[0]["metric"], gaps[0]["typical"], rows),
                **{each: in_micro(each, value) for each, value in sums.items()},
            }
        )  # fmt: skip
    return pl.DataFrame(made, schema={**_COMMON, **_GAP})


def _behind(on: standing.Ground, rows: pl.DataFrame) -> Sequence[Mapping[str, Any]]:
    """The metrics of some rows in the bottom quarter; cost of sale last, for it is made of the others."""
    weak = [
        {"metric": metric, "percentile": at.percentile, "value": at.value, "typical": at.typical}
        for metric, placed in standing.places(on, rows, _JUDGED).items()
        if (at := placed.standing).percentile is not None
        and at.percentile < peers.BOTTOM
        and at.value is not None
        and at.typical
    ]
    return sorted(weak, key=lambda each: (each["metric"] == "acos", each["percentile"]))


READERS: Final[Mapping[Reading, Callable[[Facts, Look], pl.DataFrame]]] = {
    Reading.TARGETS: _targets, Reading.TERMS: _terms, Reading.WORDS: own_words, Reading.WINNERS: _winners,
    Reading.MOVED: _moved, Reading.FALLS: _falls, Reading.GAPS: _gaps,
}  # fmt: skip
