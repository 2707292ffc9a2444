"""Rows of targets, search terms and words."""

from __future__ import annotations

import polars as pl

from nimbus_reef.analysis.judged import judged_targets, judged_terms, own_words, winners
from nimbus_reef.analysis.readings.register import reads
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.checks import Reading
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


reads(Reading.WORDS)(own_words)
