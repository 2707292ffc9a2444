"""
What conversion rests on: one fit for the account, a factor each for product, words, ad group, target.

Every cell (a term under a target, or what a target did beside its terms) is expected to convert at the
account's rate times the factor of every level it belongs to. Each factor is drawn to 1 by the spread of its
family, so that a level that was seen little says little. A judged row's own clicks are taken out of every
factor before it is judged by them. Formulas: docs/calculations.md, "Evidence in one fit".
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Final

import numpy as np
import numpy.typing as npt
from scipy.sparse import csr_array
from scipy.sparse.linalg import LinearOperator, cg
from scipy.special import betaln, gammaln

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

PRODUCT, WORD, AD_GROUP, TARGET = "product", "word", "ad group", "target"
FAMILIES: Final = (PRODUCT, WORD, AD_GROUP, TARGET)
"""In the order in which they are asked."""
FALLBACK_STRENGTH: Final = 20.0
"""What the levels are worth where too few rows show it."""

_SPREADS: Final = 128.0 * 2.0 ** (-np.arange(15) / 2)
_USUAL_SPREAD: Final = 10.0
_STRENGTHS: Final = 5.0 * 2.0 ** (np.arange(14) / 2)
_USUAL_STRENGTH: Final = 30.0
_STRENGTH_WIDTH: Final = 0.7
_FIRST_STRENGTH: Final = 60.0
_BETTER_BY: Final = 1e-6
_MOST_ROWS: Final = 10_000
_LEAST_ROWS: Final = 5
_MAX_ROW_SHARE: Final = 0.5
_LEAST_LEFT: Final = 0.5
_LEAST_MEAN: Final = 1e-6
_MOST_MEAN: Final = 0.6
_ON_THE_WAY: Final = 1e-4
_AT_THE_END: Final = 1e-9
_MOST_STEPS: Final = 30
_LEAST_STEP: Final = 1e-9
_INNER: Final = 1e-2
"""How closely each of Newton's steps is solved; the next one starts from what it left."""


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
class Cells:
    """
    What the fit is made of, the cells of one row beside each other, within it those of one target.

    n: clicks; k: orders, at most n; row: 0 … rows-1, ascending: a judged term's cells, a rest on its own.
    families: each cell's level, 0 …, below 0 for none; of words those it has. Cells without clicks count for
    nothing; they are there to be told what their levels say.
    """

    n: Floats
    k: Floats
    row: Ints
    rows: int
    families: Mapping[str, Ints | Members]


@dataclass(frozen=True, slots=True)
class One:
    """The levels of a family of which a cell has one; `levels` where it has none."""

    code: Ints
    levels: int

    def add(self, cells: Floats) -> Floats:
        """What the cells of each level come to."""
        return np.asarray(np.bincount(self.code, cells, self.levels + 1)[:-1], dtype=np.float64)

    def give(self, levels: Floats) -> Floats:
        """What the level of each cell comes to."""
        return np.append(levels, 0.0)[self.code]

    def entries(self, order: Ints | None) -> tuple[Ints, Ints]:
        """Cells and their levels, those of one level in one row beside each other."""
        cell = (
            np.flatnonzero(self.code < self.levels)
            if order is None
            else order[self.code[order] < self.levels]
        )
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


@dataclass(frozen=True, slots=True)
class Family:
    """
    One family as fitted. spread: α; theta: the factor of every level in use; k: orders that its cells made;
    e: orders due were the level like any other, both weighted. number: level → its place in these, -1 where it
    stands in fewer than two rows, the same for words that stand in exactly the same cells.
    """

    spread: float
    theta: Floats
    k: Floats
    e: Floats
    number: Ints
    holding: One | Several


@dataclass(frozen=True, slots=True)
class Fit:
    """
    The fit of an account's window. mean: Σk/Σn; weight, expected: each cell's weight and expected
    conversion; strength: what the weights were taken at.
    """

    cells: Cells
    mean: float
    weight: Floats
    expected: Floats
    strength: float
    families: Mapping[str, Family]


