"""XLSX and Parquet in: every sheet as a table of its own, text cells with the lines they stand on."""

from __future__ import annotations

import zipfile
from pathlib import Path
from typing import Final

import fastexcel
import polars as pl
import pyarrow.parquet as pq

from nimbus_reef.errors import BadFile
from nimbus_reef.formats import values
from nimbus_reef.formats.raw import (
    AS_FOUND,
    LINE,
    PROBE_RECORDS,
    Layout,
    Layouts,
    Limits,
    RawTable,
    first_lines,
    header_index,
    only_rows,
    tidy_headers,
    title_of,
    told_above,
    told_notes,
    too_many,
)
from nimbus_reef.formats.workbook_xml import SheetFacts, sheet_facts

_MOST_SHEETS: Final = 60
_LONGEST_NAME: Final = 31


def read(path: Path, file_name: str, limits: Limits, rows: int | None, layouts: Layouts) -> list[RawTable]:
    """
    The sheets with rows, in workbook order; BadFile when there are none. layouts: chosen by the
    user, by sheet name.
    """
    _refuse_bomb(path, file_name, limits)
    try:
        book = fastexcel.read_excel(path)
        by_key = sheet_facts(path)
        names = [name for name in book.sheet_names if not by_key.get(name, _NO_FACTS).hidden] or book.sheet_names
        # skip_rows=0 keeps empty rows at the top, so that line numbers stay the file's own.
        sheets = [
            (
                name,
                _marked(
                    book.load_sheet(name, header_row=None, skip_rows=0, dtypes="string").to_polars(),
                    by_key.get(name, _NO_FACTS),
                ),
            )
            for name in names[:_MOST_SHEETS]
        ]
    except fastexcel.FastExcelError as problem:
        raise BadFile(
            "The workbook cannot be read: a part of it is missing or is not a sheet.",
            place=file_name,
            remedy="Open it in a spreadsheet and save it again, or save it as CSV.",
        ) from problem
    tables = [
        _sheet(name, cells, file_name, limits, rows, layouts.get(name) or layouts.get("", AS_FOUND))
        for name, cells in sheets
        if not cells.is_empty()
    ]
    if not tables:
        raise BadFile("The workbook is empty.", place=file_name, remedy="Download it again.")
    filled = [table for table in tables if not table.frame.is_empty()]
    return filled or tables[:1]


_NO_FACTS: Final = SheetFacts()
NO_VALUE: Final = "#NO VALUE"
"""Stands in a cell that holds a formula without a stored value: the figure is not known, which is not nothing."""


def _marked(cells: pl.DataFrame, facts: SheetFacts) -> pl.DataFrame:
    """The cells with a % where the workbook shows one, and a mark where a formula has no value."""
    if not facts.percent and not facts.unfilled:
        return cells
    by_key = {}
    for number, name in enumerate(cells.columns):
        shown = [line for line, place in facts.percent if place == number and line <= len(cells)]
        unfilled = [line for line, place in facts.unfilled if place == number and line <= len(cells)]
        if not shown and not unfilled:
            continue
        texts = cells[name].to_list()
        for line in shown:
            texts[line - 1] = _as_percent(texts[line - 1])
        for line in unfilled:
            texts[line - 1] = texts[line - 1] or NO_VALUE
        by_key[name] = pl.Series(name, texts, dtype=pl.String)
    return cells.with_columns(**by_key)


def _as_percent(text: str | None) -> str | None:
    try:
        return f"{round(float(text or '') * 100, 10):.10g}%"
    except ValueError:
        return text


def _sheet(
    name: str, cells: pl.DataFrame, file_name: str, limits: Limits, rows: int | None, layout: Layout
) -> RawTable:
    place = f"{file_name}, sheet “{name[:_LONGEST_NAME]}”"
    if len(cells) > limits.max_xlsx_rows:
        raise too_many(len(cells), limits.max_xlsx_rows, place)
    head = cells.head(PROBE_RECORDS).rows()
    own = header_index(head)
    own_headers = tidy_headers(cells.row(own), place, limits) if layout.header_line else ()
    index = min(layout.header_line, len(cells)) - 1 if layout.header_line else own
    headers = tidy_headers(cells.row(index), place, limits)
    cells.columns = headers
    frame = cells.with_row_index(LINE, offset=1).with_columns(pl.col(LINE).cast(pl.Int64)).slice(index + 1)
    # Columns that a spreadsheet has formatted and nobody has written in are none.
    given = [
        header
        for header, cell in zip(headers, cells.row(index), strict=True)
        if (cell or "").strip() or not values.empty(values.trimmed(frame[header])).all()
    ]
    frame, texts = only_rows(frame.select(LINE, *given), given)
    numeric = frozenset(header for header in given if values.canonical(values.trimmed(frame[header])))
    return RawTable(
        frame.head(rows) if rows else frame,
        tuple(given),
        (*told_above(index), *told_notes(texts)),
        title=title_of(head[:index]),
        numeric=numeric,
        sheet=name,
        layout=Layout("", index + 1),
        chosen_layout=layout,
        own_headers=tuple(own_headers),
        first_lines=first_lines(" · ".join(cell or "" for cell in row) for row in head),
    )


def _refuse_bomb(path: Path, file_name: str, limits: Limits) -> None:
    try:
        with zipfile.ZipFile(path) as archive:
            unpacked = sum(info.file_size for info in archive.infolist())
    except (zipfile.BadZipFile, OSError, ValueError) as problem:
        raise BadFile(
            "The file ends in .xlsx but is not a workbook.",
            place=file_name,
            remedy="Open it in a spreadsheet and save it as XLSX or CSV.",
        ) from problem
    if unpacked > limits.max_bytes or unpacked > limits.max_xlsx_ratio * path.stat().st_size:
        raise BadFile(
            f"The workbook unpacks to {unpacked / 1024**2:,.0f} MB, far more than its size. It was refused.",
            place=file_name,
            remedy="Save the report as CSV.",
        )


def read_parquet(path: Path, file_name: str, limits: Limits, rows: int | None) -> RawTable:
    """A Parquet file as text cells; what is a number there is known to be one."""
    try:
        stored = pq.ParquetFile(path)
        if stored.metadata.num_rows > limits.max_rows:
            raise too_many(stored.metadata.num_rows, limits.max_rows, file_name)
        tidy = tidy_headers(stored.schema_arrow.names, file_name, limits)
        frame = pl.read_parquet(path, n_rows=rows)
        frame.columns = tidy
        numeric = frozenset(name for name, dtype in frame.schema.items() if dtype.is_numeric())
        headers = tuple(frame.columns)
        frame = frame.with_columns(pl.all().cast(pl.String)).with_row_index(LINE, offset=1)
    except (pl.exceptions.PolarsError, OSError, ValueError) as problem:
        raise BadFile(
            "The file is not a readable Parquet file, or holds columns that are not plain cells.",
            place=file_name,
            remedy="Write it again, with columns of text, numbers and dates only.",
        ) from problem
    return RawTable(frame.with_columns(pl.col(LINE).cast(pl.Int64)), headers, numeric=numeric)
