"""CSV, XLSX and Parquet in: what kind a file is, and its tables as text. Runs in the sandbox only, see `sandbox`."""

from __future__ import annotations

from pathlib import Path
from typing import Final

from nimbus_reef.errors import BadFile
from nimbus_reef.formats import csv_files, workbooks
from nimbus_reef.formats.raw import AS_FOUND, Layout, Layouts, Limits, RawTable

USUAL: Final = Limits()


def file_kind(file_name: str) -> str:
    """csv, xlsx or parquet by the ending of the name; anything else cannot be read."""
    ending = Path(file_name).suffix.lower()
    kinds = {".csv": "csv", ".tsv": "csv", ".txt": "csv", ".xlsx": "xlsx", ".parquet": "parquet"}
    if ending not in kinds:
        raise BadFile(
            f"Files of the kind “{ending[:20] or 'no ending'}” cannot be read.",
            place=file_name,
            remedy="Save the report as CSV, XLSX or Parquet.",
        )
    return kinds[ending]


def read_tables(
    path: Path, file_name: str, *, limits: Limits = USUAL, rows: int | None = None, layouts: Layouts | None = None
) -> list[RawTable]:
    """
    The tables of a file: one, or of a workbook every sheet that holds rows.

    rows: only so many first records of each, for a preview; layouts: what was said of where their cells stand. Raises
    BadFile with place and remedy when the file cannot be read or is over a limit.
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
    by_key = layouts or {}
    match kind:
        case "xlsx":
            found = workbooks.read(path, file_name, limits, rows, by_key)
        case "csv":
            found = [csv_files.read(path, file_name, limits, rows, by_key.get("", AS_FOUND))]
        case _:
            found = [workbooks.read_parquet(path, file_name, limits, rows)]
    if all(table.frame.is_empty() and table.problems.is_empty() for table in found):
        raise BadFile(
            "The file has a header but no rows.", place=file_name, remedy="Check the range of days of the report."
        )
    return found


def read_table(
    path: Path,
    file_name: str,
    *,
    limits: Limits = USUAL,
    rows: int | None = None,
    sheet: str = "",
    layout: Layout = AS_FOUND,
) -> RawTable:
    """One table of a file: the sheet named, else the one with most rows. BadFile as `read_tables`."""
    found = read_tables(path, file_name, limits=limits, rows=rows, layouts={sheet: layout})
    if sheet:
        chosen = next((table for table in found if table.sheet == sheet), None)
        if chosen is None:
            raise BadFile(
                f"The workbook has no sheet “{sheet}”.",
                place=file_name,
                remedy=f"Choose one of {', '.join(table.sheet for table in found)}.",
            )
        return chosen
    return max(found, key=lambda table: len(table.frame))
