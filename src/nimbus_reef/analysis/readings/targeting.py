"""Rows of targets, search terms and words."""

from __future__ import annotations

import polars as pl

from nimbus_reef.analysis.judged import judged_targets, judged_terms, own_words, winners
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.readings.register import reads
from nimbus_reef.core.checks import Reading
from nimbus_reef.store.reading.facts import Facts


@reads(Reading.TARGETS)
def targets(facts: Facts, look: Look) -> pl.DataFrame:
    """Judged targets."""
    return look.within(facts, judged_targets(facts, look))


@reads(Reading.TERMS)
def terms(facts: Facts, look: Look) -> pl.DataFrame:
    """Judged search terms."""
    return look.within(facts, judged_terms(facts, look))


@reads(Reading.WINNERS)
def earning_terms(facts: Facts, look: Look) -> pl.DataFrame:
    """Nothing is at stake in them."""
    return look.within(facts, winners(facts, look)).with_columns(stake=pl.lit(0, pl.Int64))


reads(Reading.WORDS)(own_words)
