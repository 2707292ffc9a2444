"""
Strange headers to our columns: a suggestion from header words and from the cells below.

The person sees the suggestion beside sample rows and changes what is wrong; this only
has to be right often and never confident without ground.
"""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Final

import numpy as np
import polars as pl
from rapidfuzz import fuzz, process, utils

from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.formats import headings, values
from nimbus_reef.formats.column_roles import ColumnRoles, Witnesses, is_witnessed, propose
from nimbus_reef.formats.contract import DAY_COLUMNS, SPAN_COLUMNS, CellKind, Column, Replaces, ReportKind
from nimbus_reef.formats.kinds import KINDS, READ_KINDS
from nimbus_reef.formats.raw import AS_FOUND, Layout, RawTable

KIND_SURE: Final = 0.5
"""From which share of a kind on it is not asked which kind it is."""
_ENOUGH = 72.0
"""Least likeness (0 … 100) at which a header is suggested for a column."""
_SAMPLE = 200


_AMOUNTS: Final = frozenset({"bid", "ad_group_bid", "default_bid", "daily_budget"})
NAMED_BY_ID: Final = {
    "campaign": "campaign_id",
    "ad_group": "ad_group_id",
    "target": "target_id",
    "match_type": "target_id",
}
"""Names that rows may leave to the id beside them."""


@dataclass(frozen=True, slots=True)
class ColumnMap:
    """
    How some rows of a file are read as one kind.

    columns: our column → the file's header. date_order, decimal: how ambiguous dates and figures
    are read, decimal None where the file's own cells say. days: which days a file without dates
    covers (of settings: its last). values: column → the file's word → ours, on top of what is
    known. sheet: of a workbook, the only one when empty. told_by, only: the header whose cells
    tell what a row is, and which of them are read here; all rows when empty. rate: what one unit of the file's currency
    is in the account's; None where they are the same. layout: separator and header line, as chosen by the user. beside:
    settings from a column of a performance report, such as its bids; they apply to its last day until a settings report
    is loaded.
    """

    kind: str
    columns: Mapping[str, str]
    date_order: values.DateOrder = values.DateOrder.UNKNOWN
    decimal: values.Style | None = None
    days: Window | None = None
    values: Mapping[str, Mapping[str, str]] = field(default_factory=dict)
    sheet: str = ""
    told_by: str = ""
    only: tuple[str, ...] = ()
    rate: float | None = None
    layout: Layout = AS_FOUND
    beside: bool = False

    @property
    def dated(self) -> bool:
        """True when the rows tell their own days, one by one or as spans."""
        kind = READ_KINDS[self.kind]
        if kind.day_column is None or kind.day_column in self.columns:
            return True
        return kind.takes_blocks and ("period" in self.columns or {"from", "to"} <= set(self.columns))

    @property
    def row_is(self) -> str:
        """What one row is under this mapping: of one day, or the sum of those that it or the file covers."""
        kind = READ_KINDS[self.kind]
        if kind.takes_blocks and kind.day_column not in self.columns:
            return kind.row_is.replace("× day", "× the days that it is the sum of")
        return kind.row_is

    @property
    def needs_days(self) -> bool:
        """True when somebody has to say which days the file covers."""
        return not self.dated and self.days is None and READ_KINDS[self.kind].day_column == "date"

    def assumes(self) -> dict[str, str]:
        """
        Columns that the file does not have, with what every row is taken to be; of rows of days a bid or a budget has
        to tell that they are settings.
        """
        kind = READ_KINDS[self.kind]
        if kind.replaces is Replaces.DAYS and not _AMOUNTS & set(self.columns):
            return {}
        return {
            column.name: column.assumed for column in kind.columns if column.assumed and column.name not in self.columns
        }

    def lacks(self) -> tuple[str, ...]:
        """Columns that have to be there and are not; a day is asked for, a name may follow from its id."""
        kind = READ_KINDS[self.kind]
        asked = {"date"} if kind.day_column == "date" and (kind.takes_blocks or kind.is_settings) else set()
        named = {name for name, its_id in NAMED_BY_ID.items() if its_id in self.columns}
        needed = (column.name for column in kind.columns if column.required and column.name not in self.assumes())
        return tuple(name for name in needed if name not in self.columns and name not in asked | named)


