"""
Strange headers to our columns: a suggestion from header words and from the cells below.

The person sees the suggestion beside sample rows and changes what is wrong; this only
has to be right often and never confident without ground.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
import polars as pl
from rapidfuzz import fuzz, process, utils

from nimbus_reef.errors import BadInput
from nimbus_reef.formats import values
from nimbus_reef.formats.contract import DAY_COLUMNS, Column, Holds, ReportKind
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.tables import RawTable

_ENOUGH = 72.0
"""Least likeness (0 … 100) at which a header is suggested for a column."""
_SAMPLE = 200


@dataclass(frozen=True, slots=True)
class ColumnMap:
    """Which header feeds which column of a kind, and how ambiguous dates are read."""

    kind: str
    columns: Mapping[str, str]
    date_order: values.DateOrder = values.DateOrder.UNKNOWN

    def as_json(self) -> dict[str, object]:
        """A plain form for storing."""
        return {"kind": self.kind, "columns": dict(self.columns), "date_order": self.date_order.value}

    @staticmethod
    def from_json(data: Mapping[str, object]) -> ColumnMap:
        """The mapping that `as_json` wrote."""
        columns = data.get("columns")
        return ColumnMap(
            kind=str(data["kind"]),
            columns={str(k): str(v) for k, v in columns.items()} if isinstance(columns, dict) else {},
            date_order=values.DateOrder(str(data.get("date_order", "unknown"))),
        )


@dataclass(frozen=True, slots=True)
class Suggestion:
    """A mapping that may be right, how well it fits (0 … 1), and what it leaves open."""

    mapping: ColumnMap
    fit: float
    missing: tuple[str, ...] = ()
    ask_date_order: bool = False
    unused: tuple[str, ...] = field(default=())


def signature(headers: tuple[str, ...]) -> str:
    """What makes two files come from the same source: the same headers in any order."""
    return hashlib.sha256("\x1f".join(sorted(headers)).encode()).hexdigest()


def _likeness(headers: tuple[str, ...], columns: tuple[Column, ...]) -> np.ndarray:
    """Header × column likeness 0 … 100 by words; the best of a column's known headings."""
    best = np.zeros((len(headers), len(columns)))
    for index, column in enumerate(columns):
        known = [column.name.replace("_", " "), *column.words]
        scores = process.cdist(headers, known, scorer=fuzz.token_sort_ratio, processor=utils.default_process)
        contained = process.cdist(
            headers, known, scorer=fuzz.token_set_ratio, processor=utils.default_process
        )
        # A heading inside a longer header counts, less than one that is the header.
        best[:, index] = np.maximum(scores, 0.86 * contained).max(axis=1)
    return best


class _Sample:
    """The first cells of a file; what each header's could be is worked out once for all kinds."""

    def __init__(self, table: RawTable) -> None:
        self._cells = {header: values.trimmed(table.frame[header].head(_SAMPLE)) for header in table.headers}
        self._said = {header: cells.filter(~values.empty(cells)) for header, cells in self._cells.items()}
        self._known: dict[tuple[object, ...], float] = {}

    def fits(self, header: str, column: Column) -> float:
        """How well the cells could be this column: 0 (not at all) … 1."""
        key = (header, column.holds, _id_like(column), column.anything, tuple(column.aliases))
        if key not in self._known:
            self._known[key] = _fits(self._said[header], column)
        return self._known[key]

    def dated(self, header: str) -> bool:
        """True when most cells that say something hold a date, written as one."""
        key = (header, "dated")
        if key not in self._known:
            written = self._said[header].str.contains(r"^\d{1,4}[-/. ]\w{1,9}[-/. ]\d{1,4}")
            self._known[key] = float(written.mean() or 0)  # type: ignore[arg-type]
        return self._known[key] > 0.6


def _id_like(column: Column) -> bool:
    return column.name.endswith("_id") or column.name == "sku"


