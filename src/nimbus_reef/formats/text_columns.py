"""
Which columns are campaign, ad group, target, match type, search term, SKU and placement: by how their names look and
nest.

Every witness gives nats; they add up (see `figure_columns`).
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Final

import numpy as np

from nimbus_reef.formats import assignment
from nimbus_reef.formats.assignment import Assigned
from nimbus_reef.formats.columns import Are, ColumnCells
from nimbus_reef.formats.kinds import READ_KINDS

ROLES: Final = ("campaign", "ad_group", "target", "match_type", "search_term", "sku", "placement")
_START, _MISSING = -1.5, -5.0
_FEW_WORDS: Final = 8
_SEPARATORS: Final = re.compile(r"[|_·•:>]| [-–/] ")
_MANY_NAMES: Final = 8
"""From so many values on, which column nests in which is no chance of a short sample."""
_GROUP: Final = re.compile(
    r"(?i)\b(?:ad ?group|group|gruppe|anzeigengruppe|groupe|grupo|gruppo|groep|grupa|grupp|grubu?)\b"
)
_TARGETS: Final = READ_KINDS["target_daily"]
_LISTS: Final = {
    "match_type": frozenset(_TARGETS.column("match_type").aliases),
    "placement": frozenset(READ_KINDS["placement_daily"].column("placement").aliases),
}
_STATES: Final = frozenset(READ_KINDS["targets"].column("state").aliases)


@dataclass(frozen=True)
class TextColumns:
    """The columns of texts of a table and what their cells say, worked out once for all kinds."""

    columns: tuple[ColumnCells, ...]

    @classmethod
    def of(cls, columns: Sequence[ColumnCells]) -> TextColumns:
        """The columns that can be names, words or ids: text, and numbers that look like ids."""
        return cls(
            tuple(each for each in columns if each.are is Are.TEXT or (each.are is Are.NUMBERS and each.are_ids))
        )

    @cached_property
    def alone(self) -> Mapping[str, np.ndarray]:
        """By role, what the cells of each column say of it by themselves, in nats."""
        return {role: np.array([_alone(column, role) for column in self.columns]) for role in ROLES}

    @cached_property
    def pairs(self) -> Mapping[tuple[str, str], np.ndarray]:
        """By two roles, what the cells of column × column say together, in nats."""
        return _pairs(self.columns)

    @cached_property
    def known(self) -> Mapping[str, np.ndarray]:
        """By role with a closed list, which columns are mostly words of it."""
        return {
            role: np.array([column.share_in(words) > 0.5 for column in self.columns], dtype=bool)
            for role, words in _LISTS.items()
        }


def assigned(texts: TextColumns, roles: Sequence[str], headings: Mapping[str, np.ndarray]) -> Assigned:
    """
    The columns of texts by role, the best of all assignments together. headings: by role, the nats of each column's
    heading.
    """
    alone = {role: texts.alone[role] + headings[role] for role in roles}
    for role in _LISTS.keys() & set(roles):
        # Words that nobody knows under a heading that says nothing: asked, not taken.
        alone[role] = np.where(texts.known[role] | (headings[role] > 0), alone[role], -np.inf)
    pairs = {pair: table for pair, table in texts.pairs.items() if set(pair) <= set(roles)}
    return assignment.assign(roles, alone, pairs, dict.fromkeys(roles, _MISSING))


def _alone(column: ColumnCells, role: str) -> float:
    if not column.written:
        return _START
    value = _START
    if role in _LISTS:
        share = column.share_in(_LISTS[role])
        return value + (8 * share if share > 0.5 else -2.5 + (column.distinct <= _FEW_WORDS))
    known = max(column.share_in(words) for words in (*_LISTS.values(), _STATES))
    value -= 6 * (known > 0.5)
    upper = float(np.mean([text == text.upper() for text in column.written]))
    lower = float(np.mean([text == text.lower() for text in column.written]))
    unlike = column.distinct / len(column.written)
    if role == "sku":
        return value + 3 * column.id_like + upper - 2 * (column.words_per_cell > 1.5)
    value -= 1.5 * column.id_like
    if role == "campaign":
        value += 2 * (column.share_with(_SEPARATORS) > 0.3)
    elif role == "ad_group":
        value += 2 * (column.share_with(_GROUP) > 0.3)
    else:
        value += lower + (column.words_per_cell > 1.2)
        if role == "search_term":
            value += 2 if unlike > 0.8 else -3 if unlike < 0.4 and len(column.written) >= _FEW_WORDS else 0
    return value


def _pairs(columns: Sequence[ColumnCells]) -> dict[tuple[str, str], np.ndarray]:
    size = len(columns)
    found: dict[tuple[str, str], np.ndarray] = {}

    def table(first: str, second: str, nats: Callable[[ColumnCells, ColumnCells], float]) -> None:
        array = found.setdefault((first, second), np.zeros((size, size)))
        for a in range(size):
            for b in range(size):
                if a != b:
                    array[a, b] += nats(columns[a], columns[b])

    table("target", "search_term", _term_of_target)
    table("target", "ad_group", _more_values)
    table("target", "campaign", _more_values)
    table("campaign", "ad_group", _group_in_campaign)
    return found


def _more_values(target: ColumnCells, other: ColumnCells) -> float:
    return 1.2 * float(np.sign(target.distinct - other.distinct))


def _term_of_target(target: ColumnCells, term: ColumnCells) -> float:
    shared = [
        bool(set(words_in(a)) & set(words_in(b)))
        for a, b, text in zip(target.texts, term.texts, target.filled & term.filled, strict=True)
        if text
    ]
    share = float(np.mean(shared)) if shared else 0.0
    return (2 + 5 * share if share > 0.15 else -2) + 2 * float(np.sign(term.distinct - target.distinct))


def words_in(text: str) -> list[str]:
    """The words of a cell, by their letters, without those of one letter."""
    return [word for word in re.split(r"[^\w]+", text.lower()) if len(word) > 1]


def _group_in_campaign(campaign: ColumnCells, group: ColumnCells) -> float:
    sure = min(1.0, min(group.distinct, campaign.distinct) / _MANY_NAMES)
    value = 4 * sure * (_nests(group, campaign) - _nests(campaign, group))
    plain = not group.share_with(_SEPARATORS) or group.share_with(_GROUP) > 0.3
    return value + 1.5 * (plain and group.distinct < campaign.distinct)


def _nests(inner: ColumnCells, outer: ColumnCells) -> float:
    """How surely each value of a column stands beside one value of another: 0 … 1."""
    pairs = Counter(zip(inner.texts, outer.texts, strict=True))
    commonest: dict[str, int] = {}
    for (value, _), times in pairs.items():
        commonest[value] = max(commonest.get(value, 0), times)
    share = sum(commonest.values()) / max(1, len(inner.texts))
    return float(np.clip((share - 0.9) / 0.08, 0, 1))
