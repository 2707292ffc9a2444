"""Which levels of a family the cells of a fit belong to: one each, or several as of words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

import numpy as np
import numpy.typing as npt
from scipy.sparse import csr_array

PRODUCT, WORD, AD_GROUP, TARGET = "product", "word", "ad group", "target"
RIVALS, RANK = "rivals", "rank"
"""What the market says of a search: fitted for phrases that were never bought alone."""
FAMILIES: Final = (PRODUCT, WORD, RIVALS, RANK, AD_GROUP, TARGET)
"""In the order in which they are asked."""

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
_LEAST_RUN: Final = 4
"""Cells from which on, in the middle, a run is worth more than its cells one by one."""


@dataclass(frozen=True, slots=True)
class Members:
    """
    The levels of a family of which a cell may have several, cell after cell.

    start: where a cell's levels begin in `level`, one entry more than cells; level: 0 … levels-1.
    """

    start: Ints
    level: Ints
    levels: int


@dataclass(frozen=True, slots=True)
class One:
    """
    The levels of a family of which a cell has one; `levels` where it has none.

    runs: where cells of one level lie beside each other, the level of each run, where it begins and how many cells it
    has; None where runs are hardly longer than a cell.
    """

    code: Ints
    levels: int
    runs: tuple[Ints, Ints, Ints] | None = None

    @staticmethod
    def of(code: Ints, levels: int) -> One:
        """With its runs."""
        begins = np.flatnonzero(np.diff(code, prepend=-1))
        if len(begins) * _LEAST_RUN > len(code):
            return One(code, levels)
        return One(code, levels, (code[begins], begins, np.diff(begins, append=len(code))))

    def add(self, cells: Floats) -> Floats:
        """What the cells of each level come to."""
        level = self.code
        if self.runs is not None:
            level, begins, _ = self.runs
            cells = np.add.reduceat(cells, begins)
        return np.asarray(np.bincount(level, cells, self.levels + 1)[:-1], dtype=np.float64)

    def give(self, levels: Floats) -> Floats:
        """What the level of each cell comes to."""
        each = np.append(levels, 0.0)
        if self.runs is None:
            return np.asarray(each[self.code])
        level, _, lengths = self.runs
        return np.repeat(each[level], lengths)

    def entries(self, order: Ints | None) -> tuple[Ints, Ints]:
        """Cells and their levels, those of one level in one row beside each other."""
        cell = np.flatnonzero(self.code < self.levels) if order is None else order[self.code[order] < self.levels]
        return cell, self.code[cell]


@dataclass(frozen=True, slots=True)
class Several:
    """The same of a family of which a cell may have several. Both ways, for each is needed again and again."""

    by_cell: csr_array
    by_level: csr_array

    @property
    def levels(self) -> int:
        """How many levels are in use."""
        return int(self.by_level.shape[0])

    def add(self, cells: Floats) -> Floats:
        """What the cells of each level come to."""
        return np.asarray(self.by_level @ cells)

    def give(self, levels: Floats) -> Floats:
        """What the levels of each cell come to."""
        return np.asarray(self.by_cell @ levels)

    def entries(self, order: Ints | None) -> tuple[Ints, Ints]:
        """Cells and their levels, those of one level in one row beside each other."""
        if order is None:
            return self.by_level.indices.astype(np.int64), _level_of(self.by_level)
        sorted_by_row = self.by_cell[order].T.tocsr()
        return order[sorted_by_row.indices], _level_of(sorted_by_row)


def _level_of(by_level: csr_array) -> Ints:
    return np.repeat(np.arange(by_level.shape[0]), np.diff(by_level.indptr))


def in_use(given: Ints | Members, clicked: npt.NDArray[np.bool_], row: Ints) -> tuple[One | Several, Ints]:
    """
    A family's levels that stand in two rows or more, counting cells that were clicked; words that stand in exactly
    the same cells become one level.

    given: each cell's level, below 0 for none, or its words; row: ascending. Returns also the number here of every
    level given, -1 for those not in use.
    """
    return _words(given, clicked, row) if isinstance(given, Members) else _one(given, clicked, row)


def _one(code: Ints, clicked: npt.NDArray[np.bool_], row: Ints) -> tuple[One, Ints]:
    levels = int(code.max(initial=-1)) + 1
    seen = np.flatnonzero((code >= 0) & clicked)
    seen = seen[np.argsort(code[seen], kind="stable")]
    used = _rows_of(code[seen], row[seen], levels) >= 2
    number = np.where(used, np.cumsum(used) - 1, -1)
    kept = np.append(number, -1)[code]
    return One.of(np.where(kept < 0, int(used.sum()), kept), int(used.sum())), number


def _words(members: Members, clicked: npt.NDArray[np.bool_], row: Ints) -> tuple[Several, Ints]:
    """Words that stand in exactly the same cells become one level."""
    start, level = members.start.astype(np.int32), members.level.astype(np.int32)
    given = csr_array((np.ones(len(level)), level, start), shape=(len(row), members.levels))
    by_level = given.T.tocsr()
    seen = clicked[by_level.indices]
    of, cell = _level_of(by_level)[seen], by_level.indices[seen].astype(np.int64)
    first = _first_alike(of, cell, members.levels, _rows_of(of, row[cell], members.levels) >= 2)
    alone = first == np.arange(members.levels)
    number = np.where(first >= 0, (np.cumsum(alone) - 1)[first], -1)
    by_level = by_level[np.flatnonzero(alone)]
    return Several(by_level.T.tocsr(), by_level), number


def starts(level: Ints, row: Ints) -> npt.NDArray[np.bool_]:
    """Where another level or another row begins."""
    new = np.ones(len(level), dtype=bool)
    new[1:] = (level[1:] != level[:-1]) | (row[1:] != row[:-1])
    return new


def _rows_of(level: Ints, row: Ints, levels: int) -> Ints:
    """In how many rows each level stands; both ascending, level first."""
    return np.bincount(level[starts(level, row)], minlength=levels)


def _first_alike(level: Ints, cell: Ints, levels: int, enough: npt.NDArray[np.bool_]) -> Ints:
    """The first level that stands in exactly the same cells as each; -1 for those not in use."""
    ends = np.cumsum(np.bincount(level, minlength=levels))
    marks = []
    for salt in (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F):
        total = np.concatenate([[np.uint64(0)], np.cumsum(_mixed(cell, salt), dtype=np.uint64)])
        marks.append(total[ends] - total[np.concatenate([[0], ends[:-1]])])
    of = np.flatnonzero(enough)
    first = np.full(levels, -1, dtype=np.int64)
    if len(of):
        pairs = np.stack([mark[of] for mark in marks], axis=1)
        _, at, inverse = np.unique(pairs, axis=0, return_index=True, return_inverse=True)
        first[of] = of[at[inverse.ravel()]]
    return first


def _mixed(values: Ints, salt: int) -> npt.NDArray[np.uint64]:
    """A mark of 64 bits for each number, such that the sums of unlike sets differ (splitmix64)."""
    with np.errstate(over="ignore"):
        x = (values.astype(np.uint64) + np.uint64(1)) * np.uint64(salt)
        x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
        x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
        return x ^ (x >> np.uint64(31))
