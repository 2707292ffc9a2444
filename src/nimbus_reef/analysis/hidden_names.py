"""What findings that are out of sight are called: their rows may be in no list any more."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import polars as pl

from nimbus_reef.analysis.findings import cohort_name
from nimbus_reef.analysis.judged import judged_targets, judged_terms
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.store.reading.facts import Facts


def names_of(facts: Facts, selection: Selection, row_ids: Sequence[str]) -> Mapping[str, str]:
    """The name of each row; nothing is looked up where none is asked for."""
    if not row_ids:
        return {}
    targets, terms = judged_targets(facts, selection), judged_terms(facts, selection)
    groups = targets.select(
        pl.concat_str(pl.lit("ad_group_id:"), "ad_group_id").alias("row_id"),
        pl.concat_str(pl.lit("ad group "), "ad_group").alias("name"),
    ).unique()
    named = (
        terms.select("row_id", pl.col("term").alias("name")),
        targets.select("row_id", pl.col("target").alias("name")),
        groups,
    )
    found = dict(pl.concat(each.filter(pl.col("row_id").is_in(row_ids)) for each in named).rows())
    return {row_id: found.get(row_id) or _known_as(row_id) for row_id in row_ids}


def _known_as(row_id: str) -> str:
    """A gathered finding's name from its id, `level:cohort`."""
    level, divided, cohort = row_id.partition(":")
    return cohort_name(level, cohort, cohort) if divided else row_id
