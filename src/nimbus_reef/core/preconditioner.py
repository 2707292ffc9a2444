"""
What is nearly the equations of one of Newton's steps, solved exactly: how few rounds conjugate gradients take rests on
it.

Products, ad groups and targets stand one in the other, so that they are eliminated from the innermost outwards, each
level alone. What is left are the words that stand in most cells, solved together; every other word is taken alone.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import combinations, pairwise
from typing import Final

import numpy as np
from scipy.linalg import cho_factor, cho_solve
from scipy.sparse import csr_array, diags_array

from nimbus_reef.core.levels import AD_GROUP, PRODUCT, TARGET, WORD, Floats, Ints, One, Several

_NESTED: Final = (TARGET, AD_GROUP, PRODUCT)
"""Families whose levels stand one in the other, the innermost first."""
_TOGETHER: Final = 256
"""So many words are solved together: their equations are this number squared."""
_STEADY: Final = 1e-10
"""What is added to a diagonal, as a part of it, so that rounding leaves the equations positive definite."""
_NO_WORDS: Final = np.zeros(0, dtype=np.int64)
_NO_EQUATIONS: Final = np.zeros((0, 0))


class Preconditioner:
    """
    H x = wanted, solved nearly; H = Σ due·xxᵀ over the cells, with `drawn` added on its diagonal.

    Only the ties of rare words are left out, so that what is solved is positive definite, as H is.
    """

    def __init__(self, families: Mapping[str, One | Several], due: Floats, drawn: Floats) -> None:
        """
        families: those that may move, a level an equation, in their order; due: orders due per cell; drawn: what
        draws each level to 1.
        """
        edges = np.cumsum([0, *(each.levels for each in families.values())]).tolist()
        self._slices = {name: slice(*edge) for name, edge in zip(families, pairwise(edges), strict=True)}
        self._of_words: dict[str, csr_array] = {}
        of_level = {name: each.add(due) for name, each in families.items()}
        self._own = {name: of_level[name] + drawn[each] for name, each in self._slices.items()}
        self._chain, self._up = _nested(families)
        self._tie = {
            (inner, outer): np.where(up < len(self._own[outer]), of_level[inner], 0.0)
            for (inner, outer), up in self._up.items()
        }
        words = families.get(WORD)
        self._common, left = _NO_WORDS, _NO_EQUATIONS
        if isinstance(words, Several):
            self._common = np.sort(np.argsort(-of_level[WORD], kind="stable")[:_TOGETHER])
            left = self._tied(words, families, due)
            left[np.diag_indices_from(left)] += _STEADY * left.diagonal() + drawn[self._slices[WORD]][self._common]
        for place, inner in enumerate(self._chain):
            self._eliminate(inner, self._chain[place + 1 :])
            if inner in self._of_words:
                ties = self._of_words[inner]
                left -= ((ties @ diags_array(1 / self._own[inner])) @ ties.T).toarray()
        self._together = cho_factor(left, lower=True) if len(left) else None

    def _tied(self, words: Several, families: Mapping[str, One | Several], due: Floats) -> Floats:
        """The equations of the words in most cells among each other; notes what ties them to the nested families."""
        whole = len(self._common) == words.levels
        having = words.by_level if whole else words.by_level[self._common]
        weighed = csr_array((due[having.indices], having.indices, having.indptr), shape=having.shape)
        for name in self._chain:
            family = families[name]
            assert isinstance(family, One)
            self._of_words[name] = weighed @ _under(family.code, np.ones(len(due)), family.levels)
        return np.asarray((weighed @ (words.by_cell if whole else having.T.tocsr())).toarray())

    def _eliminate(self, inner: str, outers: Sequence[str]) -> None:
        """Takes a family out of the equations of those around it."""
        own = self._own[inner]
        for outer in outers:
            tie = self._tie[inner, outer]
            self._own[outer] = self._own[outer] - self._outwards(inner, outer, tie * tie / own)
            if outer in self._of_words:
                part = _under(self._up[inner, outer], tie / own, len(self._own[outer]))
                self._of_words[outer] = self._of_words[outer] - self._of_words[inner] @ part
        for outer, further in combinations(outers, 2):
            both = self._tie[inner, outer] * self._tie[inner, further] / own
            self._tie[outer, further] = self._tie[outer, further] - self._outwards(inner, outer, both)

    def _outwards(self, inner: str, outer: str, values: Floats) -> Floats:
        """What the levels inside each outer level come to."""
        count = len(self._own[outer]) + 1
        return np.asarray(np.bincount(self._up[inner, outer], values, count)[:-1], dtype=np.float64)

    def solve(self, wanted: Floats) -> Floats:
        """x: from the innermost family outwards to the words, and back."""
        found = {name: wanted[each] for name, each in self._slices.items()}
        for inner, outer in self._up:
            part = self._tie[inner, outer] * found[inner] / self._own[inner]
            found[outer] = found[outer] - self._outwards(inner, outer, part)
        if self._together is not None:
            rest = found[WORD][self._common]
            for name, ties in self._of_words.items():
                rest = rest - ties @ (found[name] / self._own[name])
            common = cho_solve(self._together, rest)
        for name in found.keys() - set(self._chain):
            found[name] = found[name] / self._own[name]
        if self._together is not None:
            found[WORD][self._common] = common
        for inner in reversed(self._chain):
            for (first, outer), up in self._up.items():
                if first == inner:
                    found[inner] = found[inner] - self._tie[inner, outer] * np.append(found[outer], 0.0)[up]
            if inner in self._of_words:
                found[inner] = found[inner] - self._of_words[inner].T @ common
            found[inner] = found[inner] / self._own[inner]
        return np.concatenate([found[name] for name in self._slices])


def _under(code: Ints, values: Floats, levels: int) -> csr_array:
    """Place × level: the value of each place under its level, 0 where its code is none, above all levels."""
    none = code >= levels
    parts = np.where(none, 0.0, values), np.where(none, 0, code), np.arange(len(code) + 1)
    return csr_array(parts, shape=(len(code), levels))


def _nested(families: Mapping[str, One | Several]) -> tuple[list[str], dict[tuple[str, str], Ints]]:
    """
    The families whose levels stand one in the other, from the innermost, and (inner, outer) → the outer level that each
    inner level stands in, the number of outer ones for none. Nothing where one of them does not nest, as ad groups of
    product ads.
    """
    chain = [name for name in _NESTED if name in families]
    found = {}
    for inner, outer in combinations(chain, 2):
        inside, around = families[inner], families[outer]
        assert isinstance(inside, One)
        assert isinstance(around, One)
        up = np.full(inside.levels + 1, around.levels)
        up[inside.code] = around.code
        if np.any((up[inside.code] != around.code) & (inside.code < inside.levels)):
            return [], {}
        found[inner, outer] = up[:-1]
    return chain, found
