"""
What a column of text means: numbers of either decimal style, dates of any order, words.

Every parser takes a string Series and gives back a typed one of the same length with
null where the text cannot be read; `empty` tells which cells say nothing at all.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from enum import StrEnum
from zoneinfo import ZoneInfo

import polars as pl
from dateutil import parser as dateutil_parser

_NOTHING = ["", "-", "–", "—", "n/a", "na", "null", "none", "nan", "--"]
_LONGEST_NOTHING = max(len(word.encode()) for word in _NOTHING)
# A sign, a currency before or after, digits in groups: anything else is no number.
_CURRENCY = r"(?:[A-Z]{3}|[A-Z]{1,2}\$|kr\.?|Kč|zł|Fr\.?|Ft|lei|\p{Sc})"
_NUMBER = r"^\(?([-+]?)\s*" + _CURRENCY + r"?\s*([-+]?\d[\d.,' ]*|[.,]\d+)\s*(?:%|" + _CURRENCY + r")?\)?$"
_SPACES = r"[' \u00a0\u202f\u2009]"
_COMMA_DECIMAL = r"(,\d{1,2}|,\d{4,}|\.\d{3},\d*|^0,\d+)$"
_DOT_DECIMAL = r"(\.\d{1,2}|\.\d{4,}|,\d{3}\.\d*|^0\.\d+)$"
_SHORT_DATE = re.compile(r"^(\d{1,2})[/-](\d{1,2})[/-](\d{2}|\d{4})\b")
_EXCEL_EPOCH = date(1899, 12, 30)


class DateOrder(StrEnum):
    """How 03/04/2026 is to be read."""

    DAY_FIRST = "day_first"
    MONTH_FIRST = "month_first"
    UNKNOWN = "unknown"


class Style(StrEnum):
    """Which sign divides whole numbers from their fractions."""

    DOT = "dot"
    COMMA = "comma"


def trimmed(cells: pl.Series) -> pl.Series:
    """Outer white space off (of every kind); what is inside a name stays as it is."""
    return cells.fill_null("").str.strip_chars()


def empty(cells: pl.Series) -> pl.Series:
    """True where a trimmed cell says nothing: blank, a dash, n/a."""
    short = cells.str.len_bytes() <= _LONGEST_NOTHING
    if not short.any():
        return short
    return short & cells.str.head(_LONGEST_NOTHING).str.to_lowercase().is_in(_NOTHING)


def _digits(cells: pl.Series) -> pl.Series:
    plain = cells.str.replace_all("[−–]", "-").str.replace_all(_SPACES, " ")
    return plain.str.extract(_NUMBER, 2).str.replace_all(_SPACES, "")


@dataclass(frozen=True, slots=True)
class Votes:
    """How many cells of a column prove either decimal style."""

    dot: int
    comma: int


def style_votes(cells: pl.Series) -> Votes:
    """Counts the cells of a numeric column that can only be one style."""
    digits = _digits(trimmed(cells).unique())
    comma = digits.str.contains(_COMMA_DECIMAL).sum()
    dot = digits.str.contains(_DOT_DECIMAL).sum()
    return Votes(int(dot or 0), int(comma or 0))


def numbers(cells: pl.Series, style: Style) -> pl.Series:
    """Float64 from text such as `1.234,56`, `€ 12`, `(3.50)`, `12.5%` (12.5; the sign is the caller's)."""
    if style is Style.COMMA:
        distinct = cells.unique()
        read = _dressed_numbers(distinct, style)
        return cells.replace_strict(distinct, read, default=None, return_dtype=pl.Float64)
    plain = cells.cast(pl.Float64, strict=False)
    plain = pl.select(pl.when(plain.is_finite()).then(plain)).to_series()
    odd = cells.filter(plain.is_null()).unique()
    odd = odd.filter(~empty(odd))
    if odd.is_empty():
        return plain
    dressed = cells.replace_strict(odd, _dressed_numbers(odd, style), default=None, return_dtype=pl.Float64)
    return plain.fill_null(dressed)


def _dressed_numbers(cells: pl.Series, style: Style) -> pl.Series:
    plain = cells.str.replace_all("[−–]", "-")
    digits = _digits(cells)
    if style is Style.COMMA:
        digits = digits.str.replace_all(".", "", literal=True).str.replace(",", ".", literal=True)
    else:
        digits = digits.str.replace_all(",", "", literal=True)
    value = digits.cast(pl.Float64, strict=False)
    negative = plain.str.starts_with("(") | plain.str.contains(r"^[-]|^\D{0,4}-\d")
    minus = negative & (value > 0)
    return pl.select(pl.when(minus).then(-value).otherwise(value)).to_series()


def counts_style(cells: pl.Series, usual: Style) -> Style:
    """The style of a column of whole numbers: `1.234` there is grouped, not 1.234."""
    digits = _digits(trimmed(cells).unique())
    grouped_by_dot = digits.str.contains(r"^\d{1,3}(\.\d{3})+$").sum() or 0
    other_dots = digits.str.contains(r"\.").sum() or 0
    if grouped_by_dot and grouped_by_dot == other_dots:
        return Style.COMMA
    return usual


def percent_signs(cells: pl.Series) -> pl.Series:
    """True where the cell ends in a percent sign."""
    return cells.str.ends_with("%")


def date_order(cells: pl.Series) -> DateOrder | None:
    """
    The order of day and month that the column proves, UNKNOWN when it proves none.

    Null when no cell is of the kind that could be read both ways. A column that
    proves both orders is UNKNOWN too; its cells then fail one by one.
    """
    parts = [_SHORT_DATE.match(cell) for cell in trimmed(cells).unique().to_list()]
    pairs = [(int(part[1]), int(part[2])) for part in parts if part]
    if not pairs:
        return None
    day_first = any(first > 12 for first, _ in pairs)
    month_first = any(second > 12 for _, second in pairs)
    if day_first == month_first:
        return DateOrder.UNKNOWN
    return DateOrder.DAY_FIRST if day_first else DateOrder.MONTH_FIRST


def one_date(text: str, order: DateOrder) -> date | None:
    """One date of any common style; null when it is none."""
    if re.fullmatch(r"\d{5}(\.0*)?", text) and 30_000 < float(text) < 80_000:
        return _EXCEL_EPOCH + timedelta(days=int(float(text)))
    compact = re.fullmatch(r"(\d{4})(\d{2})(\d{2})", text)
    day_first = order is DateOrder.DAY_FIRST or bool(re.match(r"\d{1,2}\.\d{1,2}\.", text))
    if compact:
        text = f"{compact[1]}-{compact[2]}-{compact[3]}"
    elif not re.search(r"\d.*[-/. ,].*\d", text) or not re.search(r"\d{4}|\d[/.-]\d{1,2}[/.-]\d\d", text):
        return None  # dateutil would fill what is missing with parts of a default day
    iso = bool(re.match(r"\d{4}[-/.]", text))
    try:
        found: datetime = dateutil_parser.parse(
            text, dayfirst=day_first and not iso, default=datetime(1, 1, 1)
        )
    except (ValueError, OverflowError):
        return None
    short = _SHORT_DATE.match(text)
    if short:  # dateutil swaps day and month rather than fail; a swap is an error here
        wanted = int(short[1]) if day_first else int(short[2])
        if found.day != wanted:
            return None
    return found.date() if found.year > 1900 else None


def dates(cells: pl.Series, order: DateOrder) -> pl.Series:
    """Dates; each distinct text is read once, since a report repeats its days."""
    known = {text: one_date(text, order) for text in cells.unique().to_list() if text}
    return cells.replace_strict(known, default=None, return_dtype=pl.Date)


def weeks(cells: pl.Series, order: DateOrder) -> pl.Series:
    """The Monday of the week that each date is in."""
    return dates(cells, order).dt.truncate("1w")


def months(cells: pl.Series, order: DateOrder) -> pl.Series:
    """The first of the month of each date; a month alone, as in 2026-10, is one too."""
    return dates(cells.str.replace(r"^(\d{4})[-/.](\d{1,2})$", "$1-$2-01"), order).dt.truncate("1mo")


def times(cells: pl.Series, zone: str) -> pl.Series:
    """
    Times of day in the zone, without one (datetime[us]); ISO 8601, with or without an offset.

    A time without an offset is the zone's own.
    """
    known = {text: _one_time(text, zone) for text in cells.unique().to_list() if text}
    return cells.replace_strict(known, default=None, return_dtype=pl.Datetime("us"))


def _one_time(text: str, zone: str) -> datetime | None:
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found.astimezone(ZoneInfo(zone)).replace(tzinfo=None) if found.tzinfo else found


def choices(cells: pl.Series, aliases: Mapping[str, str]) -> pl.Series:
    """The contract's word for each cell, by its letters alone: `Exact match` is exact."""
    plain = cells.str.to_lowercase().str.replace_all(r"[^\p{L}\d]+", " ").str.strip_chars()
    return plain.replace_strict(dict(aliases), default=None, return_dtype=pl.String)
