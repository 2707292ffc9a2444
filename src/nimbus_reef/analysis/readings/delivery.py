"""Rows of where and when ads run: placements, hours, budgets."""

from __future__ import annotations

import polars as pl

from nimbus_reef.analysis.delivery import budgets, placements
from nimbus_reef.analysis.delivery import hours as hours_of
from nimbus_reef.analysis.readings.register import named_rows, reads
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core import hours as rules
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.model import MICRO, PLACEMENTS
from nimbus_reef.store.reading.facts import Facts


@reads(Reading.PLACEMENTS)
def judged_placements(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Placements of campaigns: placement, verdict, own_test, limited."""
    rows = placements.judged(facts, selection)
    return named_rows(
        rows.with_columns(
            name="campaign",
            where=pl.col("placement").cast(pl.String).replace(PLACEMENTS),
            limited=pl.col("offsite_limited").cast(pl.String).fill_null("no") == "yes",
        ),
        "placement",
        "verdict",
        "own_test",
        "limited",
        "campaign_id",
    )


@reads(Reading.BUDGETS)
def dry_budgets(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Campaigns by what their budgets miss: low and high beside the stake, runs_dry, dry_days, held_days, from_hour."""
    rows = budgets.campaign_rows(facts, selection).filter(pl.col("missed") > 0)
    low, high = rules.ELASTICITIES
    return named_rows(
        rows.with_columns(
            row_id=pl.col("campaign_id").cast(pl.String),
            name="campaign",
            where=pl.lit(""),
            stake=(pl.col("missed") * rules.ELASTICITY * MICRO).round(),
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


reads(Reading.HOURS)(hours_of.judged)