def _fits(said: pl.Series, column: Column) -> float:
    if said.is_empty():
        return 0.6
    if column.anything:
        return 1.0
    match column.holds:
        case Holds.DATE | Holds.WEEK | Holds.MONTH:
            either = (values.DateOrder.DAY_FIRST, values.DateOrder.MONTH_FIRST)
            day, month = (values.months(said, order).is_not_null() for order in either)
            good = day | month
        case Holds.TIME:
            good = values.times(said, "UTC").is_not_null()
        case Holds.CHOICE:
            good = values.choices(said, column.aliases).is_not_null()
        case Holds.TEXT:
            dated = said.str.contains(r"^\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}")
            # An id may be a number; a name that is one would be a strange name.
            good = (
                ~dated
                if _id_like(column)
                else ~(dated | values.numbers(said, values.Style.DOT).is_not_null())
            )
        case _:
            good = values.numbers(said, values.Style.DOT).is_not_null()
    return float(good.mean() or 0.0)  # type: ignore[arg-type]  # the mean of booleans is a float


def suggest(table: RawTable, kind: ReportKind) -> Suggestion:
    """The best one-to-one mapping of a file's headers to one kind's columns."""
    return _suggest(table, kind, _Sample(table))


def _suggest(table: RawTable, kind: ReportKind, sample: _Sample) -> Suggestion:
    # Half a second of import that every other command would pay for.
    from scipy.optimize import linear_sum_assignment

    headers, columns = table.headers, kind.columns
    likeness = _likeness(headers, columns)
    score = likeness.copy()
    for row, header in enumerate(headers):
        for index, column in enumerate(columns):
            if likeness[row, index] >= _ENOUGH * 0.8:
                score[row, index] *= 0.35 + 0.65 * sample.fits(header, column)
            elif column.name in DAY_COLUMNS:
                # A column of dates is the day, however it is headed.
                score[row, index] = (_ENOUGH + 1) * sample.dated(header)
    rows, picks = linear_sum_assignment(-score)
    chosen = {
        columns[index].name: headers[row]
        for row, index in zip(rows, picks, strict=True)
        if score[row, index] >= _ENOUGH
    }
    missing = tuple(c.name for c in columns if c.required and c.name not in chosen)
    required = sum(column.required for column in columns)
    optional = sum(not column.required for column in columns) or 1
    found_optional = sum(1 for c in columns if not c.required and c.name in chosen)
    quality = np.mean(
        [score[row, i] for row, i in zip(rows, picks, strict=True) if score[row, i] >= _ENOUGH] or [0]
    )
    fit = (1 - len(missing) / required) * (0.8 + 0.1 * found_optional / optional + 0.1 * quality / 100)
    unused = tuple(header for header in headers if header not in chosen.values())
    order = values.DateOrder.UNKNOWN
    ask = False
    for column in columns:
        if column.holds.dated and column.name in chosen:
            found = values.date_order(table.frame[chosen[column.name]])
            ask = ask or found is values.DateOrder.UNKNOWN
            order = found if found not in (None, values.DateOrder.UNKNOWN) else order
    # Columns that a kind does not use tell against it, the more so the more they are.
    fit *= 1 - 0.3 * len(unused) / max(1, len(headers))
    return Suggestion(ColumnMap(kind.name, chosen, order), float(fit), missing, ask, unused)


def suggest_kind(table: RawTable) -> list[Suggestion]:
    """A suggestion for every kind, best first."""
    sample = _Sample(table)
    found = [_suggest(table, kind, sample) for kind in KINDS.values()]
    return sorted(found, key=lambda each: each.fit, reverse=True)


def checked(mapping: ColumnMap, headers: tuple[str, ...]) -> ColumnMap:
    """The mapping, or BadInput when it names unknown things, a header twice, or lacks one."""
    if mapping.kind not in KINDS:
        raise BadInput(f"“{mapping.kind}” is no report kind.", remedy="Choose one from the list.")
    kind = KINDS[mapping.kind]
    known = {column.name for column in kind.columns}
    used: dict[str, str] = {}
    for column, header in mapping.columns.items():
        if column not in known or header not in headers:
            raise BadInput(
                f"“{header}” cannot feed “{column}”.", remedy="Choose among the file's own columns."
            )
        if header in used:
            raise BadInput(
                f"“{header}” is chosen for both {used[header]} and {column}.",
                remedy="Leave one of them empty.",
            )
        used[header] = column
    missing = [c.name for c in kind.columns if c.required and c.name not in mapping.columns]
    if missing:
        raise BadInput(
            f"No column of the file is chosen for {', '.join(missing)}.",
            remedy=f"{kind.title} need {'it' if len(missing) == 1 else 'them'}; "
            "choose a column, or another kind of report.",
        )
    return mapping
