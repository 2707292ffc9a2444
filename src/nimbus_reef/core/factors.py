"""
What conversion rests on: one fit for the account, a factor each for product, words, ad group, target.

Every cell (a term under a target, or what a target did beside its terms) is expected to convert at the
account's rate times the factor of every level it belongs to. Each factor is drawn to 1 by the spread of its
family, so that a level that was seen little says little. A judged row's own clicks are taken out of every
factor before it is judged by them. Formulas: docs/calculations.md, "Evidence in one fit".
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import Final

import numpy as np
from scipy.special import betaln, gammaln

from nimbus_reef.core.climbing import MovingFamily, climb, expected
from nimbus_reef.core.levels import FAMILIES, WORD, Floats, Ints, Members, One, Several, in_use, starts

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


def fit(cells: Cells) -> Fit:
    """
    The factors of every family, in two passes and a last look at all of them together.

    Σn and Σk must be above 0. The same result whatever the solver: the sum that is largest has one top.
    """
    mean = float(cells.k.sum() / cells.n.sum())
    clicks = _of_row(cells.n, cells.row, cells.rows)
    parts = parts_of(cells)
    asked: list[str] = []

    def weights(s: float) -> Floats:
        return np.asarray((s + 1) / (s + clicks[cells.row]))

    strength, near = _FIRST_STRENGTH, None
    for again in (False, True):
        if again:
            strength = _strength_of(_fitted(cells, mean, weights(strength), strength, parts))
        weight = weights(strength)
        for name, part in parts.items():
            due = part.holding.add(weight * cells.n * expected(mean, parts, len(cells.n)))
            k, e = part.holding.add(weight * cells.k), due / np.exp(part.beta)
            part.spread = _spread(k, e)
            if name not in asked:
                asked.append(name)
            if name == WORD:
                moving = [parts[each] for each in parts if each in asked]
                solved = climb(weight * cells.k, weight * cells.n, mean, moving, parts, _ON_THE_WAY)
                near = solved if len(moving) == len(parts) else None
            else:
                part.beta = np.log((part.spread + k) / (part.spread + e))
    climb(weight * cells.k, weight * cells.n, mean, list(parts.values()), parts, _AT_THE_END, near)
    return _fitted(cells, mean, weight, strength, parts)


def parts_of(cells: Cells) -> dict[str, MovingFamily]:
    """The families that have levels in use, in the order in which they are asked, all factors 1."""
    found = {}
    for name in FAMILIES:
        if name in cells.families:
            holding, number = in_use(cells.families[name], cells.n > 0, cells.row)
            if holding.levels:
                found[name] = MovingFamily(name, holding, number, 0.0, np.zeros(holding.levels))
    return found


def _of_row(values: Floats, row: Ints, rows: int) -> Floats:
    return np.asarray(np.bincount(row, values, rows), dtype=np.float64)


def _spread(k: Floats, e: Floats) -> float:
    """How far the levels of a family scatter: the α that what they did is likeliest under."""
    best, found = -np.inf, _SPREADS[0]
    for alpha in _SPREADS:
        result = gammaln(alpha + k) - gammaln(alpha) + alpha * np.log(alpha) - (alpha + k) * np.log(alpha + e)
        value = float(result.sum()) - 0.5 * np.log(alpha / _USUAL_SPREAD) ** 2
        if value > best + _BETTER_BY:
            best, found = value, alpha
    return float(found)


def _fitted(cells: Cells, mean: float, weight: Floats, strength: float, parts: Mapping[str, MovingFamily]) -> Fit:
    rates = expected(mean, parts, len(cells.n))
    families = {}
    for name, part in parts.items():
        theta = np.exp(part.beta)
        k = part.holding.add(weight * cells.k)
        e = part.holding.add(weight * cells.n * rates) / theta
        families[name] = Family(part.spread, theta, k, e, part.number, part.holding)
    return Fit(cells, mean, weight, rates, strength, families)


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
    how far each may be off. n, k: clicks and orders of each row. See `others`.
    """

    fit: Fit
    row: Ints
    estimates: Mapping[str, tuple[Floats, Floats]]
    n: Floats
    k: Floats

    def means(self, without: Collection[str] = ()) -> Means:
        """The click-weighted mean over each row's cells, with some families left out."""
        cells, rows = self.fit.cells, len(self.n)
        log, width = np.zeros(len(cells.n)), np.zeros(len(cells.n))
        for name, (factor, off) in self.estimates.items():
            if name not in without:
                log += factor
                width += off
        weight = np.where(self.n[self.row] > 0, cells.n, 1.0)
        total = _of_row(weight, self.row, rows)
        with np.errstate(invalid="ignore"):
            m = _of_row(weight * self.fit.mean * np.exp(log), self.row, rows) / total
            u = np.expm1(_of_row(weight * width, self.row, rows) / total)
        return Means(np.clip(m, _LEAST_MEAN, _MOST_MEAN), u, self.n, self.k)


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
    by_key = {ACCOUNT: (np.log(left / due_left)[row], np.log1p(1 / left)[row])}
    order = None if np.all(row[1:] >= row[:-1]) else np.argsort(row, kind="stable")
    for name, family in fitted.families.items():
        by_key[name] = _said(family, wk, wdue, row, order)
    return Others(fitted, row, by_key, _of_row(cells.n, row, rows), _of_row(cells.k, row, rows))


def _said(family: Family, wk: Floats, wdue: Floats, row: Ints, order: Ints | None) -> tuple[Floats, Floats]:
    """The logarithm of a family's factors for every cell, its own row left out, and how far off they may be."""
    log, off = np.zeros(len(wk)), np.zeros(len(wk))
    cells, levels = family.holding.entries(order)
    # By pieces: words are several to a cell, and copies of all their entries are most of the memory.
    for piece in _pieces(levels, cells, row):
        cell, level = cells[piece], levels[piece]
        new = starts(level, row[cell])
        begin = np.flatnonzero(new)
        of = level[begin]
        k = np.maximum(0.0, family.k[of] - np.add.reduceat(wk[cell], begin)) + family.spread
        due = np.add.reduceat(wdue[cell], begin) / family.theta[of]
        e = np.maximum(0.0, family.e[of] - due) + family.spread
        at = np.cumsum(new) - 1
        np.add.at(log, cell, np.log(k / e)[at])
        np.add.at(off, cell, np.log1p(1 / k)[at])
    return log, off


_PIECE: Final = 2**17


def _pieces(levels: Ints, cells: Ints, row: Ints) -> Iterator[slice]:
    """Slices of about so many entries that part none of one level in one row, which stand beside each other."""
    begin = 0
    while begin < len(levels):
        end = begin + _PIECE
        while end < len(levels) and levels[end] == levels[end - 1] and row[cells[end]] == row[cells[end - 1]]:
            end += 1
        yield slice(begin, min(end, len(levels)))
        begin = end


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
        array = betaln(a + rows.k, b + rows.n - rows.k) - betaln(a, b)
        value = float(array.sum()) - 0.5 * (np.log(s / _USUAL_STRENGTH) / _STRENGTH_WIDTH) ** 2
        if value > best + _BETTER_BY:
            best, found = value, s
    return float(found)


def _strength_of(fitted: Fit) -> float:
    return strength(others(fitted, fitted.cells.row, fitted.cells.rows).means())
