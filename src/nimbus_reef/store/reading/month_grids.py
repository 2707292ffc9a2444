"""
What each key of a report did, day beside day: sums of any days are additions by position, and no rows are grouped.

One grid for each calendar month, made once for what is loaded, so that a long history costs what is asked of it. For
reports in which nearly every key has a row on nearly every day.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import numpy.typing as npt
import polars as pl

from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.windows import Window
from nimbus_reef.store.record import snapshots
from nimbus_reef.store.record.models import KEYS_OF

GRIDDED: Final = frozenset({"product_ad_daily", "placement_daily"})
"""Reports that are kept as grids."""
_HELD: Final = "held"


@dataclass(frozen=True, slots=True)
class MonthGrid:
    """
    spans: the days and blocks that end in a month, in order; keys: those of the report, ascending; cells: `held`,
    whether a key has a row, and the measures, money in micro-units: span after span, a row for every key.
    """

    spans: tuple[Window, ...]
    keys: pl.DataFrame
    cells: pl.DataFrame

    def within(self, window: Window) -> list[int]:
        """Which of the spans lie wholly in a window."""
        return [n for n, span in enumerate(self.spans) if window.first <= span.first and span.last <= window.last]

    def of(self, name: str, at: Sequence[int]) -> npt.NDArray[Any]:
        """A column of the cells of some spans, one or more, span × key."""
        every = self.cells[name].to_numpy().reshape(len(self.spans), len(self.keys))
        # What lies together is seen as it lies, without a copy.
        return every[at[0] : at[-1] + 1] if at[-1] - at[0] + 1 == len(at) else every[list(at)]


Pieces = Sequence[tuple[MonthGrid, Sequence[int]]]
"""Grids of the months of a window, each with which of its spans, one or more, lie in it."""


def grid(rows: pl.DataFrame, spans: Sequence[Window], keys: Sequence[str]) -> MonthGrid:
    """
    The grid of a month. rows: the keys, the measures, first_day and day, each of one of the spans;
    spans: in order.
    """
    numbers = pl.DataFrame(
        {"first_day": [each.first for each in spans], "day": [each.last for each in spans]},
        schema={"first_day": pl.Date, "day": pl.Date},
    ).with_row_index("span")
    span = rows.select("first_day", "day").join(numbers, on=["first_day", "day"], maintain_order="left")
    known = rows.select(keys).unique().sort(keys)
    place = rows.select(keys).join(known.with_row_index("place"), on=list(keys), maintain_order="left")
    at = span["span"].to_numpy().astype(np.int64) * len(known) + place["place"].to_numpy()
    cells = {_HELD: np.zeros(len(spans) * len(known), dtype=np.uint8)}
    cells[_HELD][at] = 1
    for name in MEASURES:
        cells[name] = np.zeros(len(cells[_HELD]), dtype=np.int64)
        np.add.at(cells[name], at, rows[name].cast(pl.Int64).fill_null(0).to_numpy())
    return MonthGrid(tuple(spans), known, pl.DataFrame(cells))


def sums(pieces: Pieces, kind: str) -> pl.DataFrame:
    """The keys of a report, ascending, and the measures of those with rows."""
    keys = list(KEYS_OF[kind])
    found = []
    for grid, at in pieces:
        added = {name: pl.Series(grid.of(name, at).sum(axis=0)) for name in MEASURES}
        column = pl.Series(grid.of(_HELD, at).max(axis=0) > 0)
        found.append(grid.keys.with_columns(**added).filter(column))
    if len(found) == 1:
        return found[0]
    none = snapshots.no_rows(kind).select(*keys, pl.col(MEASURES).cast(pl.Int64))
    return pl.concat([none, *found]).group_by(keys).agg(pl.col(MEASURES).sum()).sort(keys)


def by_span(pieces: Pieces, kind: str, groups: pl.DataFrame, measures: Sequence[str] = MEASURES) -> pl.DataFrame:
    """
    What groups of keys did on each day (or in each block: first_day differs from day).

    groups: the report's key, each once, and group. One row per day and group with rows, in their order: first_day, day,
    group and the measures.
    """
    (key,) = KEYS_OF[kind]
    ordered = groups.sort("group")
    ids, group = ordered[key].to_numpy(), ordered["group"]
    shape: dict[str, pl.DataType | type[pl.DataType]] = {
        "first_day": pl.Date,
        "day": pl.Date,
        "group": group.dtype,
        **dict.fromkeys(measures, pl.Int64),
    }
    found = [_of_groups(grid, at, ids, group, measures) for grid, at in pieces]
    return pl.concat([pl.DataFrame(schema=shape), *found])


def _of_groups(
    grid: MonthGrid, at: Sequence[int], ids: npt.NDArray[Any], group: pl.Series, measures: Sequence[str]
) -> pl.DataFrame:
    """`by_span` of one month. ids: keys, those of one group beside each other; group: of each of them."""
    known = grid.keys.to_series().to_numpy()
    place = np.minimum(np.searchsorted(known, ids), len(known) - 1)
    here = np.flatnonzero(known[place] == ids)
    own, place = group.gather(here), place[here]
    begins = np.flatnonzero(np.diff(own.to_numpy().astype(np.int64), prepend=-1))

    def together(name: str, how: np.ufunc) -> npt.NDArray[Any]:
        """A column over the keys of each group, span × group."""
        of_keys = grid.of(name, at).take(place, axis=1)
        return np.asarray(how.reduceat(of_keys, begins, axis=1)) if len(begins) else of_keys

    span, number = np.nonzero(together(_HELD, np.maximum))
    days = pl.DataFrame(
        {"first_day": [grid.spans[each].first for each in at], "day": [grid.spans[each].last for each in at]}
    )
    added = {name: pl.Series(together(name, np.add)[span, number]) for name in measures}
    return days[span].with_columns(group=own.gather(begins[number]), **added)
