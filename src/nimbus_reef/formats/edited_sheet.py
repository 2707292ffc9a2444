"""An edited change sheet read back as plain rows. Runs in the sandbox only, see `sandbox`."""

from __future__ import annotations

from pathlib import Path

from nimbus_reef.core.plan import SheetRow
from nimbus_reef.errors import BadFile
from nimbus_reef.formats.change_sheet import COLUMNS, NUMERIC_FIELDS
from nimbus_reef.formats.files import read_table
from nimbus_reef.formats.tables import plain_cell
from nimbus_reef.formats.typed import two_decimals


def edited_rows(path: Path, file_name: str) -> list[SheetRow]:
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
            remedy="Upload the change sheet downloaded here with all its columns.",
        )
    rows = table.frame.select(needed).fill_null("").to_dicts()
    return [_restored(row) for row in rows]


def _restored(row: dict[str, str]) -> SheetRow:
    plain = {name: plain_cell(value.strip()) for name, value in row.items()}
    number = plain["row"]
    plain["row"] = number[:-2] if number.endswith(".0") else number
    if plain["field"] in NUMERIC_FIELDS:
        for name in ("old_value", "new_value"):
            plain[name] = two_decimals(plain[name])
    return plain
