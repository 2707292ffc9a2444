"""Rows of what could be won: phrases that were never bought."""

from __future__ import annotations

import polars as pl

from nimbus_reef.analysis.falls import COMMON
from nimbus_reef.analysis.reach import market
from nimbus_reef.analysis.reach.pool import listed
from nimbus_reef.analysis.readings.register import named_rows, reads
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.unbought import DAYS
from nimbus_reef.core.windows import month_factor
from nimbus_reef.store.reading.facts import Facts

_MORE = {"pays": pl.Float64, "bid": pl.Float64, "expected_clicks": pl.Float64}


@reads(Reading.POOL)
def phrases(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Phrases that are proposed: pays, bid (units); stake, expected_clicks: sales and clicks in 30 days."""
    account = selection.account
    spans = facts.spans(account.id)
    held = any(kind in spans for kind in market.SOURCES)
    rows = listed(facts, selection) if held else pl.DataFrame()
    if rows.is_empty():
        return named_rows(pl.DataFrame(schema={**COMMON, **_MORE}), *_MORE)
    monthly = month_factor(DAYS)
    proposed = rows.filter(pl.col("stays").is_null()).select(
        "row_id",
        "campaign",
        "ad_group",
        "pays",
        "bid",
        name="phrase",
        where=pl.concat_str(pl.col("sku"), pl.lit(" · "), pl.col("campaign").fill_null("no ad group")),
        stake=(pl.col("sales") * MICRO * monthly).round(),
        target=pl.col("phrase"),
        match_type=pl.lit("exact"),
        expected_clicks=pl.col("clicks") * monthly,
    )
    return named_rows(proposed, *_MORE)
