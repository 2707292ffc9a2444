"""
What a column of text means: numbers of either decimal style, dates of any order, words.

Every parser takes a string Series and gives back a typed one of the same length with
null where the text cannot be read; `empty` tells which cells say nothing at all.
"""

from __future__ import annotations

import re
from calendar import monthrange
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from enum import StrEnum
from typing import ClassVar, Final
from zoneinfo import ZoneInfo

import numpy as np
import polars as pl
from babel.numbers import list_currencies
from dateutil import parser as dateutil_parser

from nimbus_reef.formats import parallel_columns

_NOTHING = ["", "-", "–", "—", "n/a", "na", "null", "none", "--"]
TOTAL_LINE: Final = r"(?i)^\s*(grand\s+)?(total|totals|sum|summe|gesamt|gesamtsumme|totale|suma|result)\b"
"""How a line begins that sums up the others."""
NOT_KNOWN: Final = r"^(?i:nan|inf|#[a-z/0?!. ]+)$"
"""What a program writes where it could not compute a figure: not known, which is not nothing."""
_LONGEST_NOTHING = max(len(word.encode()) for word in _NOTHING)
_LONGEST_NUMBER = 40
"""Characters of the longest figure that is looked at: what is longer is not a figure."""
_LONGEST_DATE = 40
# A sign, a currency before or after, digits in groups: anything else is not a number.
CODES: Final = tuple(sorted(list_currencies()))
_CURRENCY = rf"(?:{'|'.join(CODES)}|[A-Z]{{1,2}}\$|kr\.?|Kč|zł|Fr\.?|Ft|lei|\p{{Sc}})"
_FIGURE = r"([-+]?(?:\d[\d.,' ]*|[.,]\d+))"
# One currency before or after, brackets on both sides or none; group 1: before it a sign, 2 or 3: the figure.
_BEFORE = rf"([-+]?)\s*(?:{_CURRENCY}\s*)?{_FIGURE}\s*%?"
_NUMBER = rf"^(?:{_BEFORE}|\({_BEFORE}\)|([-+]?)\s*{_FIGURE}\s*{_CURRENCY}|\(([-+]?)\s*{_FIGURE}\s*{_CURRENCY}\))$"
_SPACES = r"[\u00a0\u202f\u2009]"
_SHORT_DATE = re.compile(r"^(\d{1,2})[/-](\d{1,2})[/-](\d{2}|\d{4})\b")
_EXCEL_EPOCH = date(1899, 12, 30)


def _whole(separator: str) -> str:
    """Digits, alone or in groups of three (of two, before the last three, as in India)."""
    group = re.escape(separator)
    return (
        rf"(?:\d+|[1-9]\d{{0,2}}(?:{group}\d{{3}})+|[1-9]\d{{0,2}}(?:"
        rf" \d{{3}})+|[1-9]\d{{0,2}}(?:'\d{{3}})+|[1-9]\d?(?:{group}\d{{2}})+{group}\d{{3}})"
    )


_WRITTEN = {"dot": rf"^(?:{_whole(',')}(?:\.\d*)?|\.\d+)$", "comma": rf"^(?:{_whole('.')}(?:,\d*)?|,\d+)$"}
"""How figures are written with either decimal sign; what fits neither is not a figure."""


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
    """The digits of each cell with the signs between them, null where it is no figure."""
    short = cells.str.len_chars() <= _LONGEST_NUMBER
    plain = pl.select(pl.when(short).then(cells)).to_series()
    plain = plain.str.replace_all("[−–]", "-").str.replace_all(_SPACES, " ").str.replace_all("’", "'")
    found = pl.select(pl.coalesce(plain.str.extract(_NUMBER, group) for group in (2, 4, 6, 8))).to_series()
    return found.str.strip_chars().str.strip_chars_start("+-")


@dataclass(frozen=True, slots=True)
class Votes:
    """
    How many cells can only be read with a decimal point, or only with a comma; `either` could be
    both and would be another figure (`1,250`).
    """

    dot: int = 0
    comma: int = 0
    either: int = 0


