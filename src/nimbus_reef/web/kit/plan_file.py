"""The plan as a table for exports and the API."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from nimbus_reef.core.changes import Change, kind_of, named, sound, word_of
from nimbus_reef.core.checks import CHECKS
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.people.plans import Planned


def plan_table(planned: Sequence[Planned]) -> Table:
    """
    The planned changes in words; bids, budgets and percentages as numbers. The change sheet is the file to edit and
    read back.
    """
    rows = [
        (
            change.row,
            change.campaign,
            *named(change),
            word_of(change),
            *_values(change),
            change.reason,
            CHECKS[change.finding].title if change.finding in CHECKS else "",
        )
        for change in (each.change for each in planned)
    ]
    schema = {
        "row": pl.Int64,
        "campaign": pl.String,
        "what": pl.String,
        "where": pl.String,
        "change": pl.String,
        "from": pl.Float64,
        "to": pl.Float64,
        "from, in words": pl.String,
        "to, in words": pl.String,
        "reason": pl.String,
        "found as": pl.String,
    }
    return Table("Plan", pl.DataFrame(rows, schema=schema, orient="row"), {"from": "0.00", "to": "0.00"})


def _values(change: Change) -> tuple[float | None, float | None, str, str]:
    """The old and new value: as numbers where the field holds numbers, else in words."""
    kind = kind_of(change)
    if kind is not None and kind.holds.is_number and sound(change):
        old, new = (float(text) if text else None for text in (change.old_value, change.new_value))
        return old, new, "", ""
    return None, None, change.old_value, change.new_value
