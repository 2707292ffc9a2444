"""Rows of targets, search terms and words."""

from __future__ import annotations

import polars as pl

from nimbus_reef.analysis import bid_advice
from nimbus_reef.analysis.judged import judged_targets, judged_terms, own_words, winners
from nimbus_reef.analysis.readings.register import reads
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.bids import BidMove
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.model import MEASURES, MICRO
from nimbus_reef.store.reading.facts import Facts


@reads(Reading.TARGETS)
def targets(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Judged targets."""
    return selection.within(facts, judged_targets(facts, selection))


@reads(Reading.TERMS)
def terms(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Judged search terms."""
    return selection.within(facts, judged_terms(facts, selection))


@reads(Reading.WINNERS)
def earning_terms(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Nothing is at stake in them."""
    return selection.within(facts, winners(facts, selection)).with_columns(stake=pl.lit(0, pl.Int64))


@reads(Reading.BIDS)
def moving_bids(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Campaigns with the bids that bring 95 % of all gain: members are those targets; cuts, raises, pauses of them."""
    rows = selection.within(facts, bid_advice.moving(facts, selection, every=False))
    pauses = pl.col("move") == BidMove.PAUSE.value
    raises = ~pauses & (pl.col("proposed") > pl.col("bid") / MICRO)
    by_campaign = rows.group_by("campaign_id", "campaign", maintain_order=True).agg(
        pl.col(MEASURES).sum(),
        stake=_micro("gain").sum(),
        members=pl.col("row_id"),
        pauses=pauses.sum(),
        raises=raises.sum(),
        cuts=(~pauses & ~raises).sum(),
        where=pl.col("portfolio").cast(pl.String).first().fill_null(""),
    )
    empty = [pl.lit("").alias(name) for name in ("ad_group", "target", "match_type")]
    return by_campaign.with_columns(
        *empty,
        row_id=pl.concat_str(pl.lit("campaign-"), "campaign_id"),
        name=pl.col("campaign").cast(pl.String),
        campaign=pl.col("campaign").cast(pl.String),
    )


@reads(Reading.QUIET)
def quiet_targets(facts: Facts, selection: Selection) -> pl.DataFrame:
    """Live targets that nobody was shown for a week and whose bid may rise."""
    rows = bid_advice.with_advice(facts, selection, targets(facts, selection))
    rises = (pl.col("move") == BidMove.BID.value) & (pl.col("proposed") > pl.col("bid") / MICRO)
    return rows.filter("quiet", rises).with_columns(stake=_micro("gain"))


def _micro(column: str) -> pl.Expr:
    return (pl.col(column) * MICRO).round().cast(pl.Int64)


reads(Reading.WORDS)(own_words)
