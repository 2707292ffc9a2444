"""What judged rows are filtered by that is not theirs: the plan, and whose brand they name."""

from __future__ import annotations

from collections.abc import Collection

import polars as pl

from nimbus_reef.analysis.brands import with_brand
from nimbus_reef.analysis.planned_rows import marked
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.checks import Subject
from nimbus_reef.store.people import plans
from nimbus_reef.store.reading.facts import Facts


def with_marks(
    facts: Facts, selection: Selection, subject: Subject, rows: pl.DataFrame, asked: Collection[str]
) -> pl.DataFrame:
    """Judged rows with what fields asked for need and rows do not hold by themselves: planned, brand."""
    if "planned" in asked:
        rows = marked(rows, subject, plans.planned(facts.store, selection.account.id))
    return with_brand(facts, selection, subject, rows) if "brand" in asked else rows
