"""The change sheet: the plan as CSV or XLSX, and an edited one read back as plain rows."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import IO, Final

from nimbus_reef.core.changes import KINDS, SHEET_COLUMNS, Change
from nimbus_reef.core.plan import SheetRow
from nimbus_reef.errors import BadFile
from nimbus_reef.formats.tables import Sheet, SheetColumn, csv_lines, plain_cell, read_table, write_xlsx
from nimbus_reef.formats.typed import two_decimals

COLUMNS: Final = SHEET_COLUMNS
_NUMERIC_FIELDS: Final = frozenset(field for (_, field), kind in KINDS.items() if kind.holds.is_number)
_WIDTHS: Final = {"row": 6, "campaign": 34, "ad_group": 22, "target": 30, "reason": 60, "finding": 22}


def _cells(change: Change) -> list[str]:
    return [str(getattr(change, name)) for name in COLUMNS]


def as_csv(changes: Iterable[Change]) -> Iterator[str]:
    """The sheet as CSV text."""
    return csv_lines(COLUMNS, (_cells(change) for change in changes))


def in_layout(changes: Iterable[Change], columns: Sequence[tuple[str, str, bool]]) -> Iterator[str]:
    """The sheet in a layout of one's own, as CSV text. columns: header, our column or a fixed text, whether it is fixed."""
    rows = (
        [told if fixed else str(getattr(change, told)) for _, told, fixed in columns] for change in changes
    )
    return csv_lines([header for header, _, _ in columns], rows)


def _typed_cells(change: Change) -> list[str | int | float]:
    cells: list[str | int | float] = []
    for name, text in zip(COLUMNS, _cells(change), strict=True):
        numeric = name in ("old_value", "new_value") and change.field in _NUMERIC_FIELDS and text
        cells.append(change.row if name == "row" else float(text) if numeric else text)
    return cells


def as_xlsx(changes: Iterable[Change], target: IO[bytes]) -> None:
    """The sheet as a workbook; bids and budgets are numbers in it."""
    columns = [
        SheetColumn(name, _WIDTHS.get(name, 14), "0.00" if name.endswith("_value") else "")
        for name in COLUMNS
    ]
    write_xlsx(target, [Sheet("changes", columns, [_typed_cells(change) for change in changes])])


def read(path: Path, file_name: str) -> list[SheetRow]:
    """
    The rows of an edited sheet, as text; columns in any order, extra ones ignored.

    Raises BadFile when a column of the sheet is missing. Numbers that a spreadsheet
    rewrote (0.7 for 0.70) come back as the plan writes them.
    """
    table = read_table(path, file_name)
    needed = [name for name in COLUMNS if name not in ("reason", "finding")]
    missing = [name for name in needed if name not in table.headers]
    if missing:
        raise BadFile(
            f"The column {', '.join(missing)} is missing.",
            place=file_name,
            remedy="Read back the change sheet downloaded here; its columns must stay.",
        )
    rows = table.frame.select(needed).fill_null("").to_dicts()
    return [_restored(row) for row in rows]


def _restored(row: dict[str, str]) -> SheetRow:
    plain = {name: plain_cell(value.strip()) for name, value in row.items()}
    number = plain["row"]
    plain["row"] = number[:-2] if number.endswith(".0") else number
    if plain["field"] in _NUMERIC_FIELDS:
        for name in ("old_value", "new_value"):
            plain[name] = two_decimals(plain[name])
    return plain
