"""The factors of several families together: Newton's way to the one top of their sum."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Final

import numpy as np
from scipy.sparse.linalg import LinearOperator, cg

from nimbus_reef.core.levels import Floats, Ints, One, Several
from nimbus_reef.core.preconditioner import Preconditioner

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
    near: Preconditioner | None = None,
) -> Preconditioner | None:
    """
    Newton's steps on the factors of some families together, until one gains less than `until` of Σwk.

    wk, wn: orders and clicks of every cell, weighted; moving: those of `parts` that may move, the others stand.
    L = Σ w·(k·η - n·e^η) + Σ α·(β - e^β) is strictly concave; a step that would lose is halved. The steps'
    equations, a level each, are solved by conjugate gradients. Where nothing may move, nothing does. near: what an
    earlier climb of the same families returned: nearly the same equations, and dear to make.
    """
    if not moving:
        return None
    edges = np.cumsum([0, *(len(part.beta) for part in moving)])
    slices = [slice(a, b) for a, b in pairwise(edges.tolist())]
    spread = np.concatenate([np.full(len(part.beta), part.spread) for part in moving])
    k = np.concatenate([part.holding.add(wk) for part in moving])
    beta = np.concatenate([part.beta for part in moving])

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
    holdings = {part.name: part.holding for part in moving}
    near = near or Preconditioner(holdings, due, spread * np.exp(beta))
    for _ in range(_MOST_STEPS):
        drawn, of_level = spread * np.exp(beta), to_levels(due)

        def bend(x: Floats, due: Floats = due, drawn: Floats = drawn) -> Floats:
            return to_levels(due * to_cells(x)) + drawn * x

        step, _ = cg(
            _operator(len(beta), bend),
            k - of_level + spread - drawn,
            rtol=_INNER,
            maxiter=len(beta) + 10,
            M=_operator(len(beta), near.solve),
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
    return near


def _operator(size: int, times: Callable[[Floats], Floats]) -> LinearOperator:
    return LinearOperator((size, size), matvec=times, dtype=np.float64)
