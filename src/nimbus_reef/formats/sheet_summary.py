"""A first look at the tables of a file, and what is still to be asked about them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from nimbus_reef.core.windows import Window
from nimbus_reef.errors import BadInput
from nimbus_reef.formats import mapping, mixed, values
from nimbus_reef.formats.kinds import READ_KINDS
from nimbus_reef.formats.mapping import ColumnMap, Suggestion
from nimbus_reef.formats.raw import RawTable
from nimbus_reef.formats.values import DateOrder


@dataclass(frozen=True, slots=True)
class SheetSummary:
    """
    A first look at one table: its head, the kinds it may be (best first), the days its names tell.

    told_by, words: the column that tells rows of several kinds apart, and what its words feed.
    """

    table: RawTable
    suggestions: tuple[Suggestion, ...]
    days: Window | None
    told_by: str = ""
    words: tuple[tuple[str, tuple[str, ...]], ...] = ()

    @property
    def signature(self) -> str:
        """What makes two tables come from the same source."""
        return mapping.signature(self.table.source_headers, self.told_by)

    def suggestion_of(self, columns: ColumnMap) -> Suggestion | None:
        """The suggestion for the rows and the kind of a mapping; None for kinds that exist only in mixed sheets."""
        if columns.told_by:
            return mixed.suggestion_of(self.table, columns)
        return next((each for each in self.suggestions if each.mapping.kind == columns.kind), None)


def date_doubt(table: RawTable, columns: ColumnMap) -> str | None:
    """The header whose dates could be day-first or month-first when nobody said which; else None."""
    if columns.date_order is not DateOrder.UNKNOWN:
        return None
    return doubtful(date_orders(table, columns))


def date_orders(table: RawTable, columns: ColumnMap) -> dict[str, DateOrder | None]:
    """The order of day and month that each column of dates proves."""
    return {header: values.date_order(table.frame[header]) for header in _dated_headers(columns)}


def doubtful(orders: Mapping[str, DateOrder | None]) -> str | None:
    """The first header whose order is open when no column proves one; else None."""
    if any(order not in (None, DateOrder.UNKNOWN) for order in orders.values()):
        return None
    return next((header for header, order in orders.items() if order is DateOrder.UNKNOWN), None)


def days_missing(table: RawTable, columns: ColumnMap, file_name: str) -> BadInput:
    """The refusal of a file without dates, with the days that its names tell."""
    window = mapping.days_told(table, file_name)
    if READ_KINDS[columns.kind].is_settings:
        day = f"{window.last}" if window else "YYYY-MM-DD"
        remedy = f"Say it (in the mapping, or with --day {day})."
        return BadInput("The file does not say of which day its settings are.", place=file_name, remedy=remedy)
    first, last = (window.first, window.last) if window else ("YYYY-MM-DD", "YYYY-MM-DD")
    return BadInput(
        "The file does not say which days it covers.",
        place=file_name,
        remedy=(
            f"Say them (in the mapping, or with --from {first} --to {last})"
            f"{'; these are from its name or title' if window else ''}."
        ),
    )


def _dated_headers(columns: ColumnMap) -> list[str]:
    return [
        columns.columns[column.name]
        for column in READ_KINDS[columns.kind].columns
        if column.holds.dated and column.name in columns.columns
    ]
