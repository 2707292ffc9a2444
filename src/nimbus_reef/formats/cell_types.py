"""
The columns of a report: cells to typed values, and for every cell that fails the reason.

Columns of texts are read once for each combination of them (`formats.distinct_texts`).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Final

import polars as pl

from nimbus_reef.core.model import MICRO
from nimbus_reef.formats import parallel_columns, values
from nimbus_reef.formats.contract import SPAN_COLUMNS, CellKind, Column, ReportKind
from nimbus_reef.formats.distinct_texts import DistinctTexts
from nimbus_reef.formats.kinds import READ_KINDS
from nimbus_reef.formats.mapping import ColumnMap
from nimbus_reef.formats.raw import LINE, no_problems
from nimbus_reef.formats.values import Style

MOST_UNITS: Final = 10**12
"""No figure of money is larger than this many units, nor the sum of a file's."""
MOST_COUNTED: Final = 2**32 - 1
"""No count in one row is larger."""
REJECTED: Final = "-"
"""Said of a word of a closed list: its rows are to be turned away."""


def words_of(column: Column, mapping: ColumnMap) -> dict[str, str]:
    """What the words of a closed list mean: what is known, and what was said of this file."""
    given = mapping.values.get(column.name)
    if not given:
        return dict(column.aliases)
    plain = values.letters(pl.Series(list(given), dtype=pl.String)).to_list()
    by_key = {letters: meaning for letters, meaning in zip(plain, given.values(), strict=True) if meaning != REJECTED}
    return {**column.aliases, **by_key}


@dataclass(frozen=True, slots=True)
class CellReading:
    """How a file's dates, figures and times are to be read. zone: in which times without an offset are."""

    mapping: ColumnMap
    style: Style
    zone: str
    numeric: frozenset[str] = field(default_factory=frozenset)

    def style_of(self, column: Column) -> Style:
        """Number cells have a point, whatever the text cells beside them have."""
        return Style.DOT if self.mapping.columns.get(column.name) in self.numeric else self.style


def typed(cells: DistinctTexts, kind: ReportKind, reading: CellReading) -> tuple[DistinctTexts, pl.DataFrame]:
    """The rows of which every cell can be read, and what is wrong with the others: line, column, value, reason."""
    rows, frame = cells.rows, cells.distinct
    entries: list[pl.Series] = [rows[LINE], cells.codes]
    texts: list[pl.Series] = []
    rejects: list[pl.DataFrame] = []
    bad = pl.Series([False], dtype=pl.Boolean).new_from_index(0, len(rows))
    spans = (*SPAN_COLUMNS, kind.day_column) if kind.takes_blocks else ()
    columns = [column for column in kind.columns if column.name not in spans]

    def read(column: Column) -> tuple[pl.Series, pl.Series]:
        if column.name in frame.columns:
            value, reason = _said_read(frame, column, reading)
            return value, _allowed_blank(frame, column, kind, reading, reason)
        return _day_given(column, reading, len(rows)) or _figures_read(rows, column, reading)

    for column, (value, reason) in zip(columns, parallel_columns.each(read, columns, len(rows)), strict=True):
        if column.name in frame.columns:
            texts.append(value.alias(column.name))
            if reason.null_count() < len(reason):
                series = cells.spread(frame[column.name])
                bad = _noted(rows, column.name, series, cells.spread(reason), bad, rejects)
            continue
        series = rows[column.name] if column.name in rows.columns else _NOTHING.new_from_index(0, len(rows))
        bad = _noted(rows, column.name, series, reason, bad, rejects)
        entries.append(value.alias(column.name))
    if kind.takes_blocks:
        days, name, series, reason = _spans(rows, reading)
        bad = _noted(rows, name, series, reason, bad, rejects)
        entries += days
    problems = pl.concat(rejects).sort("line", maintain_order=True) if rejects else no_problems()
    return DistinctTexts(pl.DataFrame(entries), pl.DataFrame(texts)).filter(~bad), problems


