"""
What the columns of a table are for one kind of report: names by how they nest, figures by what holds between them, days
and hours by their cells, each with its heading as one more witness. What a second reading comes close to is asked, not
taken.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

import numpy as np

from nimbus_reef.formats import figure_columns, headings, text_columns, values
from nimbus_reef.formats.assignment import NONE, Assigned
from nimbus_reef.formats.columns import Are, ColumnCells, columns_of
from nimbus_reef.formats.contract import ReportKind
from nimbus_reef.formats.figure_columns import AD_ROLES, CLOSE, CLOSE_UNHEADED, TRADE_ROLES, NumberColumns
from nimbus_reef.formats.raw import RawTable
from nimbus_reef.formats.text_columns import TextColumns
from nimbus_reef.formats.values import DateOrder

_TEXT_ROLES: Final = text_columns.ROLES
_FIGURE_ROLES: Final = (*AD_ROLES, *TRADE_ROLES)
_NO_TRADE_BESIDE: Final = frozenset({"orders", "units", "sales"})
"""Ad measures that a report of all trade has as well: “total” tells which are meant."""
_OTHERS: Final[tuple[tuple[str, tuple[str, ...]], ...]] = (
    ("portfolio", ("portfolio", "portfolio name", "portfolioname", "nom du portefeuille", "cartera", "portafoglio")),
    ("launch_date", ("launch date", "start date of campaign", "campaign start", "created", "erstellt", "created on")),
    ("currency", ("currency", "wahrung", "devise", "moneda", "valuta", "waluta", "valute", "para birimi")),
)
"""Columns that no kind of day has, by their headings: they are none of ours."""
_BY_HEADING: Final = 3.0
_TEXT_LEFT, _NUMBER_LEFT = -2.0, -0.7
_CLOSE_DAYS: Final = 0.4
_HOUR_ROWS: Final = 9


@dataclass(frozen=True, slots=True)
class ColumnRoles:
    """
    A kind's columns in a table. columns: ours → header; asked: ours → the headers that it may be, likeliest first; why:
    ours → what tells it, in words; score: nats; least: the smallest margin of all roles.
    """

    columns: Mapping[str, str]
    asked: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    why: Mapping[str, str] = field(default_factory=dict)
    score: float = 0.0
    least: float = float("inf")


class Witnesses:
    """A table as all kinds are judged by: its columns, and what was found in them once for all."""

    def __init__(self, table: RawTable) -> None:
        self.table = table
        self.columns = columns_of(table)
        self.figures = NumberColumns.of(self.columns)
        self.texts = TextColumns.of(self.columns)
        self.blank = [each.header for each in self.columns if each.are is Are.NOTHING]
        self.days = [each for each in self.columns if each.are is Are.DAYS]
        self.spans = [each for each in self.columns if each.are is Are.SPANS]
        self.is_quotient = {self.figures.columns[each.r].header for each in self.figures.quotients}


def is_witnessed(kind: ReportKind) -> bool:
    """Whether a kind has figures by which its columns can be told."""
    return kind.takes_blocks


def propose(seen: Witnesses, kind: ReportKind) -> ColumnRoles:
    """The columns of a table for a kind whose rows are figures of days."""
    by_key = _heading_nats(seen, kind)
    names = [column.name for column in kind.columns]
    hours, hour_score = _hours(seen, by_key) if "hour" in names else ((), 0.0)
    hour = hours[0] if hours else ""
    text_roles = [role for role in _TEXT_ROLES if role in names]
    text = text_columns.assigned(seen.texts, text_roles, _of(by_key, text_roles, seen.texts.columns))
    headed = _headed_alone(seen, [role for role in _FIGURE_ROLES if role in names], by_key)
    figure_roles = [role for role in _FIGURE_ROLES if role in names and role not in headed]
    figure = figure_columns.assigned(
        seen.figures, figure_roles, _of(by_key, figure_roles, seen.figures.columns), taken=hour
    )
    columns = {role: seen.texts.columns[index].header for role, index in text.columns.items() if index != NONE}
    columns |= {role: seen.figures.columns[index].header for role, index in figure.columns.items() if index != NONE}
    columns |= headed
    days, day_question = _days(seen, kind, by_key)
    columns = _blank_by_heading(seen, kind, columns, by_key)
    columns |= {name: header for name, header in days.items() if header not in columns.values()}
    if hour:
        columns["hour"] = hour
        # Where the heading says hour, rows in the order of the clock may say each name once in the sample.
        hour_score += _repeats(seen, columns) if by_key["hour"][hour] < headings.SURELY else 0.0
    columns |= _by_heading(seen, kind, columns, by_key)
    asked = (
        _asked(seen.texts.columns, text, by_key, CLOSE)
        | _asked(seen.figures.columns, figure, by_key, CLOSE_UNHEADED)
        | day_question
    )
    if len(hours) > 1:
        asked["hour"] = hours
        # The measure in the other candidate column is uncertain too.
        asked |= {
            role: (header, hour)
            for role, header in columns.items()
            if hour and header in hours and header != hour and role not in asked
        }
    explained = (
        set(columns.values()) | seen.is_quotient | {seen.figures.columns[part].header for part in seen.figures.parts}
    )
    texts_left = sum(each.header not in explained and not _is_known(each.header) for each in seen.texts.columns)
    numbers_left = sum(each.header not in explained and not each.never_measure for each in seen.figures.columns)
    return ColumnRoles(
        columns,
        asked,
        _why(seen, columns, figure, by_key),
        text.score + figure.score + hour_score + _TEXT_LEFT * texts_left + _NUMBER_LEFT * numbers_left,
        min([*text.margins.values(), *figure.margins.values()], default=float("inf")),
    )


def _heading_nats(seen: Witnesses, kind: ReportKind) -> dict[str, dict[str, float]]:
    """By column of the kind, the nats of every heading."""
    trade = not kind.has_campaign
    roles: list[tuple[str, Sequence[str], bool | None]] = [
        (
            column.name,
            (column.name.replace("_", " "), *column.words),
            True if column.name in TRADE_ROLES else False if column.name in _NO_TRADE_BESIDE and not trade else None,
        )
        for column in kind.columns
    ]
    roles += [(name, phrases, None) for name, phrases in _OTHERS]
    headers = [each.header for each in seen.columns]
    found = headings.by_role(headers, roles)
    by_key = {name: dict(zip(headers, nats, strict=True)) for name, nats in found.items()}
    # An id, a state or the account is surely headed: such a column plays no other part, whatever its cells look like.
    played = {*_TEXT_ROLES, *_FIGURE_ROLES, "date", "from", "to", "period", "hour"}
    for header in headers:
        if max((by_key[name][header] for name in by_key if name not in played), default=0.0) >= headings.SURELY:
            for name in played & by_key.keys():
                by_key[name][header] = -np.inf
    return by_key


def _is_known(header: str) -> bool:
    return any(headings.nats(header, phrases) >= headings.SURELY for _, phrases in _OTHERS)


def _of(
    by_key: Mapping[str, Mapping[str, float]], roles: Sequence[str], columns: Sequence[ColumnCells]
) -> dict[str, np.ndarray]:
    return {role: np.array([by_key[role][column.header] for column in columns]) for role in roles}


def _headed_alone(seen: Witnesses, roles: Sequence[str], by_key: Mapping[str, Mapping[str, float]]) -> dict[str, str]:
    """
    Roles whose very word heads a column that is blank, or no column of numbers, and no other: no other column takes its
    place, and what is wrong with its cells is told when they are read.
    """
    found: dict[str, str] = {}
    for role in roles:
        nats = by_key[role]
        if any(nats[each.header] >= headings.BESIDE_WINDOW for each in seen.figures.columns):
            continue
        odd = [each.header for each in seen.columns if each.are in (Are.TEXT, Are.NOTHING)]
        free = [header for header in odd if header not in found.values() and nats[header] >= headings.WHOLE]
        if free:
            found[role] = max(free, key=lambda header: nats[header])
    return found


def _blank_by_heading(
    seen: Witnesses, kind: ReportKind, columns: Mapping[str, str], lookup: Mapping[str, Mapping[str, float]]
) -> dict[str, str]:
    """Assigns columns without any value by their heading."""
    by_key = dict(columns)
    for column in kind.columns:
        nats = lookup[column.name]
        free = [header for header in seen.blank if header not in by_key.values() and nats[header] >= _BY_HEADING]
        if column.name not in by_key and free and column.name in (*_TEXT_ROLES, *_FIGURE_ROLES):
            by_key[column.name] = max(free, key=lambda header: nats[header])
    return by_key


def _by_heading(
    seen: Witnesses, kind: ReportKind, columns: Mapping[str, str], lookup: Mapping[str, Mapping[str, float]]
) -> dict[str, str]:
    """The columns of a kind that its figures do not tell: ids, states, shares, the account."""
    by_key: dict[str, str] = {}
    for column in kind.columns:
        if column.name in columns or column.name in (
            *_TEXT_ROLES,
            *_FIGURE_ROLES,
            "date",
            "from",
            "to",
            "period",
            "hour",
        ):
            continue
        taken = {*columns.values(), *by_key.values()}
        free = {
            each.header: lookup[column.name][each.header]
            for each in seen.columns
            if each.header not in taken and lookup[column.name][each.header] >= _BY_HEADING
        }
        if free:
            by_key[column.name] = max(free, key=lambda header: free[header])
    return by_key


def _days(
    seen: Witnesses, kind: ReportKind, by_key: Mapping[str, Mapping[str, float]]
) -> tuple[dict[str, str], dict[str, tuple[str, ...]]]:
    """How the rows tell their days: a span in one column, in two, or a day; and what of it is asked."""
    if not kind.takes_blocks:
        return {}, {}
    if seen.spans:
        best = max(seen.spans, key=lambda each: by_key["period"][each.header])
        return {"period": best.header}, {}
    alone = {each.header: by_key["date"][each.header] for each in seen.days}
    readings: list[tuple[float, dict[str, str]]] = [(nats, {"date": header}) for header, nats in alone.items()]
    for place, first in enumerate(seen.days):
        for last_place, last in enumerate(seen.days):
            if first is last:
                continue
            ordered, distinct = _as_span(first, last)
            if ordered <= 0.95:
                continue
            nats = 1 + max(0.0, by_key["from"][first.header]) + max(0.0, by_key["to"][last.header]) - 2 * distinct
            readings.append((nats + 0.5 * (place < last_place), {"from": first.header, "to": last.header}))
    if not readings:
        return {}, {}
    readings.sort(key=lambda one: one[0], reverse=True)
    score, best_reading = readings[0]
    if score < 0 and "date" in best_reading:
        # The only dates are surely of something else, as a launch.
        return {}, {"date": tuple(alone)}
    near = [reading for nats, reading in readings[1:] if score - nats < _CLOSE_DAYS and set(reading) == {"date"}]
    if near and "date" in best_reading:
        return best_reading, {"date": (best_reading["date"], *(each["date"] for each in near))}
    return best_reading, {}


def _as_span(first: ColumnCells, last: ColumnCells) -> tuple[float, float]:
    """The share of rows in which one date is not after the other, and distinct pairs ÷ rows."""
    order = DateOrder.DAY_FIRST
    known = {
        text: values.one_date(text, order) or values.one_date(text, DateOrder.MONTH_FIRST)
        for text in {*first.texts, *last.texts}
    }
    pairs = [
        (one, other) for a, b in zip(first.texts, last.texts, strict=True) if (one := known[a]) and (other := known[b])
    ]
    if not pairs:
        return 0.0, 1.0
    return sum(one <= other for one, other in pairs) / len(pairs), len(set(pairs)) / len(pairs)


_NO_HOUR: Final = -6.0
_CLOSE_HOURS: Final = 1.0
LAST_HOUR: Final = 23


def _hours(seen: Witnesses, by_key: Mapping[str, Mapping[str, float]]) -> tuple[tuple[str, ...], float]:
    """
    The columns that can be the hour of the day, likeliest first, as far as they come close: whole, 0 – 23, with much of
    the clock seen; and the nats of the first.
    """
    found: list[tuple[float, str]] = []
    for each in seen.columns:
        nats = by_key["hour"][each.header]
        if each.are is Are.DAYS or nats == -np.inf:
            continue
        hours = values.hours(each.texts)
        text = hours[np.isfinite(hours)]
        if (not len(text) or len(text) < 0.85 * len(each.written)) and nats < headings.SURELY:
            continue
        if (
            len(text)
            and text.max() <= LAST_HOUR
            and len(set(text)) >= 0.45 * (LAST_HOUR + 1)
            and (text == 0).mean() < 0.25
        ):
            nats += 2.0 if len(text) >= _HOUR_ROWS else 0.5
        elif nats < _BY_HEADING:
            continue
        if nats > 1.0:
            found.append((nats, each.header))
    found.sort(key=lambda one: one[0], reverse=True)
    near = tuple(header for nats, header in found if found[0][0] - nats < _CLOSE_HOURS)
    return near, found[0][0] if found else _NO_HOUR


def _repeats(seen: Witnesses, columns: Mapping[str, str]) -> float:
    """Nats against hours whose names and days do not come again."""
    names = [columns.get(name) for name in ("campaign", "date", "period", "from")]
    keys = [each for each in seen.columns if each.header in names]
    rows = list(zip(*(each.texts for each in keys), strict=True)) if keys else []
    return 0.0 if len(rows) < _HOUR_ROWS or len(rows) > len(set(rows)) else -9.0


def _asked(
    columns: Sequence[ColumnCells], found: Assigned, by_key: Mapping[str, Mapping[str, float]], unheaded: float
) -> dict[str, tuple[str, ...]]:
    """
    Roles that a second reading comes close to, with all columns in readings that close; several windows of one measure
    always. unheaded: how close where no heading says what a column is.
    """
    asked: dict[str, tuple[str, ...]] = {}
    for role, chosen in found.columns.items():
        if chosen == NONE:
            continue
        headed = by_key[role][columns[chosen].header] >= headings.BESIDE_UNKNOWN
        bound = CLOSE if headed else figure_columns.close(len(columns[chosen].texts), unheaded)
        near = [columns[index].header for index, gap in found.rivals[role].items() if index != NONE and gap <= bound]
        if found.margins[role] < bound and len(near) > 1:
            asked[role] = tuple(near)
        windows = [
            each.header
            for each in columns
            if headings.names_window(each.header) and by_key[role][each.header] >= headings.BESIDE_WINDOW
        ]
        if len(windows) > 1 and columns[chosen].header in windows:
            asked[role] = tuple(dict.fromkeys([columns[chosen].header, *windows]))
    return asked


def _why(
    seen: Witnesses, columns: Mapping[str, str], figure: Assigned, by_key: Mapping[str, Mapping[str, float]]
) -> dict[str, str]:
    cells = figure_columns.reasons(seen.figures, figure)
    found = {}
    for role, header in columns.items():
        heading = by_key.get(role, {}).get(header, 0.0)
        texts = ["its heading"] if heading >= headings.BESIDE_UNKNOWN else []
        if role in cells:
            texts.append(cells[role])
        elif role in ("date", "from", "to", "period") and not texts:
            texts.append("its cells are dates")
        if texts:
            found[role] = "; ".join(texts)
    return found
