"""
CSV, XLSX and Parquet in and out: encodings, separators, title lines, safe cells.

What comes in is text exactly as the file has it, with the physical line of every
record; what the text means is for `values` and `reports` to say.
"""

from __future__ import annotations

import codecs
import csv
import io
import re
import tempfile
import zipfile
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import IO, Any

import fastexcel
import polars as pl
import pyarrow.parquet as pq
import xlsxwriter

from nimbus_reef.errors import BadFile

LINE = "__line"
"""Name of the column that holds the physical line on which a record starts."""

_PROBE_BYTES = 256 * 1024
_PROBE_RECORDS = 60
_DELIMITERS = ",;\t|"
_FORMULA_START = ("=", "+", "-", "@", "\t", "\r")
_NUMBERLIKE = re.compile(r"^[-+]?[\d.,\s]+%?$")


@dataclass(frozen=True, slots=True)
class Limits:
    """What a file may be at most."""

    max_bytes: int = 2 * 1024**3
    max_rows: int = 20_000_000
    max_xlsx_rows: int = 1_000_000
    max_xlsx_ratio: int = 200


@dataclass(frozen=True, slots=True)
class RawTable:
    """A file as it stands: text columns under their own headers, and `__line`."""

    frame: pl.DataFrame
    headers: tuple[str, ...]
    notes: tuple[str, ...] = field(default=())


def file_kind(file_name: str) -> str:
    """csv, xlsx or parquet by the ending of the name; anything else cannot be read."""
    ending = Path(file_name).suffix.lower()
    kinds = {".csv": "csv", ".tsv": "csv", ".txt": "csv", ".xlsx": "xlsx", ".parquet": "parquet"}
    if ending not in kinds:
        raise BadFile(
            f"Files of the kind “{ending or 'no ending'}” cannot be read.",
            place=file_name,
            remedy="Save the report as CSV, XLSX or Parquet.",
        )
    return kinds[ending]


def read_table(path: Path, file_name: str, *, limits: Limits = Limits(), rows: int | None = None) -> RawTable:
    """
    Reads a whole file, or only its first `rows` records for a preview.

    Raises BadFile with place and remedy when it cannot be read or is over a limit.
    """
    kind = file_kind(file_name)
    size = path.stat().st_size
    if size == 0:
        raise BadFile("The file is empty.", place=file_name, remedy="Download the report again.")
    if size > limits.max_bytes:
        raise BadFile(
            f"The file has {size / 1024**3:.1f} GB; at most {limits.max_bytes / 1024**3:.0f} GB are read.",
            place=file_name,
            remedy="Download it in shorter ranges of days.",
        )
    reader = {"csv": _read_csv, "xlsx": _read_xlsx, "parquet": _read_parquet}[kind]
    table = reader(path, file_name, limits, rows)
    if table.frame.is_empty():
        raise BadFile(
            "There is a header but no row below it.",
            place=file_name,
            remedy="Check the range of days of the report.",
        )
    return table


def _tidy_headers(cells: Sequence[str | None]) -> list[str]:
    names: list[str] = []
    seen: Counter[str] = Counter()
    for number, cell in enumerate(cells, 1):
        name = " ".join((cell or "").replace("\ufeff", "").split()) or f"column {number}"
        seen[name] += 1
        names.append(name if seen[name] == 1 else f"{name} ({seen[name]})")
    return names


def _header_index(records: Sequence[Sequence[str | None]]) -> int:
    """Which record is the header: the first as wide as most, in words rather than figures."""
    widths = Counter(_filled(record) for record in records if _filled(record) > 1)
    if not widths:
        return 0
    usual = max(widths, key=lambda width: (widths[width], width))
    for index, record in enumerate(records):
        cells = [cell for cell in record if cell and cell.strip()]
        wordy = sum(not _NUMBERLIKE.match(cell.strip()) for cell in cells)
        if len(cells) >= max(2, 0.6 * usual) and wordy >= 0.8 * len(cells):
            return index
    return 0


def _filled(record: Sequence[str | None]) -> int:
    return sum(1 for cell in record if cell and cell.strip())


