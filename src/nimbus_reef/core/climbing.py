"""The factors of several families together: Newton's way to the one top of their sum."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Final

import numpy as np
from scipy.sparse.linalg import LinearOperator, cg

from nimbus_reef.core.levels import AD_GROUP, PRODUCT, TARGET, Floats, Ints, One, Several

_MOST_STEPS: Final = 30
_LEAST_STEP: Final = 1e-9
_INNER: Final = 1e-2
"""How closely each of Newton's steps is solved; the next one starts from what it left."""


@dataclass(slots=True)
class MovingFamily:
    """A family at work."""

    name: str
    holding: One | Several
    number: Ints
    spread: float
    beta: Floats


def expected(mean: float, parts: Mapping[str, MovingFamily], cells: int) -> Floats:
    """What each of so many cells is expected to convert: the mean times the factors of its levels."""
    eta = np.full(cells, np.log(mean))
    for part in parts.values():
        eta += part.holding.give(part.beta)
    return np.asarray(np.exp(eta))


def climb(
    wk: Floats,
    wn: Floats,
    mean: float,
    moving: Sequence[MovingFamily],
    parts: Mapping[str, MovingFamily],
    until: float,
) -> None:
    """
    Newton's steps on the factors of some families together, until one gains less than `until` of Σwk.

    wk, wn: orders and clicks of every cell, weighted; moving: those of `parts` that may move, the others stand.
    L = Σ w·(k·η - n·e^η) + Σ α·(β - e^β) is strictly concave; a step that would lose is halved. The steps'
    equations, a level each, are solved by conjugate gradients. Where nothing may move, nothing does.
    """
    if not moving:
        return
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

    eta = np.log(expected(mean, parts, len(wk)))
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


def _nested(moving: Sequence[MovingFamily]) -> dict[tuple[int, int], Ints]:
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