def style_votes(columns: Sequence[tuple[pl.Series, bool]]) -> Votes:
    """
    Counts what columns of figures together prove of the file's decimal sign.

    columns: the cells, and whether they are counts, which have no fraction: a sign before three digits groups them.
    """
    longest = max((len(cells) for cells, _ in columns), default=0)
    frames = [each for each in parallel_columns.each(_signed, columns, longest) if each is not None]
    if not frames:
        return Votes()
    cells = pl.concat(frames)
    digits = _digits(trimmed(cells["text"]))
    marked = digits.str.contains(r"[.,]").fill_null(False)
    digits, cells = digits.filter(marked), cells.filter(marked)
    dot, comma = digits.str.contains(_WRITTEN["dot"]), digits.str.contains(_WRITTEN["comma"])
    both = dot & comma
    whole = both & cells["whole"]
    only_dot = (dot & ~comma) | (whole & digits.str.contains(",", literal=True))
    only_comma = (comma & ~dot) | (whole & digits.str.contains(".", literal=True))
    return Votes(*(int(cells["times"].filter(each).sum()) for each in (only_dot, only_comma, both & ~whole)))


def _signed(column: tuple[pl.Series, bool]) -> pl.DataFrame | None:
    """
    text, times, whole of the distinct cells of a column; None where no cell has a sign that could
    be a decimal one.
    """
    cells, whole = column
    if not cells.str.contains("[.,]").any():
        return None
    counted = cells.value_counts()
    return pl.DataFrame([counted[:, 0].alias("text"), counted[:, 1].cast(pl.Int64).alias("times")]).with_columns(
        whole=pl.lit(whole)
    )


def numbers(cells: pl.Series, style: Style) -> pl.Series:
    """
    Float64 from text such as `1.234,56`, `€ 12`, `(3.50)`, `12.5%` (12.5; the sign is the caller's).

    Null where a cell is not a figure, or none with this decimal sign: `12,50` is not 1250. Outer white space is
    nothing.
    """
    if style is Style.COMMA:
        distinct = cells.unique()
        read = _dressed_numbers(trimmed(distinct), style)
        return cells.replace_strict(distinct, read, default=None, return_dtype=pl.Float64)
    plain = _plain_numbers(cells)
    odd = cells.filter(plain.is_null()).unique()
    odd = odd.filter(~empty(trimmed(odd)))
    if odd.is_empty():
        return plain
    bare = trimmed(odd)
    read = _plain_numbers(bare).fill_null(_dressed_numbers(bare, style))
    return plain.fill_null(cells.replace_strict(odd, read, default=None, return_dtype=pl.Float64))


_MOST_DIGITS: Final = 15


def whole_numbers(cells: pl.Series) -> pl.Series | None:
    """Int64 from cells of which each is digits alone; None where one is anything else."""
    if cells.str.len_bytes().max() > _MOST_DIGITS:  # type: ignore[operator]
        return None
    whole = cells.cast(pl.Int64, strict=False)
    return None if whole.null_count() else whole


def _plain_numbers(cells: pl.Series) -> pl.Series:
    """Digits with at most a decimal point, all at once; null for everything else."""
    plain = cells.cast(pl.Float64, strict=False)
    fitting = plain.is_finite() & (cells.str.len_bytes() <= _LONGEST_NUMBER)
    return plain if fitting.all() else pl.select(pl.when(fitting).then(plain)).to_series()


def _dressed_numbers(cells: pl.Series, style: Style) -> pl.Series:
    plain = cells.str.replace_all("[−–]", "-")
    digits = _digits(cells)
    digits = pl.select(pl.when(digits.str.contains(_WRITTEN[style.value])).then(digits)).to_series()
    digits = digits.str.replace_all("[ ']", "")
    if style is Style.COMMA:
        digits = digits.str.replace_all(".", "", literal=True).str.replace(",", ".", literal=True)
    else:
        digits = digits.str.replace_all(",", "", literal=True)
    value = digits.cast(pl.Float64, strict=False)
    negative = plain.str.starts_with("(") | plain.str.contains(r"^\D*-\D*\d")
    minus = negative & (value > 0)
    return pl.select(pl.when(minus).then(-value).otherwise(value)).to_series()


