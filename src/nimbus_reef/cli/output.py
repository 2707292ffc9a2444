"""Rows on stdout: a table to read, or JSON and CSV for a program."""

from __future__ import annotations

import json
import sys
from collections.abc import Mapping, Sequence
from typing import Any, Final

import click
from rich.console import Console
from rich.table import Table

from nimbus_reef.formats.tables import DIGITS, csv_lines

_WIDEST: Final = 400
FORMAT = click.option(
    "--format",
    "form",
    type=click.Choice(["table", "json", "csv"]),
    default="table",
    show_default=True,
    help="For reading, or for a program.",
)
"""How rows are printed: the option of every command that shows some."""


def show_csv(columns: Sequence[str], rows: Sequence[Mapping[str, Any]]) -> None:
    """Prints rows as CSV, these columns of them."""
    for part in csv_lines(columns, ([row[name] for name in columns] for row in rows)):
        sys.stdout.write(part)


def _as_in_files(value: Any) -> Any:
    """A figure of 15 digits: a difference of 0.1, not of 0.09999999999999998."""
    return float(f"{value:.{DIGITS}g}") if isinstance(value, float) else value


def show(rows: Sequence[Mapping[str, Any]], form: str) -> None:
    """Prints rows of the same columns as `table`, `json` or `csv`, figures as files have them."""
    rows = [{name: _as_in_files(value) for name, value in row.items()} for row in rows]
    if form == "json":
        click.echo(json.dumps(rows, ensure_ascii=False, indent=1, default=str))
    elif not rows:
        # Not on stdout: what a program reads is rows alone.
        click.echo("No rows.", err=True)
    elif form == "csv":
        show_csv(list(rows[0]), rows)
    else:
        table = Table(box=None, header_style="bold")
        for name, value in rows[0].items():
            table.add_column(name, justify="right" if isinstance(value, int | float) else "left")
        for row in rows:
            table.add_row(*("" if value is None else str(value) for value in row.values()))
        console = Console()
        # Whole rows: a cut-off file name is worse than a line that the terminal wraps.
        widest = console.measure(table, options=console.options.update(max_width=_WIDEST)).maximum
        console.width = max(console.width, widest)
        console.print(table)
