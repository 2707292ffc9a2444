"""One assignment of all columns together: which column plays which role, and how close the next best comes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import numpy as np

_STATES: Final = 3_000
NONE: Final = -1


@dataclass(frozen=True, slots=True)
class Assigned:
    """
    The best assignment. columns: role → index, NONE where no column plays it; score: in nats; margins: by role, how far
    the best assignment without its column lies below; rivals: by role, each column with how far the best assignment
    with it lies below, its own first.
    """

    columns: Mapping[str, int]
    score: float
    margins: Mapping[str, float]
    rivals: Mapping[str, Mapping[int, float]]


def assign(
    roles: Sequence[str],
    alone: Mapping[str, np.ndarray],
    pairs: Mapping[tuple[str, str], np.ndarray],
    missing: Mapping[str, float],
) -> Assigned:
    """
    Searches the assignment with the highest score, each column in one role at most.

    alone: by role, nats of each column (−inf: cannot be it); pairs: by two roles, nats of column × column; missing: by
    role, nats of leaving it without a column.
    """
    count = len(next(iter(alone.values()))) if alone else 0
    states = np.empty((1, 0), dtype=np.int64)
    scores = np.zeros(1)
    for place, role in enumerate(roles):
        # The last column stands for none.
        gain = np.tile(np.append(alone[role], missing[role]), (len(states), 1))
        for before, other in enumerate(roles[:place]):
            table = pairs.get((other, role))
            turned = table is None
            if turned and (role, other) in pairs:
                table = pairs[role, other].T
            if table is not None:
                padded = np.zeros((count + 1, count + 1))
                padded[:count, :count] = table
                gain += padded[states[:, before]]
        rows = np.arange(len(states))
        for before in range(place):
            taken = states[:, before]
            gain[rows[taken != NONE], taken[taken != NONE]] = -np.inf
        total = scores[:, None] + gain
        flat = total.ravel()
        best = np.argsort(flat)[::-1][:_STATES] if len(flat) > _STATES else np.argsort(flat)[::-1]
        best = best[np.isfinite(flat[best])]
        from_state, column = np.divmod(best, count + 1)
        column = np.where(column == count, NONE, column)
        states = np.concatenate([states[from_state], column[:, None]], axis=1)
        scores = flat[best]
    chosen = states[0]
    margins, rivals = {}, {}
    for place, role in enumerate(roles):
        others = states[:, place] != chosen[place]
        margins[role] = float(scores[0] - scores[others].max()) if others.any() else float("inf")
        columns, first = np.unique(states[:, place], return_index=True)
        order = np.argsort(first)
        rivals[role] = dict(zip(columns[order].tolist(), (scores[0] - scores[first[order]]).tolist(), strict=True))
    return Assigned(dict(zip(roles, chosen.tolist(), strict=True)), float(scores[0]), margins, rivals)