def canonical(cells: pl.Series) -> bool:
    """
    True when a workbook's column holds number cells: each written as the program writes them,
    and at least one that could be nothing else.
    """
    column = cells.filter(~empty(cells))
    if column.is_empty() or not column.str.contains(r"^-?\d+(\.\d*[1-9]|\.0)?([eE][-+]?\d+)?$").all():
        return False
    fractions = column.str.extract(r"\.(\d+)", 1).drop_nulls()
    return fractions.is_empty() or bool((fractions.str.len_bytes() != 3).any())


def percent_signs(cells: pl.Series) -> pl.Series:
    """True where the cell ends in a percent sign."""
    return cells.str.ends_with("%")


def date_order(cells: pl.Series) -> DateOrder | None:
    """
    The order of day and month that the column proves, UNKNOWN when it proves none.

    Null when no cell is of the kind that could be read both ways. A column that
    proves both orders is UNKNOWN too; its cells then fail one by one.
    """
    parts = [_SHORT_DATE.match(cell) for cell in trimmed(cells.unique()).to_list()]
    pairs = [(int(part[1]), int(part[2])) for part in parts if part]
    if not pairs:
        return None
    day_first = any(first > 12 for first, _ in pairs)
    month_first = any(second > 12 for _, second in pairs)
    if day_first == month_first:
        return DateOrder.UNKNOWN
    return DateOrder.DAY_FIRST if day_first else DateOrder.MONTH_FIRST


class _Months(dateutil_parser.parserinfo):  # type: ignore[misc]  # dateutil has no types
    """Month names of the languages that reports come in."""

    JUMP: ClassVar = [*dateutil_parser.parserinfo.JUMP, "de", "del", "di", "le", "den", "der"]
    MONTHS: ClassVar = [
        ("jan", "january", "januar", "jänner", "janvier", "janv", "enero", "ene", "gennaio", "gen"),
        ("feb", "february", "februar", "février", "févr", "fév", "febrero", "febbraio"),
        ("mar", "march", "märz", "mär", "mrz", "mars", "marzo"),
        ("apr", "april", "avril", "avr", "abril", "abr", "aprile"),
        ("may", "mai", "mayo", "maggio", "mag"),
        ("jun", "june", "juni", "juin", "junio", "giugno", "giu"),
        ("jul", "july", "juli", "juillet", "juil", "julio", "luglio", "lug"),
        ("aug", "august", "août", "agosto", "ago"),
        ("sep", "sept", "september", "septembre", "septiembre", "settembre", "set"),
        ("oct", "october", "oktober", "okt", "octobre", "octubre", "ottobre", "ott"),
        ("nov", "november", "novembre", "noviembre"),
        ("dec", "december", "dezember", "dez", "décembre", "déc", "diciembre", "dic", "dicembre"),
    ]


_INFO: Final = _Months()
_YEARS: Final = re.compile(r"(?:19|20)\d{2}")
_A_DEFAULT, _ANOTHER = datetime(2001, 1, 1), datetime(2002, 2, 2)
"""What the text leaves out differs between these two: a date needs its day, month and year."""