@dataclass(slots=True)
class _Part:
    """A family at work."""

    name: str
    holding: One | Several
    number: Ints
    spread: float
    beta: Floats


def fit(cells: Cells) -> Fit:
    """
    The factors of every family, in two passes and a last look at all of them together.

    Σn and Σk must be above 0. The same result whatever the solver: the sum that is largest has one top.
    """
    mean = float(cells.k.sum() / cells.n.sum())
    clicks = _of_row(cells.n, cells.row, cells.rows)
    parts = {name: _part(cells, name) for name in FAMILIES if name in cells.families}
    parts = {name: part for name, part in parts.items() if len(part.beta)}
    asked: list[str] = []

    def weights(s: float) -> Floats:
        return np.asarray((s + 1) / (s + clicks[cells.row]))

    strength = _FIRST_STRENGTH
    for again in (False, True):
        if again:
            strength = _strength_of(_fitted(cells, mean, weights(strength), strength, parts))
        weight = weights(strength)
        for name, part in parts.items():
            due = part.holding.add(weight * cells.n * _expected(mean, parts, cells))
            k, e = part.holding.add(weight * cells.k), due / np.exp(part.beta)
            part.spread = _spread(k, e)
            if name not in asked:
                asked.append(name)
            if name == WORD:
                _climb(
                    cells, mean, weight, [parts[each] for each in parts if each in asked], parts, _ON_THE_WAY
                )
            else:
                part.beta = np.log((part.spread + k) / (part.spread + e))
    _climb(cells, mean, weight, list(parts.values()), parts, _AT_THE_END)
    return _fitted(cells, mean, weight, strength, parts)


def _part(cells: Cells, name: str) -> _Part:
    """A family's levels that stand in two rows or more."""
    given = cells.families[name]
    holding, number = _words(cells, given) if isinstance(given, Members) else _one(cells, given)
    return _Part(name, holding, number, 0.0, np.zeros(holding.levels))


def _one(cells: Cells, code: Ints) -> tuple[One, Ints]:
    levels = int(code.max(initial=-1)) + 1
    clicked = np.flatnonzero((code >= 0) & (cells.n > 0))
    clicked = clicked[np.argsort(code[clicked], kind="stable")]
    used = _rows_of(code[clicked], cells.row[clicked], levels) >= 2
    number = np.where(used, np.cumsum(used) - 1, -1)
    kept = np.append(number, -1)[code]
    return One(np.where(kept < 0, int(used.sum()), kept), int(used.sum())), number


def _words(cells: Cells, members: Members) -> tuple[Several, Ints]:
    """Words that stand in exactly the same cells become one level."""
    start, level = members.start.astype(np.int32), members.level.astype(np.int32)
    given = csr_array((np.ones(len(level)), level, start), shape=(len(cells.n), members.levels))
    by_level = given.T.tocsr()
    clicked = cells.n[by_level.indices] > 0
    of, cell = _level_of(by_level)[clicked], by_level.indices[clicked].astype(np.int64)
    first = _first_alike(of, cell, members.levels, _rows_of(of, cells.row[cell], members.levels) >= 2)
    alone = first == np.arange(members.levels)
    number = np.where(first >= 0, (np.cumsum(alone) - 1)[first], -1)
    by_level = by_level[np.flatnonzero(alone)]
    return Several(by_level.T.tocsr(), by_level), number


def _starts(level: Ints, row: Ints) -> npt.NDArray[np.bool_]:
    """Where another level or another row begins."""
    new = np.ones(len(level), dtype=bool)
    new[1:] = (level[1:] != level[:-1]) | (row[1:] != row[:-1])
    return new


def _rows_of(level: Ints, row: Ints, levels: int) -> Ints:
    """In how many rows each level stands; both ascending, level first."""
    return np.bincount(level[_starts(level, row)], minlength=levels)


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


def _of_row(values: Floats, row: Ints, rows: int) -> Floats:
    return np.asarray(np.bincount(row, values, rows), dtype=np.float64)


