"""
A change sheet read back as plain rows: edited, or with what became of each row. Runs in the sandbox only, see
`sandbox`.
"""

from __future__ import annotations

from pathlib import Path
from typing import Final

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


_APPLIED: Final = ("applied", "done", "ok", "success", "accepted")
_REFUSED: Final = ("refused", "failed", "error", "rejected")


def result_rows(path: Path, file_name: str) -> list[tuple[int, bool, str, str]]:
    """
    What became of each row of a sheet that was uploaded by hand: its number, whether it was carried out, code, message.

    Raises BadFile when a column is missing, or a row says something else.
    """
    table = read_table(path, file_name)
    missing = [name for name in ("row", "status") if name not in table.headers]
    if missing:
        raise BadFile(
            f"The column {', '.join(missing)} is missing.",
            place=file_name,
            remedy="A result file has the columns row, status, code and message.",
        )
    names = [name for name in ("row", "status", "code", "message") if name in table.headers]
    found = []
    for line, row in enumerate(table.frame.select(names).fill_null("").to_dicts(), start=2):
        number, status = row["row"].strip().removesuffix(".0"), row["status"].strip().lower()
        if not number.isdecimal() or status not in (*_APPLIED, *_REFUSED):
            raise BadFile(
                f"Line {line}: row “{row['row']}”, status “{row['status']}” cannot be read.",
                place=file_name,
                remedy=f"A row is a number, a status one of {_APPLIED[0]} and {_REFUSED[0]}.",
            )
        found.append((int(number), status in _APPLIED, row.get("code", "").strip(), row.get("message", "").strip()))
    return found


def _restored(row: dict[str, str]) -> SheetRow:
    plain = {name: plain_cell(value.strip()) for name, value in row.items()}
    number = plain["row"]
    plain["row"] = number[:-2] if number.endswith(".0") else number
    if plain["field"] in NUMERIC_FIELDS:
        for name in ("old_value", "new_value"):
            plain[name] = two_decimals(plain[name])
    return plain