def one_date(text: str, order: DateOrder) -> date | None:
    """One date of any common style; None when it is none, or lacks its day or year."""
    if len(text) > _LONGEST_DATE:
        return None
    if re.fullmatch(r"\d{5}(\.0*)?", text) and 30_000 < float(text) < 80_000:
        return _EXCEL_EPOCH + timedelta(days=int(float(text)))
    compact = re.fullmatch(r"(\d{4})(\d{2})(\d{2})", text)
    day_first = order is DateOrder.DAY_FIRST or bool(re.match(r"\d{1,2}\.\d{1,2}\.", text))
    if compact:
        text = f"{compact[1]}-{compact[2]}-{compact[3]}"
    elif not re.search(r"\d.*[-/. ,].*\d", text) or not re.search(r"\d{4}|\d[/.-]\d{1,2}[/.-]\d\d", text):
        return None
    day_first = day_first and not re.match(r"\d{4}[-/.]", text)
    found = _parsed(text, day_first, _A_DEFAULT)
    if found is None or found != _parsed(text, day_first, _ANOTHER) or len(_YEARS.findall(text)) > 1:
        return None
    short = _SHORT_DATE.match(text)
    if short:  # dateutil swaps day and month rather than fail; a swap is an error here
        wanted = int(short[1]) if day_first else int(short[2])
        if found.day != wanted:
            return None
    return found if found.year > 1900 else None


def _parsed(text: str, day_first: bool, default: datetime) -> date | None:
    try:
        found: datetime = dateutil_parser.parse(text, _INFO, dayfirst=day_first, default=default)
    except (ValueError, OverflowError, TypeError):
        return None
    return found.date()


_LED_IN: Final = re.compile(
    r"^\s*(?:from|between|vom|von|du|depuis le|dal|da|del|desde el|desde|van|de|od|från)\s+(?=\S*\d|\w+ \d)",
    re.IGNORECASE,
)
_BETWEEN = re.compile(
    r"\s+(?:-|to|until|through|and|bis(?: zum)?|au|jusqu'au|al|a|hasta(?: el)?|fino al|tot(?: en"
    r" met)?|t/m|até|a|do|till|t\.o\.m\.)\s+|\s*(?:–|—|→|\.\.\.?)\s*|\s*/\s*(?=\d{4}-)|_(?=\d{4})"
)
_IN_TEXT = re.compile(
    r"(\d{4}-\d{2}-\d{2}|\d{8}|\d{1,2}[./]\d{1,2}[./]\d{4}|\d{1,2}\.? \w{3,9}\.? \d{4}|\w{3,9} \d{1,2}, \d{4})"
    r"(?:\s*(?:-|to|until|bis|au|al|a|_|–|—|→|\.\.)\s*)"
    r"(\d{4}-\d{2}-\d{2}|\d{8}|\d{1,2}[./]\d{1,2}[./]\d{4}|\d{1,2}\.? \w{3,9}\.? \d{4}|\w{3,9} \d{1,2}, \d{4})"
)


def one_period(text: str, order: DateOrder) -> tuple[date, date] | None:
    """The first and last day of a period such as “1 Oct 2026 – 30 Oct 2026”, a single day, or a month."""
    parts = _BETWEEN.split(_LED_IN.sub("", text)) if len(text) <= 2 * _LONGEST_DATE else []
    if len(parts) > 2 or not parts:
        return None
    ends = [_day_or_month(part.strip(), order) for part in parts]
    first, last = ends[0], ends[-1]
    return (first[0], last[1]) if first and last and first[0] <= last[1] else None


MONTH_ALONE: Final = re.compile(
    r"(?:19|20)\d{2}[-/.](?:0?[1-9]|1[0-2])|(?:0?[1-9]|1[0-2])[-/.](?:19|20)\d{2}|[^\W\d_]{3,12}\.?[ -](?:19|20)\d{2}"
)


def _day_or_month(text: str, order: DateOrder) -> tuple[date, date] | None:
    if not MONTH_ALONE.fullmatch(text):
        day = one_date(text, order)
        return (day, day) if day else None
    year, rest = re.search(r"\d{4}", text), re.sub(r"[-/. ]*\d{4}[-/. ]*", "", text)
    first = one_date(f"1 {rest} {year[0]}", order) if year and rest.isalpha() else None
    if year and rest.isdigit():
        first = date(int(year[0]), int(rest), 1)
    return (first, first.replace(day=monthrange(first.year, first.month)[1])) if first else None


