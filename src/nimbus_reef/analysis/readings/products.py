"""Rows of products and categories: what moved, what pages lost, where metrics stand."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.falls import COMMON, falls
from nimbus_reef.analysis.lost_pages import lost
from nimbus_reef.analysis.readings.register import reads
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import movement as movement_rules
from nimbus_reef.core import peers
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.metrics import in_units, is_money, sums_in_units
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.core.peers import RATED
from nimbus_reef.core.windows import month_factor, preceding
from nimbus_reef.store.reading.facts import Facts

_JUDGED: Final = ("ctr", "cvr", "cpc", "acos")
_GAP: Final[Mapping[str, Any]] = {
    "gaps": pl.List(
        pl.Struct({"metric": pl.String, "percentile": pl.Float64, "value": pl.Float64, "typical": pl.Float64})
    ),
    "drag_metric": pl.String,
    "drag_sku": pl.String,
}


@reads(Reading.MOVED)
def moved(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Products that can be judged, against the days before whatever the look compares with, so that what was put away or
    closed keeps its meaning: movement, worth, spend_change, sales_change, marginal (see `core.movement.moved`).
    """
    sides = movement.sides(facts, selection.against_days(preceding(selection.window)), "product")
    own = sides.filter(~pl.col("thin") & pl.col("sku").is_not_null())
    sums = [
        (pl.col(f"{name}1") * (MICRO if is_money(name) else 1)).round().cast(pl.Int64).alias(name) for name in MEASURES
    ]
    titled = pl.when(pl.col("where") == "").then(pl.lit(selection.account.brand)).otherwise("where")
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


@reads(Reading.GAPS)
def behind_peers(facts: Facts, selection: Selection) -> pl.DataFrame:
    """
    Categories with metrics behind three quarters of their peers, one row each: gaps, the cause before the effect; and
    the product that drags the first most. The gaps of its metrics are the same money, so the largest stands for all.
    """
    on = standing.standing_data(facts, selection)
    monthly = month_factor(facts.monthly_days(selection.account.id, "product_ad_daily", selection.window))
    entries = []
    of_category = on.days.partition_by("category", as_dict=True)
    for (category,), rows in on.ads.partition_by("category", as_dict=True, maintain_order=True).items():
        gaps = [] if category is None else _behind(on, of_category[category,])
        if not gaps:
            continue
        counts = {name: int(rows[name].sum()) for name in MEASURES}
        sums = sums_in_units(counts)
        money = max(
            peers.gap(each["metric"], each["value"], each["typical"], sums, selection.aims.account) for each in gaps
        )
        name = f"{category}: {', '.join(RATED[each['metric']].label for each in gaps)}"
        key = f"peers of {category}"
        entries.append(
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
    return pl.DataFrame(entries, schema={**COMMON, **_GAP})


def _behind(on: standing.StandingData, days: pl.DataFrame) -> Sequence[Mapping[str, Any]]:
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


reads(Reading.FALLS)(falls)
reads(Reading.LOST)(lost)
