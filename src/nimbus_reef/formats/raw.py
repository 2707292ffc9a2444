"""A file as it stands: text cells under its own headers, and what could not even be read as a row."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import count, islice
from typing import Final

import polars as pl

from nimbus_reef.errors import BadFile

LINE: Final = "__line"
"""Name of the column that holds the physical line on which a record starts."""
PROBE_RECORDS: Final = 60
_NUMBERLIKE = re.compile(r"^[-+]?[\d.,\s]+%?$")
_LONGEST_TITLE: Final = 600
_LONGEST_VALUE: Final = 200


@dataclass(frozen=True, slots=True)
class Limits:
    """What a file may be at most."""

    max_bytes: int = 2 * 1024**3
    max_rows: int = 20_000_000
    max_columns: int = 1_000
    max_xlsx_rows: int = 1_000_000
    max_xlsx_ratio: int = 200


def no_problems() -> pl.DataFrame:
    """No row that was turned away: line, column, value, reason."""
    return pl.DataFrame(schema={"line": pl.Int64, "column": pl.String, "value": pl.String, "reason": pl.String})


def problems(found: Sequence[tuple[int, str, str]]) -> pl.DataFrame:
    """Lines that are not rows, with what stands there and why."""
    return pl.DataFrame(
        [(line, "", value[:_LONGEST_VALUE], reason) for line, value, reason in found],
        schema=no_problems().schema,
        orient="row",
    )


@dataclass(frozen=True, slots=True, order=True)
class Layout:
    """Separator of a CSV and physical line of the header, from 1. Empty and 0 mean that the reader detects them."""

    separator: str = ""
    header_line: int = 0


AS_FOUND: Final = Layout()
Layouts = Mapping[str, Layout]
"""Layouts chosen by the user, by sheet name; the name is empty for a file of one table."""
SEPARATORS: Final = {",": "a comma", ";": "a semicolon", "\t": "a tab", "|": "a bar", "~": "a tilde"}
_FIRST_LINES, _LONGEST_LINE = 20, 120


def first_lines(lines: Iterable[str]) -> tuple[str, ...]:
    """The first lines of a file, shortened for display."""
    return tuple(line[:_LONGEST_LINE] for line in islice(lines, _FIRST_LINES))


@dataclass(frozen=True, slots=True)
class RawTable:
    """
    A table of a file: text columns under their own headers, and `__line`.

    layout: how it was read; chosen_layout: what of that a person chose; own_headers: those that the reader finds by
    itself, where a person chose anything; first_lines: what stands in the file's first lines. problems: lines that
    are not rows (line, column, value, reason). title: what stands above the header. numeric: headers whose cells
    are numbers by their type, so that no decimal sign is in question. sheet: its name in a workbook. decimal_votes
    of the whole are the reader's to count.
    """

    frame: pl.DataFrame
    headers: tuple[str, ...]
    notes: tuple[str, ...] = ()
    problems: pl.DataFrame = field(default_factory=no_problems)
    title: str = ""
    numeric: frozenset[str] = frozenset()
    sheet: str = ""
    layout: Layout = AS_FOUND
    chosen_layout: Layout = AS_FOUND
    own_headers: tuple[str, ...] = ()
    first_lines: tuple[str, ...] = ()

    @property
    def source_headers(self) -> tuple[str, ...]:
        """The detected headers, which identify the source of a file even when the user chose another header line."""
        return self.own_headers or self.headers


def tidy_headers(cells: Sequence[str | None], file_name: str, limits: Limits) -> list[str]:
    """Headers with their spaces put right, each of them once; BadFile when there are too many."""
    if len(cells) > limits.max_columns:
        raise BadFile(
            f"The table has {len(cells):,} columns; at most {limits.max_columns:,} are read.",
            place=file_name,
            remedy="Delete the columns that the report does not need and save it again.",
        )
    if not any((cell or "").strip() for cell in cells):
        raise BadFile("The line of the header is empty.", place=file_name, remedy="Choose another line.")
    names: dict[str, None] = {}
    for number, cell in enumerate(cells, 1):
        name = " ".join((cell or "").replace("\ufeff", "").split()) or f"column {number}"
        taken = (f"{name} ({again})" if again > 1 else name for again in count(1))
        names[next(each for each in taken if each not in names and each != LINE)] = None
    return list(names)


def header_index(records: Sequence[Sequence[str | None]]) -> int:
    """
    Which record is the header: the first as wide as most, in words rather than figures; the last of several such where
    none of the rows below is in words, since above it then stands what groups of columns are called.
    """
    widths = Counter(filled(record) for record in records if filled(record) > 1)
    if not widths:
        return 0
    usual = max(widths, key=lambda width: (widths[width], width))
    in_words = [_is_in_words(record, usual) for record in records]
    if True not in in_words:
        return 0
    first = in_words.index(True)
    below = in_words[first:].index(False) + first if False in in_words[first:] else first
    rows = sum(filled(record) > 1 for record in records[below:])
    if below - first > 1 and rows > 1 and not any(in_words[below:]) and _names_columns(records[below - 1]):
        return below - 1
    return first


def _is_in_words(record: Sequence[str | None], usual: int) -> bool:
    cells = [cell for cell in record if cell and cell.strip()]
    wordy = sum(not _NUMBERLIKE.match(cell.strip()) for cell in cells)
    return len(cells) >= max(2, 0.6 * usual) and wordy >= 0.8 * len(cells)


def _names_columns(record: Sequence[str | None]) -> bool:
    """True when all filled cells contain letters and are distinct."""
    cells = [cell.strip() for cell in record if cell and cell.strip()]
    return len(set(cells)) == len(cells) and all(any(sign.isalpha() for sign in cell) for cell in cells)


def filled(record: Sequence[str | None]) -> int:
    """How many cells say something."""
    return sum(1 for cell in record if cell and cell.strip())


def title_of(records: Sequence[Sequence[str | None]]) -> str:
    """What stands above the header, in one line."""
    texts = (cell.strip() for record in records for cell in record if cell and cell.strip())
    return " ".join(texts)[:_LONGEST_TITLE]


_LAST_ROWS: Final = 40


def only_rows(frame: pl.DataFrame, headers: Sequence[str]) -> tuple[pl.DataFrame, list[str]]:
    """
    The rows in which any cell says something, without the remarks under the last of them, and
    what those remarks say.
    """
    # A row that says nothing says nothing in its first column: mostly no other has to be looked at.
    if not _surely_said(frame[headers[0]]) and frame.select(_blank(headers[0])).to_series().any():
        frame = frame.filter(~pl.all_horizontal(_blank(name) for name in headers))
    return _without_notes(frame, headers)


def _surely_said(cells: pl.Series) -> bool:
    """
    True where the least of the cells begins with a letter or a figure, and none with a space that
    stands behind these.
    """
    least = cells.min()
    if cells.null_count() or not isinstance(least, str) or least < "!":
        return False
    return bool(cells.str.len_bytes().sum() == cells.str.len_chars().sum())


def _blank(name: str) -> pl.Expr:
    return pl.col(name).fill_null("").str.strip_chars() == ""


def told_above(lines: int) -> list[str]:
    """A sentence on the lines above the header that were left out."""
    if not lines:
        return []
    return [
        f"{lines} lines above the header were left out." if lines > 1 else "The line above the header was left out."
    ]


def _without_notes(frame: pl.DataFrame, headers: Sequence[str]) -> tuple[pl.DataFrame, list[str]]:
    """
    The rows without the lines under the last one that fill a single cell, and what those say.

    Such lines are remarks of whoever wrote the file, not rows.
    """
    if len(headers) < 3 or frame.is_empty():
        return frame, []
    tail = frame.tail(_LAST_ROWS).select(headers)
    counts = [filled(row) for row in tail.iter_rows()]
    cut = len(counts)
    while cut and counts[cut - 1] <= 1:
        cut -= 1
    if cut == len(counts) or (cut == 0 and len(frame) <= _LAST_ROWS):
        return frame, []
    texts = [title_of([row]) for row in tail.slice(cut).iter_rows()]
    return frame.head(len(frame) - (len(counts) - cut)), texts


def told_notes(texts: Sequence[str]) -> list[str]:
    """A sentence on the remarks that were left out."""
    if not texts:
        return []
    quoted = ", ".join(f"“{each[:60]}”" for each in texts[:3])
    more = f" and {len(texts) - 3} more" if len(texts) > 3 else ""
    return [f"{len(texts)} line(s) under the last row are remarks, not rows: {quoted}{more}."]


def too_many(rows: int, most: int, file_name: str) -> BadFile:
    """The refusal of a file with more rows than are read."""
    return BadFile(
        f"The file has {rows:,} rows; at most {most:,} are read.",
        place=file_name,
        remedy="Download it in shorter ranges of days, or as CSV.",
    )
