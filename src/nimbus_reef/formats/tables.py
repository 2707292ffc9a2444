"""Tables as they leave: CSV, XLSX and Parquet, with cells that a spreadsheet does not run."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import IO, Any, Final

import polars as pl
import polars.selectors as cs
import xlsxwriter

_FORMULA_START = ("=", "+", "-", "@", "\t", "\r")


def safe_cell(value: str) -> str:
    """
    Text that a spreadsheet will not run as a formula: an apostrophe goes before it.

    Also where an apostrophe already stands before such a character, so that
    `plain_cell` can undo exactly what was done here.
    """
    bare = value.lstrip("'")
    return f"'{value}" if bare.startswith(_FORMULA_START) else value


def plain_cell(value: str) -> str:
    """Undoes `safe_cell` on text read back from one of our own files."""
    if value.startswith("'") and value.lstrip("'").startswith(_FORMULA_START):
        return value[1:]
    return value


def _safe(value: Any) -> Any:
    return safe_cell(value) if isinstance(value, str) else value


def csv_lines(headers: Sequence[str], rows: Iterable[Sequence[Any]]) -> Iterator[str]:
    """A CSV as text, a few hundred lines at a time; RFC 4180, text cells made safe."""
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow([_safe(header) for header in headers])
    for number, row in enumerate(rows, 1):
        writer.writerow([_safe(value) for value in row])
        if number % 500 == 0:
            yield buffer.getvalue()
            buffer.seek(0)
            buffer.truncate()
    yield buffer.getvalue()


def add_csv(path: Path, rows: pl.DataFrame) -> None:
    """Adds rows to the end of a CSV of ours, which begins with its headers."""
    begun = path.exists()
    with path.open("ab") as file:
        rows.write_csv(file, include_header=not begun)


def write_parquet(rows: pl.DataFrame, target: IO[bytes]) -> None:
    """Rows as Parquet, types kept."""
    rows.write_parquet(target)


def hand_over(rows: pl.DataFrame, path: Path) -> None:
    """Rows for another process of this machine, as they are."""
    rows.write_ipc(path)


def handed_over(path: Path) -> pl.DataFrame:
    """The rows that `hand_over` left."""
    return pl.read_ipc(path)


DIGITS: Final = 15
"""Of a figure that leaves: more are not its own."""


@dataclass(frozen=True, slots=True)
class Table:
    """
    Rows to be taken out: columns under their headers; formats: number formats by header.

    Figures are the nearest of 15 digits: 3.1 as it was paid, not the 3.0999999999999996 that Polars makes of 3,100,000
    millionths.
    """

    name: str
    rows: pl.DataFrame
    formats: dict[str, str]

    def __post_init__(self) -> None:
        object.__setattr__(self, "rows", self.rows.with_columns(cs.float().round_sig_figs(DIGITS)))


@dataclass(frozen=True, slots=True)
class SheetColumn:
    """A column of a workbook: header, width in characters, number format where numeric."""

    header: str
    width: float = 14
    number_format: str = ""


@dataclass(frozen=True, slots=True)
class Sheet:
    """One sheet of a workbook."""

    name: str
    columns: Sequence[SheetColumn]
    rows: Iterable[Sequence[Any]]


def write_xlsx(target: IO[bytes], sheets: Sequence[Sheet], progress: Callable[[int], None] = lambda done: None) -> None:
    """
    A workbook: typed cells, frozen headers, filters, widths, number formats.

    progress: told every thousand rows how many are written, of all sheets together.
    """
    book = xlsxwriter.Workbook(
        target, {"constant_memory": True, "strings_to_formulas": False, "default_date_format": "yyyy-mm-dd"}
    )
    head = book.add_format({"bold": True, "bottom": 1})
    written = 0
    for each in sheets:
        written += _write_sheet(book, head, each, partial(_report, progress, written))
    book.close()


def _report(progress: Callable[[int], None], before: int, done: int) -> None:
    progress(before + done)


def _write_sheet(book: Any, head: Any, each: Sheet, progress: Callable[[int], None]) -> int:
    sheet = book.add_worksheet(each.name)
    formats = [
        book.add_format({"num_format": column.number_format}) if column.number_format else None
        for column in each.columns
    ]
    for index, column in enumerate(each.columns):
        sheet.set_column(index, index, column.width)
        sheet.write_string(0, index, column.header, head)
    last = 0
    for last, row in enumerate(each.rows, 1):
        if last % 1_000 == 0:
            progress(last)
        for index, value in enumerate(row):
            if isinstance(value, str):
                sheet.write_string(last, index, safe_cell(value))
            elif value is not None:
                sheet.write(last, index, value, formats[index])
    sheet.freeze_panes(1, 1)
    sheet.autofilter(0, 0, max(last, 1), len(each.columns) - 1)
    return last