_NOTHING: Final = pl.Series([""], dtype=pl.String)


def _figures_read(rows: pl.DataFrame, column: Column, reading: CellReading) -> tuple[pl.Series, pl.Series]:
    """`_column` of a column of figures or dates, also of one that the file does not have."""
    if column.name in rows.columns:
        return _column(rows[column.name], column, reading)
    return _nothing_read(column, len(rows))


def _said_read(rows: pl.DataFrame, column: Column, reading: CellReading) -> tuple[pl.Series, pl.Series]:
    """`_column` of a column of texts; one that the file does not have is what is assumed, else empty in every row."""
    cells = rows[column.name]
    if assumed := reading.mapping.assumes().get(column.name):
        return pl.Series(column.name, [assumed], dtype=pl.String).new_from_index(0, len(rows)), _no_reasons(len(rows))
    if column.name not in reading.mapping.columns and cells.max() == "":
        return _nothing_read(column, len(rows))
    return _column(cells, column, reading)


def _nothing_read(column: Column, rows: int) -> tuple[pl.Series, pl.Series]:
    """What so many empty cells are."""
    value = pl.Series(column.name, [0 if column.summed else None], dtype=_TYPES.get(column.holds, pl.Float64))
    missing = "is missing" if column.required and not column.summed else None
    reason = pl.Series("reason", [missing], dtype=pl.String)
    return value.new_from_index(0, rows), reason.new_from_index(0, rows)


_TYPES: Final[Mapping[CellKind, pl.DataType | type[pl.DataType]]] = {
    CellKind.TEXT: pl.String,
    CellKind.CHOICE: pl.String,
    CellKind.COUNT: pl.Int64,
    CellKind.HOUR: pl.Int64,
    CellKind.MONEY: pl.Int64,
    CellKind.DATE: pl.Date,
    CellKind.WEEK: pl.Date,
    CellKind.MONTH: pl.Date,
    CellKind.TIME: pl.Datetime("us"),
}
"""What the cells of a column become; figures otherwise."""


def _allowed_blank(
    rows: pl.DataFrame, column: Column, kind: ReportKind, reading: CellReading, reason: pl.Series
) -> pl.Series:
    """A text that may be left open beside another, as the ad group of what holds for a whole campaign."""
    if column.blank_with is None:
        return reason
    beside, start = column.blank_with
    words = values.choices(rows[beside], words_of(kind.column(beside), reading.mapping))
    allowed = (rows[column.name] == "") & words.str.starts_with(start).fill_null(False)
    return when(~allowed, reason)


def _noted(
    frame: pl.DataFrame, name: str, cells: pl.Series, reason: pl.Series, bad: pl.Series, rejects: list[pl.DataFrame]
) -> pl.Series:
    """Adds the rows with a reason to the rejects; which rows are bad by now."""
    failed = reason.is_not_null()
    if not failed.any():
        return bad
    rejects.append(
        pl.DataFrame([frame[LINE].alias("line"), cells.alias("value"), reason.alias("reason")])
        .filter(failed)
        .select("line", pl.lit(name).alias("column"), pl.col("value").str.strip_chars(), "reason")
    )
    return bad | failed


def _no_reasons(rows: int) -> pl.Series:
    return pl.Series("reason", [None], dtype=pl.String).new_from_index(0, rows)


def _day_given(column: Column, reading: CellReading, rows: int) -> tuple[pl.Series, pl.Series] | None:
    """The day of settings whose file tells none: the last of those that somebody said."""
    mapping = reading.mapping
    if column.name != "date" or "date" in mapping.columns or mapping.days is None:
        return None
    return pl.Series("date", [mapping.days.last], dtype=pl.Date).new_from_index(0, rows), _no_reasons(rows)


