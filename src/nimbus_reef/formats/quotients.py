"""
Which columns of a table are quotients or parts of others: cost per click is spend ÷ clicks, sales of the same product
are a part of sales.

What is a quotient is no measure itself, and proves what its two parts are.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

from nimbus_reef.formats.columns import ColumnCells

_HITS: Final = 0.95
_SAID_WHERE_UNKNOWN: Final = 0.05
_SURE_FROM: Final = 6
"""In one row a quotient is chance; from so many on it counts in full."""


@dataclass(frozen=True, slots=True)
class Quotient:
    """
    Column r is a ÷ b (indices), as a percentage or plainly. hits of rows: in how many rows that tell it holds; weight:
    0 … 1.
    """

    r: int
    a: int
    b: int
    percent: bool
    hits: int
    rows: int

    @property
    def weight(self) -> float:
        """How much it proves."""
        return min(1.0, self.hits / _SURE_FROM)


def quotients(columns: Sequence[ColumnCells]) -> list[Quotient]:
    """Every column that is the quotient of two others, each by its best reading."""
    if len(columns) < 3:
        return []
    figures = np.stack([column.figures for column in columns], axis=1)
    array = np.stack([column.filled for column in columns], axis=1)
    plain = np.array([column.number_cells.percent <= 0.5 and column.number_cells.many <= 0.3 for column in columns])
    positive = array & (np.nan_to_num(figures) > 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = figures[:, :, None] / figures[:, None, :]
    parts = positive[:, :, None] & positive[:, None, :] & (figures != 1)[:, None, :]
    parts &= plain[:, None] & plain[None, :] & ~np.eye(len(columns), dtype=bool)
    found: list[tuple[tuple[float, ...], Quotient]] = []
    for r, column in enumerate(columns):
        how = column.number_cells
        if column.is_constant or not (how.few > 0 or how.many > 0 or how.percent > 0.5):
            continue
        tolerance = 10.0 ** -column.places.astype(float)
        telling = parts & array[:, r][:, None, None]
        telling[:, r, :] = telling[:, :, r] = False
        rows = telling.sum(axis=0)
        unknown = ~array[:, :, None] | ~array[:, None, :]
        too_often = (unknown & array[:, r][:, None, None]).sum(axis=0) > _SAID_WHERE_UNKNOWN * len(figures)
        for factor in (100.0, 1.0):
            if factor == 1.0 and how.percent > 0.5:
                continue
            near = np.abs(figures[:, r][:, None, None] - factor * ratio) <= tolerance[:, None, None] * 1.000001
            hits = (near & telling).sum(axis=0)
            good = (rows > 0) & (hits >= _HITS * rows) & ~too_often
            for a, b in zip(*np.nonzero(good), strict=True):
                nothing = ~positive[:, b]
                blank = float((~array[nothing, r]).mean()) if nothing.any() else 0.5
                quotient = Quotient(r, int(a), int(b), factor == 100.0, int(hits[a, b]), int(rows[a, b]))
                found.append(
                    (
                        (factor == 100.0 and how.percent > 0.5, float(column.places.max()), blank, quotient.hits),
                        quotient,
                    )
                )
    return _best(found)


def _best(found: list[tuple[tuple[float, ...], Quotient]]) -> list[Quotient]:
    """One reading a column, the strongest first; what is a quotient is no part of another."""
    kept: dict[int, Quotient] = {}
    parts: set[int] = set()
    for _, each in sorted(found, key=lambda one: one[0], reverse=True):
        if each.r not in kept and each.r not in parts and each.a not in kept and each.b not in kept:
            kept[each.r] = each
            parts |= {each.a, each.b}
    return list(kept.values())


def parts_of_sums(columns: Sequence[ColumnCells]) -> set[int]:
    """Columns that with another one make up a third in every row, both above 0 in two rows or more."""
    if len(columns) < 3:
        return set()
    figures = np.nan_to_num(np.stack([column.figures for column in columns], axis=1))
    together = ((figures[:, :, None] > 0) & (figures[:, None, :] > 0)).sum(axis=0) >= 2
    np.fill_diagonal(together, val=False)
    found: set[int] = set()
    total = figures[:, :, None] + figures[:, None, :]
    for c in range(len(columns)):
        whole = (np.abs(total - figures[:, c][:, None, None]) < 0.005).all(axis=0) & together
        whole[c, :] = whole[:, c] = False
        found |= {int(a) for pair in zip(*np.nonzero(whole), strict=True) for a in pair}
    return found