@dataclass(frozen=True, slots=True)
class Suggestion:
    """
    A mapping that may be right, how well it fits (0 … 1), and what it leaves open. asked: ours → the headers between
    which somebody has to choose, likeliest first; why: ours → what tells its column, in words; confidence: 0 … 1 that
    nothing of it is wrong; kind_share: 0 … 1 that it is of this kind, among all kinds of figures.
    """

    mapping: ColumnMap
    fit: float
    missing: tuple[str, ...] = ()
    unused: tuple[str, ...] = field(default=())
    asked: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    why: Mapping[str, str] = field(default_factory=dict)
    confidence: float = 1.0
    kind_share: float = 1.0


def signature(headers: Sequence[str], told_by: str = "") -> str:
    """What makes two tables come from the same source: the same headers in any order, told apart alike."""
    named = [*sorted(headers), *([told_by] if told_by else [])]
    return hashlib.sha256("\x1f".join(named).encode()).hexdigest()


def _likeness(headers: tuple[str, ...], columns: tuple[Column, ...]) -> np.ndarray:
    """Header × column likeness 0 … 100 by words; the best of a column's known headings."""
    best = np.zeros((len(headers), len(columns)))
    for index, column in enumerate(columns):
        known = [column.name.replace("_", " "), *column.words]
        scores = process.cdist(headers, known, scorer=fuzz.token_sort_ratio, processor=utils.default_process)
        contained = process.cdist(headers, known, scorer=fuzz.token_set_ratio, processor=utils.default_process)
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
        key = (header, column.holds, _id_like(column), column.anything)
        if key not in self._known:
            self._known[key] = _fits(self._said[header], column)
        return self._known[key]

    def repeats(self, headers: Sequence[str]) -> float:
        """The share of rows that say the same as another under these headers; 0 … 1."""
        rows = pl.DataFrame({header: self._cells[header] for header in headers})
        return 1 - rows.n_unique() / len(rows) if len(rows) else 0.0


def _id_like(column: Column) -> bool:
    return column.name.endswith("_id") or column.name == "sku"


def _fits(series: pl.Series, column: Column) -> float:
    if series.is_empty():
        return 0.6
    if column.anything:
        return 1.0
    match column.holds:
        case CellKind.DATE | CellKind.WEEK | CellKind.MONTH:
            either = (values.DateOrder.DAY_FIRST, values.DateOrder.MONTH_FIRST)
            day, month = (values.months(series, order).is_not_null() for order in either)
            good = day | month
        case CellKind.TIME:
            good = values.times(series, "UTC").is_not_null()
        case CellKind.PERIOD:
            first, last = values.periods(series, values.DateOrder.DAY_FIRST)
            good = (first < last).fill_null(False)
        case CellKind.CHOICE:
            # Words that are not known are asked about; figures are not words.
            good = values.numbers(series, values.Style.DOT).is_null()
        case CellKind.TEXT:
            dated = series.str.contains(r"^\d{1,4}[-/.]\d{1,2}[-/.]\d{1,4}")
            # An id may be a number; a name that is one would be a strange name.
            good = ~dated if _id_like(column) else ~(dated | values.numbers(series, values.Style.DOT).is_not_null())
        case _:
            either_sign = (values.numbers(series, style).is_not_null() for style in values.Style)
            dot, comma = either_sign
            good = dot | comma
    return float(good.mean() or 0.0)  # type: ignore[arg-type]  # the mean of booleans is a float


def suggest(table: RawTable, kind: ReportKind) -> Suggestion:
    """The best one-to-one mapping of a file's headers to one kind's columns."""
    return _suggest(table, kind, _Sample(table), Witnesses(table))[0]


def _suggest(
    table: RawTable, kind: ReportKind, sample: _Sample, seen: Witnesses
) -> tuple[Suggestion, ColumnRoles | None]:
    """The suggestion for a kind; with it what the cells say, of kinds whose cells say anything."""
    proposed = propose(seen, kind) if is_witnessed(kind) else None
    chosen, quality = _by_headings(table, kind, sample, seen) if proposed is None else (proposed.columns, 1.0)
    mapping = ColumnMap(kind.name, chosen, sheet=table.sheet, layout=table.chosen_layout)
    return _with_fit(table, kind, sample, mapping, quality, proposed), proposed


