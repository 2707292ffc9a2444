"""What judged rows are filtered by that is not theirs: the plan, and whose brand they name."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from nimbus_reef.analysis.brands import with_brand
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.planned_rows import marked
from nimbus_reef.analysis.tables import Filter
from nimbus_reef.core.checks import Subject
from nimbus_reef.store.people import plans
from nimbus_reef.store.reading.facts import Facts


def with_marks(
    facts: Facts, look: Look, subject: Subject, rows: pl.DataFrame, filters: Sequence[Filter]
) -> pl.DataFrame:
    """Judged rows with the columns that filters ask for and rows do not hold by themselves: planned, brand."""
    asked = {each.field.key for each in filters}
    if "planned" in asked:
        rows = marked(rows, subject, plans.planned(facts.store, look.account.id))
    return with_brand(facts, look, subject, rows) if "brand" in asked else rows