def _drop_blank(frame: pl.DataFrame, headers: Sequence[str]) -> pl.DataFrame:
    blank = pl.all_horizontal(pl.col(name).fill_null("").str.strip_chars() == "" for name in headers)
    return frame.filter(~blank)


# --- CSV -------------------------------------------------------------------------


def _encoding(path: Path) -> str:
    with path.open("rb") as handle:
        head = handle.read(4)
        if head.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
            return "utf-16"
        decoder = codecs.getincrementaldecoder("utf-8")()
        try:
            handle.seek(0)
            while chunk := handle.read(1 << 22):
                decoder.decode(chunk)
            decoder.decode(b"", final=True)
        except UnicodeDecodeError:
            return "cp1252"
    return "utf-8"


def _as_utf8(path: Path, encoding: str) -> IO[bytes]:
    """The file in UTF-8, transcoded piece by piece where it is not."""
    if encoding == "utf-8":
        return path.open("rb")
    spool = tempfile.SpooledTemporaryFile(max_size=64 << 20)  # noqa: SIM115  the caller closes it
    with path.open(encoding=encoding, errors="replace", newline="") as handle:
        while text := handle.read(1 << 20):
            spool.write(text.encode())
    spool.seek(0)
    return spool


@dataclass(frozen=True, slots=True)
class _Shape:
    delimiter: str
    header: tuple[str, ...]
    header_line: int


def _shape(head: str) -> _Shape:
    """Separator and header of a CSV, from its first lines."""
    best: tuple[int, int, _Shape] | None = None
    for delimiter in _DELIMITERS:
        reader = csv.reader(io.StringIO(head), delimiter=delimiter)
        records: list[list[str]] = []
        starts: list[int] = []
        line = 1
        try:
            for record in reader:
                records.append(record)
                starts.append(line)
                line = reader.line_num + 1
                if len(records) == _PROBE_RECORDS:
                    break
        except csv.Error:
            continue
        widths = Counter(len(record) for record in records if len(record) > 1)
        if not widths:
            continue
        width = max(widths, key=lambda each: (widths[each], each))
        index = _header_index(records)
        shape = _Shape(delimiter, tuple(records[index]), starts[index])
        score = (widths[width], width, shape)
        if best is None or score[:2] > best[:2]:
            best = score
    if best is None:
        lines = head.splitlines()
        return _Shape(",", (lines[0] if lines else "",), 1)
    return best[2]


def _read_csv(path: Path, file_name: str, limits: Limits, rows: int | None) -> RawTable:
    encoding = _encoding(path)
    notes = []
    if encoding == "cp1252":
        notes.append("The file is not UTF-8; it was read as Windows-1252. Check accented letters.")
    with _as_utf8(path, encoding) as handle:
        head = handle.read(_PROBE_BYTES).decode("utf-8", "ignore").lstrip("\ufeff")
        handle.seek(0)
        shape = _shape(head)
        headers = _tidy_headers(shape.header)
        if shape.header_line > 1:
            notes.append(f"{shape.header_line - 1} line(s) above the header were left out.")
        try:
            frame = pl.read_csv(
                handle,
                separator=shape.delimiter,
                has_header=False,
                skip_lines=shape.header_line,
                infer_schema=False,
                truncate_ragged_lines=True,
                n_rows=rows,
                schema=dict.fromkeys(headers, pl.String),
            )
        except (pl.exceptions.PolarsError, OSError) as problem:
            raise BadFile(
                f"The file breaks off or is not a table: {problem}",
                place=file_name,
                remedy="Download it again, or open it and save it as CSV once more.",
            ) from problem
    if len(frame) > limits.max_rows:
        raise _too_many(len(frame), limits.max_rows, file_name)
    header_height = 1 + sum(cell.count("\n") for cell in shape.header)
    lines = _physical_lines(frame, shape.header_line + header_height)
    frame = _drop_blank(frame.with_columns(lines.alias(LINE)), headers)
    return RawTable(frame, tuple(headers), tuple(notes))


def _physical_lines(frame: pl.DataFrame, first: int) -> pl.Series:
    """The line each record starts on; quoted cells may hold line breaks of their own."""
    breaks = frame.select(
        pl.sum_horizontal(
            pl.all().str.count_matches("\n", literal=True).fill_null(0)
        ).cast(pl.Int64)
    ).to_series()  # fmt: skip
    above = breaks.cum_sum() - breaks
    return pl.int_range(first, first + len(frame), eager=True) + above