def _by_headings(table: RawTable, kind: ReportKind, sample: _Sample, seen: Witnesses) -> tuple[dict[str, str], float]:
    """
    Header words and what cells can be: for kinds that have no figures to tell them by. With it the mean likeness, 0 …
    1.
    """
    # Half a second of import that every other command would pay for.
    from scipy.optimize import linear_sum_assignment

    headers, columns = table.headers, kind.columns
    likeness = _likeness(headers, columns)
    for row, header in enumerate(headers):
        for index, column in enumerate(columns):
            # A rate or a total is another thing than the bare word, and a quotient of two columns is nothing that is
            # set.
            phrases = (column.name.replace("_", " "), *column.words)
            if headings.nats(header, phrases) == headings.ANOTHER_THING or (
                header in seen.is_quotient and column.holds in (CellKind.COUNT, CellKind.MONEY)
            ):
                likeness[row, index] *= 0.3
    score = likeness.copy()
    days = {each.header for each in (*seen.days, *seen.spans)}
    for row, header in enumerate(headers):
        for index, column in enumerate(columns):
            if likeness[row, index] >= _ENOUGH * 0.8:
                score[row, index] *= 0.35 + 0.65 * sample.fits(header, column)
            elif column.name in DAY_COLUMNS:
                # A column of dates is the day, however it is headed.
                score[row, index] = (_ENOUGH + 1) * (header in days)
    rows, picks = linear_sum_assignment(-score)
    chosen = {
        columns[index].name: headers[row]
        for row, index in zip(rows, picks, strict=True)
        if score[row, index] >= _ENOUGH
    }
    quality = np.mean([score[row, i] for row, i in zip(rows, picks, strict=True) if score[row, i] >= _ENOUGH] or [0])
    return chosen, float(quality) / 100


def _with_fit(
    table: RawTable, kind: ReportKind, sample: _Sample, mapping: ColumnMap, quality: float, proposed: ColumnRoles | None
) -> Suggestion:
    headers, columns, chosen = table.headers, kind.columns, mapping.columns
    missing = mapping.lacks()
    required = sum(column.required for column in columns)
    # Of the columns that tell the days one way is enough.
    counted = [column for column in columns if column.name not in SPAN_COLUMNS]
    optional = sum(not column.required for column in counted) or 1
    found_optional = sum(1 for c in counted if not c.required and c.name in chosen)
    fit = (1 - len(missing) / required) * (0.8 + 0.1 * found_optional / optional + 0.1 * quality)
    unused = tuple(header for header in headers if header not in chosen.values())
    order = values.DateOrder.UNKNOWN
    for column in columns:
        if column.holds.dated and column.name in chosen:
            found = values.date_order(table.frame[chosen[column.name]])
            order = found if found not in (None, values.DateOrder.UNKNOWN) else order
    # Columns that a kind does not use tell against it, the more so the more they are.
    fit *= 1 - 0.3 * len(unused) / max(1, len(headers))
    # So do rows that it cannot tell apart, though the file does.
    fit *= 1 - 0.3 * sample.repeats(
        [chosen[name] for name in (*kind.key, *DAY_COLUMNS, *SPAN_COLUMNS) if name in chosen]
    )
    if not mapping.dated:
        fit *= _UNDATED
    dated = replace(mapping, date_order=order)
    if proposed is None:
        return Suggestion(dated, float(fit), missing, unused)
    return Suggestion(dated, float(fit), missing, unused, proposed.asked, proposed.why)


_UNDATED: Final = 0.97


def suggest_kind(table: RawTable) -> list[Suggestion]:
    """A suggestion for every kind, best first."""
    sample, seen = _Sample(table), Witnesses(table)
    found = [_suggest(table, kind, sample, seen) for kind in KINDS.values()]
    pairs = [(suggestion, proposed) for suggestion, proposed in found if proposed is not None]
    return sorted(
        [*_by_their_cells(pairs), *(suggestion for suggestion, proposed in found if proposed is None)],
        key=lambda each: each.fit,
        reverse=True,
    )