def _expected(mean: float, parts: Mapping[str, _Part], cells: Cells) -> Floats:
    eta = np.full(len(cells.n), np.log(mean))
    for part in parts.values():
        eta += part.holding.give(part.beta)
    return np.asarray(np.exp(eta))


def _spread(k: Floats, e: Floats) -> float:
    """How far the levels of a family scatter: the α that what they did is likeliest under."""
    best, found = -np.inf, _SPREADS[0]
    for alpha in _SPREADS:
        told = gammaln(alpha + k) - gammaln(alpha) + alpha * np.log(alpha) - (alpha + k) * np.log(alpha + e)
        value = float(told.sum()) - 0.5 * np.log(alpha / _USUAL_SPREAD) ** 2
        if value > best + _BETTER_BY:
            best, found = value, alpha
    return float(found)


def _climb(
    cells: Cells,
    mean: float,
    weight: Floats,
    moving: Sequence[_Part],
    parts: Mapping[str, _Part],
    until: float,
) -> None:
    """
    Newton's steps on the factors of some families together, until one gains less than `until` of Σwk.

    L = Σ w·(k·η - n·e^η) + Σ α·(β - e^β) is strictly concave; a step that would lose is halved. The steps'
    equations, a level each, are solved by conjugate gradients.
    """
    wk, wn = weight * cells.k, weight * cells.n
    edges = np.cumsum([0, *(len(part.beta) for part in moving)])
    slices = [slice(a, b) for a, b in pairwise(edges.tolist())]
    spread = np.concatenate([np.full(len(part.beta), part.spread) for part in moving])
    k = np.concatenate([part.holding.add(wk) for part in moving])
    beta = np.concatenate([part.beta for part in moving])
    nested = _nested(moving)

    def to_cells(levels: Floats) -> Floats:
        out = moving[0].holding.give(levels[slices[0]])
        for part, own in zip(moving[1:], slices[1:], strict=True):
            out += part.holding.give(levels[own])
        return out

    def to_levels(values: Floats) -> Floats:
        return np.concatenate([part.holding.add(values) for part in moving])

    def value(eta: Floats, due: Floats, at: Floats) -> float:
        return float(wk @ eta - due.sum() + spread @ (at - np.exp(at)))

    eta = np.log(_expected(mean, parts, cells))
    due = wn * np.exp(eta)
    now = value(eta, due, beta)
    for _ in range(_MOST_STEPS):
        drawn, of_level = spread * np.exp(beta), to_levels(due)

        def bend(x: Floats, due: Floats = due, drawn: Floats = drawn) -> Floats:
            return to_levels(due * to_cells(x)) + drawn * x

        near = _operator(len(beta), _nearly(slices, nested, of_level, of_level + drawn))
        step, _ = cg(
            _operator(len(beta), bend),
            k - of_level + spread - drawn,
            rtol=_INNER,
            maxiter=len(beta) + 10,
            M=near,
        )
        moved, size = to_cells(step), 1.0
        while True:
            next_beta, next_eta = beta + size * step, eta + size * moved
            next_due = wn * np.exp(next_eta)
            gained = value(next_eta, next_due, next_beta) - now
            if gained >= 0 or size < _LEAST_STEP:
                break
            size /= 2
        if gained > 0:
            beta, eta, due, now = next_beta, next_eta, next_due, now + gained
        if gained < until * wk.sum():
            break
    for part, own in zip(moving, slices, strict=True):
        part.beta = beta[own]


def _operator(size: int, times: Callable[[Floats], Floats]) -> LinearOperator:
    return LinearOperator((size, size), matvec=times, dtype=np.float64)


_NESTED: Final = (TARGET, AD_GROUP, PRODUCT)
"""Families whose levels stand one in the other, the innermost first."""


