"""What judged rows are filtered by that is not theirs: the plan, and whose brand they name."""

from __future__ import annotations

from collections.abc import Collection
from typing import Final

import polars as pl

from nimbus_reef.analysis import earlier_decisions
from nimbus_reef.analysis.bid_advice import with_advice
from nimbus_reef.analysis.brands import with_brand
from nimbus_reef.analysis.judged_tables import ADVISED, BIDS, PRICES
from nimbus_reef.analysis.planned_rows import marked
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.checks import Subject
from nimbus_reef.store.people import plans
from nimbus_reef.store.reading.facts import Facts

ADVISED_KEYS: Final = frozenset((*(each.key for each in ADVISED), BIDS, PRICES))
"""What asks for the advice on bids: one of its fields, or a set of columns that shows it."""


def with_marks(
    facts: Facts, selection: Selection, subject: Subject, rows: pl.DataFrame, asked: Collection[str]
) -> pl.DataFrame:
    """Judged rows with what fields asked for need and rows do not hold by themselves: planned, brand, advice."""
    if "planned" in asked:
        rows = marked(rows, subject, plans.planned(facts.store, selection.account.id))
    if subject is Subject.TARGET and not ADVISED_KEYS.isdisjoint(asked):
        rows = with_advice(facts, selection, rows)
        rows = earlier_decisions.latest(facts, selection.account, rows)
    return with_brand(facts, selection, subject, rows) if "brand" in asked else rows
