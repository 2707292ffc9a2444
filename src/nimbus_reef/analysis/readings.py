"""
What checks read: the rows that each selects from, with what findings are told by.

All have row_id, stake (micro-units per 30 days), campaign, ad_group, target, match_type and the measures (money in
micro-units). Rows of products and categories besides name and where; further what their reading says below.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.catalog import ads, families, gaps, structure
from nimbus_reef.analysis.delivery import budgets, placements
from nimbus_reef.analysis.falls import COMMON, falls
from nimbus_reef.analysis.judged import judged_targets, judged_terms, own_words, winners
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.lost_pages import lost
from nimbus_reef.core import hours, peers
from nimbus_reef.core import movement as movement_rules
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.evidence import STAKE_DAYS
from nimbus_reef.core.metrics import in_units, is_money, sums_in_units
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.peers import RATED
from nimbus_reef.core.windows import preceding
from nimbus_reef.store.reading.facts import Facts

_JUDGED: Final = ("ctr", "cvr", "cpc", "acos")


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
        (pl.col(f"{name}1") * (MICRO if is_money(name) else 1)).round().cast(pl.Int64).alias(name) for name in MEASURES
    ]
    titled = pl.when(pl.col("where") == "").then(pl.lit(look.account.brand)).otherwise("where")
    return own.select(
        row_id=pl.col("key").str.head(64),
        name="key",
        where=titled,
        stake=(movement_rules.stake() * MICRO).round().cast(pl.Int64),
        campaign=pl.lit(""),
        ad_group=pl.lit(""),
        target="key",
        match_type=pl.lit(""),
    ).hstack(own.select(*sums, "movement", "worth", "spend_change", "sales_change", "marginal"))


_GAP: Final[Mapping[str, Any]] = {
    "gaps": pl.List(
        pl.Struct({"metric": pl.String, "percentile": pl.Float64, "value": pl.Float64, "typical": pl.Float64})
    ),
    "drag_metric": pl.String,
    "drag_sku": pl.String,
}


def _gaps(facts: Facts, look: Look) -> pl.DataFrame:
    """
    Categories with metrics behind three quarters of their peers, one row each: gaps, the cause before the effect; and
    the product that drags the first most. The gaps of its metrics are the same money, so the largest stands for all.
    """
    on = standing.ground(facts, look)
    monthly = STAKE_DAYS / facts.monthly_days(look.account.id, "product_ad_daily", look.window)
    made = []
    of_category = on.days.partition_by("category", as_dict=True)
    for (category,), rows in on.ads.partition_by("category", as_dict=True, maintain_order=True).items():
        gaps = [] if category is None else _behind(on, of_category[category,])
        if not gaps:
            continue
        counts = {name: int(rows[name].sum()) for name in MEASURES}
        sums = sums_in_units(counts)
        money = max(peers.gap(each["metric"], each["value"], each["typical"], sums, look.aims.account) for each in gaps)
        name = f"{category}: {', '.join(RATED[each['metric']].label for each in gaps)}"
        key = f"peers of {category}"
        made.append(
            {
                "row_id": key[:64],
                "name": name,
                "where": "",
                "stake": round(max(0.0, money * monthly) * MICRO),
                "campaign": "",
                "ad_group": "",
                "target": name,
                "match_type": "",
                "gaps": gaps,
                "drag_metric": gaps[0]["metric"],
                "drag_sku": peers.drag(gaps[0]["metric"], gaps[0]["typical"], rows.with_columns(in_units())),
                **counts,
            }
        )
    return pl.DataFrame(made, schema={**COMMON, **_GAP})


def _behind(on: standing.Ground, days: pl.DataFrame) -> Sequence[Mapping[str, Any]]:
    """The metrics of a category in the bottom quarter; cost of sale last, for it is made of the others."""
    weak = [
        {"metric": metric, "percentile": at.percentile, "value": at.value, "typical": at.typical}
        for metric, placed in standing.places(on, days, _JUDGED).items()
        if (at := placed.standing).percentile is not None
        and at.percentile < peers.BOTTOM
        and at.value is not None
        and at.typical
    ]
    return sorted(weak, key=lambda each: (each["metric"] == "acos", each["percentile"]))


def _named(rows: pl.DataFrame, *also: pl.Expr | str) -> pl.DataFrame:
    """Rows with row_id, name, where and stake as all readings have them, measures 0 where a row has none."""
    texts = {"campaign": "", "ad_group": "", "target": "", "match_type": ""}
    held = [name for name in texts if name in rows.columns]
    empty = [pl.lit("").alias(name) for name in texts if name not in rows.columns]
    counts = [
        (pl.col(name).fill_null(0) if name in rows.columns else pl.lit(0)).cast(pl.Int64).alias(name)
        for name in MEASURES
    ]
    return rows.select(
        pl.col("row_id").cast(pl.String).str.head(64),
        pl.col("name", "where").cast(pl.String),
        pl.col("stake").cast(pl.Int64),
        *(pl.col(name).cast(pl.String) for name in held),
        *empty,
        *counts,
        *also,
    )


def _ads(facts: Facts, look: Look) -> pl.DataFrame:
    """Product ads: to_pause, and what they stand beside."""
    rows = ads.listed(facts, look)
    where = pl.concat_str(pl.col("campaign").cast(pl.String), pl.lit(" · "), pl.col("ad_group").cast(pl.String))
    return _named(
        rows.with_columns(name="sku", where=where), "verdict", "to_pause", "beside_orders", "beside_clicks", "siblings"
    )


def _families(facts: Facts, look: Look) -> pl.DataFrame:
    """
    Families: stake is what costly children cost beyond their share of sales; child, the costliest
    of them; pauses.
    """
    monthly = STAKE_DAYS / facts.monthly_days(look.account.id, families.KIND, look.window)
    made = []
    for family in families.listed(facts, look):
        rows = family.rows
        worst = max((row for row in rows if row["costly_child"]), key=lambda row: row["excess"], default=None)
        made.append(
            {
                "row_id": family.key,
                "name": family.name,
                "where": f"{len(family.children)} children",
                "stake": round(family.stake * monthly),
                "child": worst["sku"] if worst else "",
                "child_spend": worst["share_spend"] if worst else None,
                "child_sales": worst["share_sales"] if worst else None,
                "pauses": len(family.shift.pauses),
                **{name: sum(row[name] for row in rows) for name in MEASURES},
            }
        )
    schema = {
        "row_id": pl.String,
        "name": pl.String,
        "where": pl.String,
        "stake": pl.Int64,
        "child": pl.String,
        "child_spend": pl.Float64,
        "child_sales": pl.Float64,
        "pauses": pl.Int64,
        **dict.fromkeys(MEASURES, pl.Int64),
    }
    return _named(pl.DataFrame(made, schema=schema), "child", "child_spend", "child_sales", "pauses")


def _ineligible(facts: Facts, look: Look) -> pl.DataFrame:
    """Products that may not be advertised: reason, since (null where unknown), rests_on."""
    made = [
        {
            "row_id": each.row["sku"],
            "name": each.row["sku"],
            "where": each.row["title"],
            "stake": round(each.cost * MICRO),
            "reason": each.row["reason"] or "no reason given",
            "since": each.since,
            "rests_on": each.rests_on,
            **{name: each.row[name] for name in MEASURES},
        }
        for each in gaps.ineligible(facts, look)
    ]
    schema = {
        "row_id": pl.String,
        "name": pl.String,
        "where": pl.String,
        "stake": pl.Int64,
        "reason": pl.String,
        "since": pl.Date,
        "rests_on": pl.String,
        **dict.fromkeys(MEASURES, pl.Int64),
    }
    return _named(pl.DataFrame(made, schema=schema), "reason", "since", "rests_on")


def _unadvertised(facts: Facts, look: Look) -> pl.DataFrame:
    """Products that sell without ads; their sales are those of all trade. replaces: the older SKU, null for none."""
    rows = gaps.unadvertised(facts, look)
    return _named(
        rows.with_columns(
            name="sku", where="title", stake=pl.lit(0, pl.Int64), sales="total_sales", orders="total_orders"
        ),
        "replaces",
    )


def _placements(facts: Facts, look: Look) -> pl.DataFrame:
    """Placements of campaigns: placement, verdict, own_test, limited."""
    rows = placements.judged(facts, look)
    return _named(
        rows.with_columns(
            name="campaign",
            where=pl.col("placement").str.replace_all("_", " "),
            limited=pl.col("offsite_limited").cast(pl.String).fill_null("no") == "yes",
        ),
        "placement",
        "verdict",
        "own_test",
        "limited",
    )


def _budgets(facts: Facts, look: Look) -> pl.DataFrame:
    """Campaigns by what their budgets miss: low and high beside the stake, runs_dry, dry_days, held_days, from_hour."""
    rows = budgets.held(facts, look).filter(pl.col("missed") > 0)
    low, high = hours.ELASTICITIES
    return _named(
        rows.with_columns(
            row_id=pl.col("campaign_id").cast(pl.String),
            name="campaign",
            where=pl.lit(""),
            stake=(pl.col("missed") * hours.ELASTICITY * MICRO).round(),
            low=pl.col("missed") * low,
            high=pl.col("missed") * high,
        ),
        "low",
        "high",
        "dry_days",
        "held_days",
        "from_hour",
        "runs_dry",
    )


def _duplicates(facts: Facts, look: Look) -> pl.DataFrame:
    """Keywords bought in several places, a row each: stake is that of all but the one kept; kept, places."""
    rows = structure.duplicates(facts, look)
    if rows.is_empty():
        return _named(pl.DataFrame(schema={**COMMON, "kept": pl.String, "places": pl.Int64}), "kept", "places")
    others = ~pl.col("keep")
    gathered = rows.group_by("group", maintain_order=True).agg(
        pl.col("target").first().alias("name"),
        pl.col("match_type").cast(pl.String).first(),
        pl.col("main_product").cast(pl.String).first(),
        pl.col("stake").filter(others).sum(),
        pl.col(MEASURES).sum(),
        pl.concat_str(pl.col("campaign").cast(pl.String), pl.lit(" · "), pl.col("ad_group").cast(pl.String))
        .first()
        .alias("kept"),
        pl.len().cast(pl.Int64).alias("places"),
    )
    where = pl.concat_str("match_type", pl.lit(" · "), "main_product")
    return _named(gathered.with_columns(where=where, row_id=pl.col("group")), "kept", "places")


READERS: Final[Mapping[Reading, Callable[[Facts, Look], pl.DataFrame]]] = {
    Reading.TARGETS: _targets,
    Reading.TERMS: _terms,
    Reading.WORDS: own_words,
    Reading.WINNERS: _winners,
    Reading.MOVED: _moved,
    Reading.FALLS: falls,
    Reading.LOST: lost,
    Reading.GAPS: _gaps,
    Reading.ADS: _ads,
    Reading.FAMILIES: _families,
    Reading.INELIGIBLE: _ineligible,
    Reading.UNADVERTISED: _unadvertised,
    Reading.PLACEMENTS: _placements,
    Reading.BUDGETS: _budgets,
    Reading.DUPLICATES: _duplicates,
}