def _nested(moving: Sequence[_Part]) -> dict[tuple[int, int], Ints]:
    """
    (inner, outer) → the outer level that each inner level stands in, the number of outer ones for none; by
    the families' places in `moving`. Empty where one of them does not nest, as ad groups of product ads.
    """
    chain = [place for name in _NESTED for place, part in enumerate(moving) if part.name == name]
    found = {}
    for number, inner in enumerate(chain):
        for outer in chain[number + 1 :]:
            inside, around = moving[inner].holding, moving[outer].holding
            assert isinstance(inside, One)
            assert isinstance(around, One)
            up = np.full(inside.levels + 1, around.levels)
            up[inside.code] = around.code
            if np.any((up[inside.code] != around.code) & (inside.code < inside.levels)):
                return {}
            found[inner, outer] = up[:-1]
    return found


def _nearly(
    slices: Sequence[slice],
    nested: Mapping[tuple[int, int], Ints],
    due: Floats,
    bend: Floats,
) -> Callable[[Floats], Floats]:
    """
    Solves what is nearly the step's equations: the nested families exactly, from the innermost outwards and
    back, words each alone. due: orders due per level; bend: the equations' diagonal.
    """
    own = {place: bend[each] for place, each in enumerate(slices)}
    tie = {
        (inner, outer): np.where(up < len(own[outer]), due[slices[inner]], 0.0)
        for (inner, outer), up in nested.items()
    }
    chain = list(dict.fromkeys(inner for inner, _ in nested))
    around = {inner: [outer for first, outer in nested if first == inner] for inner in chain}

    def outwards(inner: int, outer: int, values: Floats) -> Floats:
        count = len(own[outer]) + 1
        return np.asarray(np.bincount(nested[inner, outer], values, count)[:-1], dtype=np.float64)

    for inner in chain:
        for number, outer in enumerate(around[inner]):
            held = tie[inner, outer]
            own[outer] = own[outer] - outwards(inner, outer, held * held / own[inner])
            for further in around[inner][number + 1 :]:
                both = outwards(inner, outer, held * tie[inner, further] / own[inner])
                tie[outer, further] = tie[outer, further] - both

    def solve(wanted: Floats) -> Floats:
        left = {place: wanted[each] for place, each in enumerate(slices)}
        for inner in chain:
            for outer in around[inner]:
                left[outer] = left[outer] - outwards(
                    inner, outer, tie[inner, outer] * left[inner] / own[inner]
                )
        for place in [*(place for place in left if place not in chain), *reversed(chain)]:
            for outer in around.get(place, []):
                left[place] = (
                    left[place] - tie[place, outer] * np.append(left[outer], 0.0)[nested[place, outer]]
                )
            left[place] = left[place] / own[place]
        return np.concatenate([left[place] for place in range(len(slices))])

    return solve


def _fitted(cells: Cells, mean: float, weight: Floats, strength: float, parts: Mapping[str, _Part]) -> Fit:
    expected = _expected(mean, parts, cells)
    families = {}
    for name, part in parts.items():
        theta = np.exp(part.beta)
        k = part.holding.add(weight * cells.k)
        e = part.holding.add(weight * cells.n * expected) / theta
        families[name] = Family(part.spread, theta, k, e, part.number, part.holding)
    return Fit(cells, mean, weight, expected, strength, families)


@dataclass(frozen=True, slots=True)
class Means:
    """
    What the levels of judged rows say of them, their own clicks left out. m: conversion; u: how far it may
    be off; n, k: clicks and orders of the row's cells.
    """

    m: Floats
    u: Floats
    n: Floats
    k: Floats

    def strength(self, s: float) -> Floats:
        """How many clicks the levels are worth for each row (s_r), where the rows scatter around them by s."""
        spread = (1 + self.u) * (1 + (1 - self.m) / (self.m * (s + 1))) - 1
        return np.maximum(1.0, (1 - self.m) / (self.m * spread) - 1)


