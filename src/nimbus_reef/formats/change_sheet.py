"""The change sheet: the plan as CSV or XLSX."""

from __future__ import annotations

import zipfile
from collections.abc import Iterable, Iterator
from typing import IO, Final

from nimbus_reef.core import sheet_layouts
from nimbus_reef.core.changes import KINDS, SHEET_COLUMNS, Change
from nimbus_reef.core.sheet_layouts import Ids, SheetLayout
from nimbus_reef.formats.tables import Sheet, SheetColumn, csv_lines, write_xlsx

COLUMNS: Final = SHEET_COLUMNS
NUMERIC_FIELDS: Final = frozenset(field for (_, field), kind in KINDS.items() if kind.holds.is_number)
_WIDTHS: Final = {"row": 6, "campaign": 34, "ad_group": 22, "target": 30, "reason": 60, "finding": 22}


def _cells(change: Change) -> list[str]:
    return [str(getattr(change, name)) for name in COLUMNS]


def as_row(change: Change) -> dict[str, str]:
    """A row of the sheet by its columns, as a marketplace is sent it."""
    return dict(zip(COLUMNS, _cells(change), strict=True))


def as_csv(changes: Iterable[Change]) -> Iterator[str]:
    """The sheet as CSV text."""
    return csv_lines(COLUMNS, (_cells(change) for change in changes))


def in_layout(changes: Iterable[Change], ids: Ids, layout: SheetLayout) -> Iterator[str]:
    """The sheet in a layout of one's own, as CSV text."""
    rows = (sheet_layouts.cells(change, ids.get(change.row, {}), layout) for change in changes)
    return csv_lines([each.header for each in layout.columns], rows)


def in_files(changes: Iterable[Change], ids: Ids, layout: SheetLayout, target: IO[bytes]) -> None:
    """The same as a ZIP of a file for each kind of thing."""
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, part in sheet_layouts.files(changes, layout).items():
            packed.writestr(f"{name}.csv", "".join(in_layout(part, ids, layout)))


def _typed_cells(change: Change) -> list[str | int | float]:
    cells: list[str | int | float] = []
    for name, text in zip(COLUMNS, _cells(change), strict=True):
        numeric = name in ("old_value", "new_value") and change.field in NUMERIC_FIELDS and text
        cells.append(change.row if name == "row" else float(text) if numeric else text)
    return cells


def as_xlsx(changes: Iterable[Change], target: IO[bytes]) -> None:
    """The sheet as a workbook; bids and budgets are numbers in it."""
    columns = [SheetColumn(name, _WIDTHS.get(name, 14), "0.00" if name.endswith("_value") else "") for name in COLUMNS]
    write_xlsx(target, [Sheet("changes", columns, [_typed_cells(change) for change in changes])])
