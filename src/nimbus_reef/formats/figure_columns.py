"""
Which columns are impressions, clicks, spend, orders, units and sales: by what holds between their cells, with the
headings as one witness among others.

Every witness gives nats, the log-likelihood against “this column is something else”; they add up.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Final

import numpy as np

from nimbus_reef.formats import assignment
from nimbus_reef.formats.assignment import NONE, Assigned
from nimbus_reef.formats.columns import Are, ColumnCells
from nimbus_reef.formats.headings import WHOLE
from nimbus_reef.formats.quotients import Quotient, parts_of_sums, quotients

CLOSE: Final = 2.5
"""Nats below which a second reading is asked about."""
CLOSE_UNHEADED: Final = 5.0
"""The same for a measure with an uninformative heading."""
_FEW: Final = 10.0
"""Sample size at which the margin doubles."""
MOST_COLUMNS: Final = 40
AD_ROLES: Final = ("impressions", "clicks", "spend", "orders", "units", "sales")
TRADE_ROLES: Final = ("sessions", "total_orders", "total_units", "total_sales")
MONEY: Final = frozenset({"spend", "sales", "total_sales"})
_RARELY_CONSTANT: Final = frozenset({"impressions", "clicks", "spend"})
_OPTIONAL: Final = frozenset({"units", "sessions", "total_units"})
_START, _MISSING, _UNLIKELY = -1.5, -5.0, -9.0
_KEPT, _BROKEN = math.log(0.97 / 0.6), math.log(0.03 / 0.4)
_MOST_ROWS, _LEAST = 12, -10.0


@dataclass(frozen=True)
class NumberColumns:
    """The columns of numbers of a table and what was found in them. quotients, parts: by index."""

    columns: tuple[ColumnCells, ...]
    quotients: tuple[Quotient, ...]
    parts: frozenset[int]

    @classmethod
    def of(cls, columns: Sequence[ColumnCells]) -> NumberColumns:
        """
        Those among a table's columns that can be a number; a column that is blank throughout can be
        any by its heading.
        """
        numbers = [each for each in columns if each.are is Are.NUMBERS][:MOST_COLUMNS]
        return cls(tuple(numbers), tuple(quotients(numbers)), frozenset(parts_of_sums(numbers)))

    @property
    def quotient_of(self) -> Mapping[int, Quotient]:
        """By column, how it is one."""
        return {each.r: each for each in self.quotients}

    @cached_property
    def alone(self) -> Mapping[str, np.ndarray]:
        """By role, what the cells of each column say of it by themselves, in nats."""
        return {role: _alone(self, role) for role in (*AD_ROLES, *TRADE_ROLES)}

    @cached_property
    def pairs(self) -> Mapping[tuple[str, str], np.ndarray]:
        """By two roles, what the cells of column × column say together, in nats."""
        return _pairs(self)


@dataclass(frozen=True, slots=True)
class _Cells:
    """A column as the relations see it: figures with nothing as 0, which rows say something, whether it has coins."""

    figures: np.ndarray
    coins: bool


Relation = Callable[[_Cells, _Cells], float]


def _counted(rows: int, broken: float) -> float:
    """Nats of a relation that holds in most of so many rows that tell; rows beyond twelve say the same again."""
    if not rows:
        return 0.0
    return max(_LEAST, min(rows, _MOST_ROWS) * ((1 - broken) * _KEPT + broken * _BROKEN))


def _at_least(a: _Cells, b: _Cells) -> float:
    telling = (a.figures > 0) | (b.figures > 0)
    return _counted(int(telling.sum()), float((a.figures < b.figures)[telling].mean()) if telling.any() else 0.0)


def _both_or_neither(count: _Cells, other: _Cells) -> float:
    """Of money without coins a small sum may be rounded to 0: there only its being above 0 tells."""
    telling = (other.figures > 0) if not other.coins else (count.figures > 0) | (other.figures > 0)
    wrong = (count.figures > 0) != (other.figures > 0)
    return _counted(int(telling.sum()), float(wrong[telling].mean()) if telling.any() else 0.0)


def _only_where(a: _Cells, b: _Cells) -> float:
    """B is above 0 only where a is."""
    telling = b.figures > 0
    return _counted(int(telling.sum()), float((a.figures <= 0)[telling].mean()) if telling.any() else 0.0)


def _small_part(limit: float) -> Relation:
    def relation(a: _Cells, b: _Cells) -> float:
        whole, part = a.figures.sum(), b.figures.sum()
        if whole <= 0 or part <= 0:
            return 0.0
        return float(np.clip(-2 * math.log(part / whole / limit), -5, 2))

    return relation


def _nearly_as_many(a: _Cells, b: _Cells) -> float:
    """Orders ÷ units: mostly one unit an order."""
    orders, units = a.figures.sum(), b.figures.sum()
    if orders <= 0 or units <= 0:
        return 0.0
    return float(np.clip(2 + 4 * math.log(orders / units), -8, 2)) if orders <= units else -8.0


def _even(a: _Cells, b: _Cells) -> float:
    """Money ÷ count varies little beside other quotients."""
    both = (a.figures > 0) & (b.figures > 0)
    if both.sum() < 2:
        return 0.0
    return float(np.clip(2 * (0.6 - np.log(b.figures[both] / a.figures[both]).std()), -2, 1))


def _few_prices(units: _Cells, sales: _Cells) -> float:
    both = (units.figures > 0) & (sales.figures > 0)
    if both.sum() < 2:
        return 0.0
    prices = np.round(sales.figures[both] / units.figures[both], 2)
    return float(1.5 * (1 - len(np.unique(prices)) / both.sum()))


def _half(relation: Relation) -> Relation:
    return lambda a, b: 0.5 * relation(a, b)


def _turned(relation: Relation) -> Relation:
    return lambda a, b: relation(b, a)


_RELATIONS: Final[Mapping[tuple[str, str], tuple[Relation, ...]]] = {
    ("impressions", "clicks"): (_at_least, _small_part(0.4)),
    ("impressions", "orders"): (_half(_at_least),),
    ("clicks", "orders"): (_at_least, _small_part(0.7)),
    ("clicks", "spend"): (_both_or_neither, _even),
    ("orders", "sales"): (_both_or_neither, _even),
    ("orders", "units"): (_turned(_at_least), _both_or_neither, _nearly_as_many),
    ("units", "sales"): (_half(_both_or_neither), _few_prices),
    ("spend", "sales"): (_half(_only_where),),
    ("spend", "orders"): (_half(_only_where),),
    ("sessions", "total_orders"): (_at_least, _small_part(0.7)),
    ("total_orders", "total_sales"): (_both_or_neither, _even),
    ("total_orders", "total_units"): (_turned(_at_least), _both_or_neither, _nearly_as_many),
    ("total_units", "total_sales"): (_half(_both_or_neither), _few_prices),
}
_QUOTIENTS: Final[Mapping[tuple[str, str], tuple[tuple[str, str], float]]] = {
    ("impressions", "clicks"): (("clicks", "impressions"), 2.0),
    ("clicks", "orders"): (("orders", "clicks"), 2.0),
    ("clicks", "spend"): (("spend", "clicks"), 2.0),
    ("orders", "sales"): (("sales", "orders"), 2.0),
    ("total_orders", "total_sales"): (("total_sales", "total_orders"), 2.0),
    ("sessions", "total_orders"): (("total_orders", "sessions"), 2.0),
}
"""Which quotient of which two roles proves them, and with how many nats."""


def assigned(
    figures: NumberColumns, roles: Sequence[str], headings: Mapping[str, np.ndarray], taken: str = ""
) -> Assigned:
    """
    The columns of numbers by role, the best of all assignments together. headings: by role, the nats of each column's
    heading; taken: a column that is something else.
    """
    free = np.array([-np.inf if column.header == taken else 0.0 for column in figures.columns])
    alone = {
        # Under its own heading even what looks like no figure at all is that column: its cells are then turned away one
        # by one.
        role: (
            np.where(np.isinf(figures.alone[role]) & (headings[role] >= WHOLE), _UNLIKELY, figures.alone[role])
            + headings[role]
            + free
        )
        for role in roles
    }
    pairs = {pair: table for pair, table in figures.pairs.items() if set(pair) <= set(roles)}
    missing = {role: 0.0 if role in _OPTIONAL else _MISSING for role in roles}
    return assignment.assign(roles, alone, pairs, missing)


def _alone(figures: NumberColumns, role: str) -> np.ndarray:
    quotient_of = figures.quotient_of
    proven: dict[int, float] = {}
    for each in figures.quotients:
        for part in (each.a, each.b):
            proven[part] = max(proven.get(part, 0.0), each.weight)
    fullest = min((column.blank for column in figures.columns), default=0.0)
    noughts = any((column.figures == 0).any() for column in figures.columns)
    nats = []
    for index, column in enumerate(figures.columns):
        if column.never_measure:
            nats.append(-np.inf)
            continue
        how = column.number_cells
        # A count is not written with two places: 7.00 is money that happens to be whole.
        count = (1.5 if how.whole > 0.97 else -8.0) - 8.0 * how.signed - 3.0 * (how.coins > 0.9)
        value = _START + (_as_money(column) if role in MONEY else count)
        if index in quotient_of:
            value -= 9.0 * quotient_of[index].weight
        value += 1.5 * proven.get(index, 0.0)
        value -= 2.5 * (index in figures.parts)
        if noughts:
            value -= 3.0 * max(0.0, column.blank - fullest)
        if column.is_constant and role in _RARELY_CONSTANT and len(column.texts) > 1:
            value -= 3.0
        nats.append(value)
    return np.array(nats)


def _as_money(column: ColumnCells) -> float:
    how = column.number_cells
    written = 2.5 if how.coins > 0.9 else 1.5 if how.many == 0 and how.few > 0 else -1.5
    return written + 1.5 * how.signed


def _pairs(figures: NumberColumns) -> dict[tuple[str, str], np.ndarray]:
    # A row with an error in place of a figure is no evidence for or against a column.
    whole = ~np.any([column.not_known for column in figures.columns], axis=0)
    if not whole.any():
        whole = np.ones_like(whole)
    cells = [_Cells(np.nan_to_num(column.figures)[whole], column.number_cells.few > 0) for column in figures.columns]
    usable = [index for index, column in enumerate(figures.columns) if not column.never_measure]
    known: dict[tuple[int, int, int], float] = {}
    found = {}
    for (first, second), relations in _RELATIONS.items():
        table = np.zeros((len(cells), len(cells)))
        for a in usable:
            for b in usable:
                if a == b:
                    continue
                for relation in relations:
                    key = (id(relation), a, b)
                    if key not in known:
                        known[key] = relation(cells[a], cells[b])
                    table[a, b] += known[key]
        for each in figures.quotients:
            _add_quotient(table, each, (first, second))
        found[first, second] = table
    return found


def _add_quotient(table: np.ndarray, each: Quotient, roles: tuple[str, str]) -> None:
    if roles in _QUOTIENTS:
        (above, _), nats = _QUOTIENTS[roles]
        place = (each.a, each.b) if above == roles[0] else (each.b, each.a)
        table[place] += nats * each.weight
    if roles == ("spend", "sales"):
        if each.percent:
            table[each.a, each.b] += 3.0 * each.weight
        else:
            table[each.b, each.a] += 1.0 * each.weight


def close(rows: int, unheaded: float) -> float:
    """Margin in nats below which a column with an uninformative heading is asked about; larger for small samples."""
    return unheaded * (1 + _FEW / max(rows, 1))


def reasons(figures: NumberColumns, found: Assigned) -> dict[str, str]:
    """
    By role, the strongest thing that the cells say for its column, in a sentence; none where they say nothing of their
    own.
    """
    by_index = {index: role for role, index in found.columns.items() if index != NONE}
    by_key: dict[str, str] = {}
    for each in sorted(figures.quotients, key=lambda one: -one.hits):
        names = [figures.columns[index].header for index in (each.r, each.a, each.b)]
        percent = ", in per cent" if each.percent else ""
        for part in (each.a, each.b):
            role = by_index.get(part)
            if role and role not in by_key:
                by_key[role] = (
                    f"“{names[0]}” is “{names[1]}” ÷ “{names[2]}”{percent} in {each.hits} of {each.rows} rows"
                )
    pairs = (("clicks", "impressions"), ("impressions", "clicks"), ("orders", "clicks"), ("units", "orders"))
    for role, other in pairs:
        if role in by_key or found.columns.get(role, NONE) == NONE or found.columns.get(other, NONE) == NONE:
            continue
        a, b = (np.nan_to_num(figures.columns[found.columns[name]].figures) for name in (role, other))
        low, high = (a, b) if role in ("clicks", "orders") else (b, a)
        rows = int((high > 0).sum())
        kept = int(((low <= high) & (high > 0)).sum())
        by_key[role] = f"never {'above' if low is a else 'below'} {other} in {kept} of {rows} rows"
    for role, other in (("spend", "clicks"), ("sales", "orders")):
        if role in by_key or found.columns.get(role, NONE) == NONE or found.columns.get(other, NONE) == NONE:
            continue
        a, b = (np.nan_to_num(figures.columns[found.columns[name]].figures) for name in (role, other))
        rows = int(((a > 0) | (b > 0)).sum())
        by_key[role] = f"above 0 where {other} are, in {int(((a > 0) & (b > 0)).sum())} of {rows} rows"
    return by_key