@dataclass(frozen=True, slots=True)
class Others:
    """
    What all others say of each cell of some rows: logarithms of the account's factor and of every family's, and
    how far each may be off. See `others`.
    """

    fit: Fit
    row: Ints
    rows: int
    said: Mapping[str, tuple[Floats, Floats]]

    def means(self, without: Collection[str] = ()) -> Means:
        """The click-weighted mean over each row's cells, with some families left out."""
        cells = self.fit.cells
        said = [each for name, each in self.said.items() if name not in without]
        log = sum((factor for factor, _ in said), np.zeros(len(cells.n)))
        width = sum((off for _, off in said), np.zeros(len(cells.n)))
        n = _of_row(cells.n, self.row, self.rows)
        weight = np.where(n[self.row] > 0, cells.n, 1.0)
        total = _of_row(weight, self.row, self.rows)
        with np.errstate(invalid="ignore"):
            m = _of_row(weight * self.fit.mean * np.exp(log), self.row, self.rows) / total
            u = np.expm1(_of_row(weight * width, self.row, self.rows) / total)
        return Means(np.clip(m, _LEAST_MEAN, _MOST_MEAN), u, n, _of_row(cells.k, self.row, self.rows))


ACCOUNT: Final = "account"


def others(fitted: Fit, row: Ints, rows: int) -> Others:
    """
    What the levels say of each cell without the clicks of the row it is judged in.

    row: 0 … rows-1 per cell. Of every level the row's own orders and orders due are taken out, of the
    account likewise.
    """
    cells = fitted.cells
    wk, wdue = fitted.weight * cells.k, fitted.weight * cells.n * fitted.expected
    left = np.maximum(_LEAST_LEFT, wk.sum() - _of_row(wk, row, rows))
    due_left = np.maximum(_LEAST_LEFT, wdue.sum() - _of_row(wdue, row, rows))
    said = {ACCOUNT: (np.log(left / due_left)[row], np.log1p(1 / left)[row])}
    order = None if np.all(row[1:] >= row[:-1]) else np.argsort(row, kind="stable")
    for name, family in fitted.families.items():
        said[name] = _said(family, wk, wdue, row, order)
    return Others(fitted, row, rows, said)


def _said(family: Family, wk: Floats, wdue: Floats, row: Ints, order: Ints | None) -> tuple[Floats, Floats]:
    cell, level = family.holding.entries(order)
    if not len(cell):
        return np.zeros(len(wk)), np.zeros(len(wk))
    new = _starts(level, row[cell])
    starts = np.flatnonzero(new)
    of = level[starts]
    k = np.maximum(0.0, family.k[of] - np.add.reduceat(wk[cell], starts)) + family.spread
    e = np.maximum(0.0, family.e[of] - np.add.reduceat(wdue[cell], starts) / family.theta[of]) + family.spread
    at = np.cumsum(new) - 1
    return _of_row(np.log(k / e)[at], cell, len(wk)), _of_row(np.log1p(1 / k)[at], cell, len(wk))


def strength(means: Means) -> float:
    """How far rows scatter around what their levels say: one s for all rows of a kind."""
    n, k = means.n, means.k
    usable = np.flatnonzero(n >= 2)
    if len(usable) < _LEAST_ROWS or n.max() > _MAX_ROW_SHARE * n.sum():
        return FALLBACK_STRENGTH
    if len(usable) > _MOST_ROWS:
        least = np.partition(n[usable], -_MOST_ROWS)[-_MOST_ROWS]
        usable = usable[n[usable] >= least]
    rows = Means(means.m[usable], means.u[usable], n[usable], k[usable])
    best, found = -np.inf, _STRENGTHS[0]
    for s in _STRENGTHS:
        worth = rows.strength(s)
        a, b = rows.m * worth, (1 - rows.m) * worth
        told = betaln(a + rows.k, b + rows.n - rows.k) - betaln(a, b)
        value = float(told.sum()) - 0.5 * (np.log(s / _USUAL_STRENGTH) / _STRENGTH_WIDTH) ** 2
        if value > best + _BETTER_BY:
            best, found = value, s
    return float(found)


def _strength_of(fitted: Fit) -> float:
    return strength(others(fitted, fitted.cells.row, fitted.cells.rows).means())
