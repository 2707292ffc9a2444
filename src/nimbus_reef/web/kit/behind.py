"""The report rows behind a figure, and the files they came in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import polars as pl

from nimbus_reef.core.metrics import is_money
from nimbus_reef.core.model import MEASURES, from_micro
from nimbus_reef.formats.figures import Figures


@dataclass(frozen=True, slots=True)
class Behind:
    """The report rows behind a figure, their sums, and the files."""

    rows: tuple[tuple[str, ...], ...]
    sums: tuple[str, ...]
    files: str


def _told_for(row: Mapping[str, Any]) -> str:
    """The day of a report row, or the days that it is one sum of."""
    last: str = row["day"].isoformat()
    return last if row["first_day"] == row["day"] else f"{row['first_day'].isoformat()} to {last}"


def behind(rows: pl.DataFrame, figures: Figures) -> Behind:
    """One line per report row: day, measures, file, day of loading; and what they add up to."""

    def written(row: Mapping[str, Any]) -> tuple[str, ...]:
        return tuple(
            figures.number(from_micro(row[name])) if is_money(name) else figures.count(row[name]) for name in MEASURES
        )

    sums = rows.select(pl.col(MEASURES).sum()).to_dicts()[0]
    return Behind(
        tuple(
            (_told_for(row), *written(row), row["file_name"], f"{row['loaded_at']:%Y-%m-%d %H:%M}")
            for row in rows.to_dicts()
        ),
        written(sums),
        figures.counted(rows["batch_id"].n_unique(), "file"),
    )