def _too_many(rows: int, most: int, file_name: str) -> BadFile:
    return BadFile(
        f"The file has {rows:,} rows; at most {most:,} are read.",
        place=file_name,
        remedy="Download it in shorter ranges of days, or as CSV.",
    )


# --- XLSX and Parquet -------------------------------------------------------------


def _refuse_bomb(path: Path, file_name: str, limits: Limits) -> None:
    try:
        with zipfile.ZipFile(path) as archive:
            unpacked = sum(info.file_size for info in archive.infolist())
    except zipfile.BadZipFile as problem:
        raise BadFile(
            "The file ends in .xlsx but is no workbook.",
            place=file_name,
            remedy="Open it in a spreadsheet and save it as XLSX or CSV.",
        ) from problem
    if unpacked > limits.max_bytes or unpacked > limits.max_xlsx_ratio * path.stat().st_size:
        raise BadFile(
            f"The workbook unpacks to {unpacked / 1024**2:,.0f} MB, far more than its size; it is refused.",
            place=file_name,
            remedy="Save the report as CSV.",
        )


def _read_xlsx(path: Path, file_name: str, limits: Limits, rows: int | None) -> RawTable:
    _refuse_bomb(path, file_name, limits)
    try:
        book = fastexcel.read_excel(path)
        # skip_rows=0 keeps empty rows at the top, so that line numbers stay the file's own.
        sheets = {
            name: book.load_sheet(name, header_row=None, skip_rows=0, dtypes="string").to_polars()
            for name in book.sheet_names
        }
    except fastexcel.FastExcelError as problem:
        raise BadFile(
            f"The workbook cannot be read: {problem}",
            place=file_name,
            remedy="Open it in a spreadsheet and save it again, or save it as CSV.",
        ) from problem
    name, cells = max(sheets.items(), key=lambda item: item[1].height)
    if cells.is_empty():
        raise BadFile("The workbook is empty.", place=file_name, remedy="Download it again.")
    if len(cells) > limits.max_xlsx_rows:
        raise _too_many(len(cells), limits.max_xlsx_rows, file_name)
    index = _header_index(cells.head(_PROBE_RECORDS).rows())
    headers = _tidy_headers(cells.row(index))
    notes = [f"{index} line(s) above the header were left out."] if index else []
    if len(sheets) > 1:
        notes.append(f"The workbook has {len(sheets)} sheets; “{name}”, the longest, was read.")
    cells.columns = headers
    frame = cells.with_row_index(LINE, offset=1).with_columns(pl.col(LINE).cast(pl.Int64))
    frame = _drop_blank(frame.slice(index + 1), headers)
    return RawTable(frame.head(rows) if rows else frame, tuple(headers), tuple(notes))


def _read_parquet(path: Path, file_name: str, limits: Limits, rows: int | None) -> RawTable:
    try:
        count = pq.ParquetFile(path).metadata.num_rows
        if count > limits.max_rows:
            raise _too_many(count, limits.max_rows, file_name)
        frame = pl.read_parquet(path, n_rows=rows)
    except (pl.exceptions.PolarsError, OSError, ValueError) as problem:
        raise BadFile(
            f"The file is no readable Parquet: {problem}", place=file_name, remedy="Write it again."
        ) from problem
    headers = tuple(frame.columns)
    frame = frame.with_columns(pl.all().cast(pl.String)).with_row_index(LINE, offset=1)
    return RawTable(frame.with_columns(pl.col(LINE).cast(pl.Int64)), headers)


# --- out --------------------------------------------------------------------------


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


def write_xlsx(
    target: IO[bytes], sheets: Sequence[Sheet], progress: Callable[[int], None] = lambda done: None
) -> None:
    """
    A workbook: typed cells, frozen headers, filters, widths, number formats.

    progress: told every thousand rows how many are written, of all sheets together.
    """
    book = xlsxwriter.Workbook(target, {"constant_memory": True, "strings_to_formulas": False})
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