def _spans(frame: pl.DataFrame, reading: CellReading) -> tuple[list[pl.Series], str, pl.Series, pl.Series]:
    """`first_day` and `date` of every row, and what is wrong with the cells that tell them."""
    mapping, rows = reading.mapping, len(frame)
    given = mapping.columns
    if "period" in given:
        name, cells = "period", frame["period"]
        first, last = values.periods(cells, mapping.date_order)
        wrong = "has no readable dates"
    elif "from" in given:
        name, cells = "from", pl.select(pl.concat_str(frame["from"], pl.lit(" – "), frame["to"])).to_series()
        first, last = (values.dates(frame[end], mapping.date_order) for end in ("from", "to"))
        backwards = (last < first).fill_null(False)
        last = when(~backwards, last)
        wrong = "are not two readable dates in order"
    elif "date" in given:
        name, cells, wrong = "date", frame["date"], "is not a readable date"
        first = last = values.dates(cells, mapping.date_order)
    else:
        assert mapping.days is not None, "asked for before parsing"
        days = mapping.days
        name, cells, wrong = "date", frame[LINE].cast(pl.String), ""
        first, last = (pl.Series([day], dtype=pl.Date).new_from_index(0, rows) for day in (days.first, days.last))
    unread = first.is_null() | last.is_null()
    reason = _no_reasons(rows)
    if unread.any():
        missing = unread & values.empty(cells)
        reason = pl.select(
            pl.when(pl.lit(missing)).then(pl.lit("is missing")).when(pl.lit(unread)).then(pl.lit(wrong)).alias("reason")
        ).to_series()
    return [last.alias("date"), first.alias("first_day")], name, cells, reason


def _column(cells: pl.Series, column: Column, reading: CellReading) -> tuple[pl.Series, pl.Series]:
    """The typed cells of one column, and for each cell that fails the reason."""
    match column.holds:
        case CellKind.TEXT:
            # A name may be a dash or “null”; only white space is nothing.
            value, wrong = when(cells != "", cells), ""
        case CellKind.DATE | CellKind.WEEK | CellKind.MONTH | CellKind.TIME:
            value = dated(cells, column, reading.mapping, reading.zone)
            wrong = f"is no {column.holds} that can be read"
        case CellKind.CHOICE:
            value = values.choices(cells, words_of(column, reading.mapping))
            wrong = f"is none of {', '.join(sorted(set(column.aliases.values())))}"
        case CellKind.HOUR:
            distinct = cells.unique()
            read = pl.Series(values.hours(values.trimmed(distinct).to_list()), nan_to_null=True).cast(pl.Int64)
            value = cells.replace_strict(distinct, read, default=None, return_dtype=pl.Int64)
            wrong = "is not an hour such as 14, 14:00 or 2 PM"
        case _:
            style = reading.style_of(column)
            value = _number(cells, column, style, reading.mapping.rate)
            wrong = "is not a readable number"
            if column.name in reading.mapping.columns:
                wrong += f" with a decimal {'comma' if style is Style.COMMA else 'point'}"
    unread = value.is_null()
    reason = _no_reasons(len(cells))
    if unread.any():
        # What says nothing is nothing; only the cells that gave no value have to be looked at.
        blank = (cells == "") if column.holds is CellKind.TEXT else values.empty(values.trimmed(cells))
        missing = "is missing" if column.required and not column.summed else None
        unknown = cells.str.contains(values.NOT_KNOWN).fill_null(False)
        reason = pl.select(
            pl.when(pl.lit(unread & blank))
            .then(pl.lit(missing, pl.String))
            .when(pl.lit(unread & unknown))
            .then(pl.lit("is an error of the report, not a value"))
            .when(pl.lit(unread))
            .then(pl.lit(wrong))
            .otherwise(None)
            .alias("reason")
        ).to_series()
        if column.summed:
            value = when(~(unread & blank), value, 0)
    return _ranged(value, reason, column)


