"""Tables on their way out: a page writes the rows to a file at once, a worker makes the workbook."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import IO, Any, Final

import polars as pl

from nimbus_reef.core.metrics import RATIOS, TACOS
from nimbus_reef.errors import NotFound
from nimbus_reef.formats import tables as tables_of
from nimbus_reef.formats.tables import Sheet, SheetColumn, Table, write_parquet, write_xlsx

_KEPT_SECONDS: Final = 24 * 3600
MOST_ROWS: Final = 1_048_575
"""What a sheet holds under its header."""


def as_xlsx(tables: Sequence[Table], target: IO[bytes], progress: Callable[[int], None] = lambda done: None) -> None:
    """The tables as the sheets of a workbook."""
    write_xlsx(target, [_sheet(table) for table in tables], progress)


def _sheet(table: Table) -> Sheet:
    columns = [
        SheetColumn(header_words(name), 34 if dtype == pl.String else 13, table.formats.get(name, ""))
        for name, dtype in table.rows.schema.items()
    ]
    return Sheet(table.name, columns, table.rows.head(MOST_ROWS).iter_rows())


_TRADE_NAMES: Final = (*RATIOS, TACOS.key, "sku", "id")
_HEADERS: Final[Mapping[str, str]] = {
    "p_over": "probability above target",
    "p_free": "probability above target, words left out",
    "own_test": "enough clicks of its own",
    "own_fault": "converts below similar rows",
    "by_words": "judged by its words",
    "simple_verdict": "by the rule of thumb",
    "needed_cvr": "CVR that its price needs",
    "stake": "wasted per 30 days",
    "likely_overspend": "likely wasted per 30 days",
    "excess": "observed spend above target per 30 days",
    "whose": "group",
    "twins": "duplicates",
    "keep": "keep",
    "keep_why": "why",
    "share_spend": "share of spend",
    "share_sales": "share of sales",
    "usual_share": "usual share of the budget spent",
    "never_near": "never near its budget",
    "dry_days": "days out of budget",
    "dry_from_hour": "out of budget from hour",
    "missed_low": "missed sales, low",
    "missed_middle": "missed sales",
    "missed_high": "missed sales, high",
}


def header_words(name: str) -> str:
    """
    The header of a column as a workbook shows it, in the trade's words; files for programs keep the
    column's own name.
    """
    if name in _HEADERS:
        return _HEADERS[name]
    return " ".join(word.upper() if word in _TRADE_NAMES else word for word in name.replace("_", " ").split(" "))


def as_parquet(table: Table, target: IO[bytes]) -> None:
    """The table as Parquet, types kept."""
    write_parquet(table.rows, target)


def as_json(table: Table) -> str:
    """The table as a JSON array of objects, days as ISO 8601."""
    return table.rows.write_json()


def hand_over(folder: Path, tables: Sequence[Table]) -> dict[str, Any]:
    """Writes the rows for a worker to take up; what the job is asked to do. Old files go."""
    folder.mkdir(parents=True, exist_ok=True)
    for old in folder.iterdir():
        # Another export may clear up at the same moment.
        with suppress(FileNotFoundError):
            if time.time() - old.stat().st_mtime > _KEPT_SECONDS:
                old.unlink()
    stem = uuid.uuid4().hex
    for number, table in enumerate(tables):
        tables_of.hand_over(table.rows, _handed(folder, stem, number))
    sheets = [{"name": table.name, "formats": table.formats} for table in tables]
    return {"stem": stem, "sheets": sheets, "rows": sum(len(table.rows) for table in tables)}


def _handed(folder: Path, stem: str, number: int) -> Path:
    return folder / f"{stem}-{number}.arrow"


def make_workbook(folder: Path, request: dict[str, Any], progress: Callable[[float, str], None]) -> None:
    """Turns what was handed over into a workbook beside it."""
    sources = [_handed(folder, request["stem"], number) for number in range(len(request["sheets"]))]
    try:
        tables = [
            Table(each["name"], tables_of.handed_over(source), each["formats"])
            for each, source in zip(request["sheets"], sources, strict=True)
        ]
    except FileNotFoundError:
        raise NotFound("The rows of this export are gone.", remedy="Export the table again.") from None
    rows = max(1, request["rows"])
    part = workbook(folder, request["stem"]).with_suffix(".part")
    with part.open("wb") as target:
        as_xlsx(tables, target, lambda done: progress(done / rows, f"{done:,} of {rows:,} rows"))
    part.replace(workbook(folder, request["stem"]))
    for source in sources:
        source.unlink(missing_ok=True)


def workbook(folder: Path, stem: str) -> Path:
    """Where the finished workbook lies."""
    return folder / f"{stem}.xlsx"
