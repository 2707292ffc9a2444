"""Tables on their way out: a page writes the rows to a file at once, a worker makes the workbook."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import IO, Any, Final

import polars as pl

from nimbus_reef.errors import NotFound
from nimbus_reef.formats.tables import SheetColumn, write_xlsx

_KEPT_SECONDS: Final = 24 * 3600
MOST_ROWS: Final = 1_048_575
"""What a sheet holds under its header."""


@dataclass(frozen=True, slots=True)
class Table:
    """Rows to be taken out: columns under their headers; formats: number formats by header."""

    name: str
    rows: pl.DataFrame
    formats: dict[str, str]


def as_xlsx(table: Table, target: IO[bytes], progress: Callable[[int], None] = lambda done: None) -> None:
    """The table as a workbook."""
    columns = [
        SheetColumn(name, 34 if dtype == pl.String else 13, table.formats.get(name, ""))
        for name, dtype in table.rows.schema.items()
    ]
    write_xlsx(target, table.name, columns, table.rows.head(MOST_ROWS).iter_rows(), progress)


def as_parquet(table: Table, target: IO[bytes]) -> None:
    """The table as Parquet, types kept."""
    table.rows.write_parquet(target)


def hand_over(folder: Path, table: Table) -> dict[str, Any]:
    """Writes the rows for a worker to take up; what the job is asked to do. Old files go."""
    folder.mkdir(parents=True, exist_ok=True)
    for old in folder.iterdir():
        if time.time() - old.stat().st_mtime > _KEPT_SECONDS:
            old.unlink(missing_ok=True)
    stem = uuid.uuid4().hex
    table.rows.write_ipc(folder / f"{stem}.arrow")
    return {"stem": stem, "name": table.name, "formats": table.formats, "rows": len(table.rows)}


def make_workbook(folder: Path, request: dict[str, Any], progress: Callable[[float, str], None]) -> None:
    """Turns what was handed over into a workbook beside it."""
    source = folder / f"{request['stem']}.arrow"
    if not source.exists():
        raise NotFound("The rows of this export are no longer here.", remedy="Export the table again.")
    table = Table(request["name"], pl.read_ipc(source), request["formats"])
    rows = max(1, len(table.rows))
    part = workbook(folder, request["stem"]).with_suffix(".part")
    with part.open("wb") as target:
        as_xlsx(table, target, lambda done: progress(done / rows, f"{done:,} of {rows:,} rows"))
    part.replace(workbook(folder, request["stem"]))
    source.unlink()


def workbook(folder: Path, stem: str) -> Path:
    """Where the finished workbook lies."""
    return folder / f"{stem}.xlsx"