def dated(cells: pl.Series, column: Column, mapping: ColumnMap, zone: str) -> pl.Series:
    """
    Date cells as dates, time cells as datetimes in the zone. A settings row with a period belongs
    to its last day.
    """
    order = mapping.date_order
    if column.name == "date" and READ_KINDS[mapping.kind].is_settings:
        return values.periods(cells, order)[1]
    match column.holds:
        case CellKind.WEEK:
            return values.weeks(cells, order)
        case CellKind.MONTH:
            return values.months(cells, order)
        case CellKind.TIME:
            return values.times(cells, zone)
    return values.dates(cells, order)


def when(condition: pl.Series, value: pl.Series, other: int | None = None) -> pl.Series:
    """The value where the condition holds, else the other."""
    return pl.select(pl.when(pl.lit(condition)).then(pl.lit(value)).otherwise(other)).to_series()


def _number(cells: pl.Series, column: Column, style: Style, rate: float | None = None) -> pl.Series:
    if column.holds is CellKind.COUNT and (counts := values.whole_numbers(cells)) is not None:
        return counts
    value = values.numbers(cells, style)
    if column.holds is CellKind.COUNT:
        # 1.000 may be a thousand of somebody who groups with a point: no count is written with three places.
        whole = (
            (value == value.floor()) & (value.abs() < 2**53) & ~cells.str.contains(r"[.,]\d{3}\D*$").fill_null(False)
        )
        grouped = cells.str.contains(r"\d,\d{3}" if style is Style.DOT else r"\d\.\d{3}").fill_null(False)
        return when(whole | ((value == value.floor()) & grouped), value).cast(pl.Int64)
    if column.holds is CellKind.MONEY:
        value = when(~values.percent_signs(values.trimmed(cells)), value) * (1.0 if rate is None else rate)
        # What is larger than any money is turned away by its size; it only has to fit till then.
        return (value.clip(-2.0 * MOST_UNITS, 2.0 * MOST_UNITS) * MICRO).round().cast(pl.Int64, strict=False)
    if column.holds is CellKind.SHARE:
        return when(~values.percent_signs(values.trimmed(cells)), value).fill_null(value / 100)
    return value


def _ranged(value: pl.Series, reason: pl.Series, column: Column) -> tuple[pl.Series, pl.Series]:
    """Turns away figures and texts that no such column can hold."""
    if column.holds is CellKind.TEXT:
        length = value.str.len_chars()
        return value, _marked(length, 0, column.longest, f"is longer than {column.longest} characters", reason)
    if column.holds in (CellKind.COUNT, CellKind.HOUR, CellKind.MONEY, CellKind.RANK, CellKind.NUMBER):
        reason = _marked(value, 0, None, "is negative", reason)
        if column.most is not None:
            return value, _marked(value, 0, column.most, f"is not between 0 and {column.most:g}", reason)
        if column.holds is CellKind.MONEY:
            return value, _marked(value, None, MOST_UNITS * MICRO, f"is more than {MOST_UNITS:,}", reason)
        if column.holds is CellKind.COUNT:
            return value, _marked(value, None, MOST_COUNTED, f"is more than {MOST_COUNTED:,}", reason)
        return value, reason
    if column.holds is CellKind.SHARE:
        return value, _marked(value, 0, 1, "is not a share from 0 to 1 (or 0 % to 100 %)", reason)
    return value, reason


def _marked(value: pl.Series, least: float | None, most: float | None, why: str, reason: pl.Series) -> pl.Series:
    """Reasons, with one more for what is below or above what there can be; mostly its ends tell that nothing is."""
    low, high = value.min(), value.max()
    outside = pl.Series([False], dtype=pl.Boolean).new_from_index(0, len(value))
    if least is not None and low is not None and low < least:  # type: ignore[operator]
        outside = outside | (value < least)
    if most is not None and high is not None and high > most:  # type: ignore[operator]
        outside = outside | (value > most)
    if not outside.any():
        return reason
    return pl.select(pl.when(pl.lit(outside.fill_null(False))).then(pl.lit(why)).otherwise(pl.lit(reason))).to_series()