def _by_their_cells(pairs: Sequence[tuple[Suggestion, ColumnRoles]]) -> list[Suggestion]:
    """
    The kinds of figures in the order of what their cells say, each with the next fit of all of theirs; with the share
    of the first among all (softmax) and its smallest margin as confidence.
    """
    whole = [each for each in pairs if not each[0].missing]
    rest = [suggestion for suggestion, _ in pairs if suggestion.missing]
    fits = sorted((suggestion.fit for suggestion, _ in whole), reverse=True)
    order = sorted(whole, key=lambda each: each[1].score, reverse=True)
    scores = np.array([proposed.score for _, proposed in whole]) / 2
    total = np.exp(scores - scores.max()).sum() if len(scores) else 1.0
    entries = []
    for fit, (suggestion, proposed) in zip(fits, order, strict=True):
        share = float(np.exp(proposed.score / 2 - scores.max()) / total)
        sure = share * (1 - float(np.exp(-min(proposed.least, 1e3) / 2)))
        entries.append(replace(suggestion, fit=fit, confidence=sure, kind_share=share))
    return entries + rest


SETTINGS_OF: Final = {"target_daily": "targets", "search_term_daily": "targets"}
"""Performance reports that often have a bid column, and the settings it belongs to."""


def settings_beside(maps: Sequence[ColumnMap], table: RawTable) -> list[ColumnMap]:
    """Mappings for the bid column of performance reports. Only a heading that means a bid and nothing else counts."""
    read = {each.kind for each in maps}
    found = []
    for figures in maps:
        kind = READ_KINDS.get(SETTINGS_OF.get(figures.kind, ""))
        if kind is None or kind.name in read or figures.told_by:
            continue
        columns = {
            name: header for name, header in figures.columns.items() if name in {each.name for each in kind.columns}
        }
        for column in kind.columns:
            if column.name not in columns and column.name not in DAY_COLUMNS:
                phrases = (column.name.replace("_", " "), *column.words)
                left = [header for header in table.headers if header not in figures.columns.values()]
                meant = [header for header in left if headings.nats(header, phrases) >= headings.WHOLE]
                columns |= {column.name: meant[0]} if len(meant) == 1 else {}
        day = next((figures.columns[name] for name in ("to", "period") if name in figures.columns), None)
        column_map = replace(figures, kind=kind.name, columns=columns | ({"date": day} if day else {}), beside=True)
        if _AMOUNTS & set(columns) and not column_map.lacks():
            found.append(column_map)
    return found


def days_told(table: RawTable, file_name: str) -> Window | None:
    """
    The days that the title, the sheet's or the file's name tells, a span or a month before a single day; None where
    none does.
    """
    entries = (table.title, table.sheet, file_name)
    for make in (values.period_in, values.month_in):
        for text in entries:
            if span := make(text):
                return Window(*span)
    for text in entries:
        if day := values.day_in(text):
            return Window(day, day)
    return None


def checked(mapping: ColumnMap, headers: tuple[str, ...]) -> ColumnMap:
    """The mapping, or BadInput when it names unknown things, a header twice, or lacks one."""
    if mapping.kind not in READ_KINDS:
        raise BadInput(f"“{mapping.kind}” is not a kind of report.", remedy="Choose one from the list.")
    kind = READ_KINDS[mapping.kind]
    known = {column.name for column in kind.columns}
    used: dict[str, str] = {}
    for column, header in mapping.columns.items():
        if column not in known or header not in headers:
            raise BadInput(f"“{header}” cannot feed “{column}”.", remedy="Choose among the file's own columns.")
        if header in used:
            raise BadInput(
                f"“{header}” is chosen for both {used[header]} and {column}.", remedy="Leave one of them empty."
            )
        used[header] = column
    _one_way_to_tell_days(mapping)
    missing = mapping.lacks()
    if missing:
        raise BadInput(
            f"No column of the file is chosen for {', '.join(missing)}.",
            remedy=(
                f"The report “{kind.title.lower()}” needs {'it' if len(missing) == 1 else 'them'}; "
                "choose a column, or another kind of report."
            ),
        )
    return mapping


def _one_way_to_tell_days(mapping: ColumnMap) -> None:
    if not READ_KINDS[mapping.kind].takes_blocks:
        return
    spans = [name for name in SPAN_COLUMNS if name in mapping.columns]
    if "date" in mapping.columns and spans:
        raise BadInput(
            f"The days are told twice: by date and by {' and '.join(spans)}.",
            remedy="Keep either the day of each row, or the days from and to.",
        )
    if len(spans) == 3 or spans in (["from"], ["to"]):
        raise BadInput(
            "The days of a sum need their first and their last, in two columns or in one.",
            remedy="Choose both from and to, or only period.",
        )