def period_in(text: str) -> tuple[date, date] | None:
    """The days that a title, a sheet's or a file's name tells of; None where it tells of none."""
    for match in _IN_TEXT.finditer(text):
        for order in (DateOrder.DAY_FIRST, DateOrder.MONTH_FIRST):
            ends = [one_date(part, order) for part in match.groups()]
            if ends[0] is not None and ends[1] is not None and ends[0] <= ends[1]:
                return ends[0], ends[1]
    return None


_ISO_MONTH = re.compile(r"(?<!\d)(20\d{2}-(?:0[1-9]|1[0-2]))(?![-\d])")
_NAMED_MONTH = re.compile(r"(?<!\d[ _-])(?<!\d[.,] )(?<![^\W_])([^\W\d_]{3,9})\.?[ _-](20\d{2})(?!\d)")


def month_in(text: str) -> tuple[date, date] | None:
    """
    The first and last day of the month that a text tells of: October 2026, Okt. 2026, 2026-10; no month with a day
    before it.
    """
    written = [f"{month}-01" for month in _ISO_MONTH.findall(text)]
    written += [f"1 {name} {year}" for name, year in _NAMED_MONTH.findall(text)]
    for first in (one_date(each, DateOrder.DAY_FIRST) for each in written):
        if first:
            return first, first.replace(day=monthrange(first.year, first.month)[1])
    return None


def day_in(text: str) -> date | None:
    """The one day that a text tells of."""
    match = re.search(r"\d{4}-\d{2}-\d{2}|(?<!\d)20\d{6}(?!\d)|\d{1,2}\.\d{1,2}\.\d{4}", text)
    return one_date(match[0], DateOrder.DAY_FIRST) if match else None


def periods(cells: pl.Series, order: DateOrder) -> tuple[pl.Series, pl.Series]:
    """First and last days of a column of spans; null where there is none to be read."""
    known = {text: one_period(text, order) for text in cells.unique().to_list() if text}
    ends = [
        cells.replace_strict(
            {text: span[end] for text, span in known.items() if span}, default=None, return_dtype=pl.Date
        )
        for end in (0, 1)
    ]
    return ends[0], ends[1]


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
    if len(text) > _LONGEST_DATE:
        return None
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found.astimezone(ZoneInfo(zone)).replace(tzinfo=None) if found.tzinfo else found


_HOUR: Final = re.compile(
    r"(?P<first>\d{1,2})(?:[:.h]\d{2}(?::\d{2})?|h)?\s*(?P<half>[ap]\.?m\.?)?"
    r"(?:\s*(?:-|–|to|bis)\s*\d{1,2}(?:[:.h]\d{2}(?::\d{2})?|h)?\s*(?P<last>[ap]\.?m\.?)?)?(?:\s*(?:h|uhr|o'clock))?",
    re.IGNORECASE,
)


def one_hour(text: str) -> int | None:
    """
    The hour of the day in which a cell's time begins: `14`, `14:00`, `14:00 - 15:00`, `2 PM`; None
    where it is none.
    """
    found = _HOUR.fullmatch(re.sub(r"\.0+$", "", text.strip()))
    if found is None:
        return None
    hour, half = int(found["first"]), (found["half"] or found["last"] or "").lower()[:1]
    if half:
        hour = hour % 12 + 12 * (half == "p") if 1 <= hour <= 12 else 99
    return hour if hour <= 24 else None


def hours(texts: Sequence[str]) -> np.ndarray:
    """The hours of cells; NaN where a cell is none."""
    known = {text: one_hour(text) if len(text) <= _LONGEST_DATE else None for text in set(texts)}
    return np.array([np.nan if known[text] is None else known[text] for text in texts], dtype=float)


def letters(cells: pl.Series) -> pl.Series:
    """Words by their letters alone, in lower case: `Exact-Match` is `exact match`."""
    return cells.str.to_lowercase().str.replace_all(r"[^\p{L}\d]+", " ").str.strip_chars()


def choices(cells: pl.Series, aliases: Mapping[str, str]) -> pl.Series:
    """The contract's word for each cell, by its letters alone: `Exact match` is exact."""
    return letters(cells).replace_strict(dict(aliases), default=None, return_dtype=pl.String)
