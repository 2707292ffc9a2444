"""What a report kind is made of: columns, what their cells hold, what a new file replaces."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum


class CellKind(StrEnum):
    """What a column's cells are."""

    DATE = "date"
    WEEK = "week"
    MONTH = "month"
    TIME = "time"
    TEXT = "text"
    COUNT = "count"
    HOUR = "hour"
    MONEY = "money"
    SHARE = "share"
    PERCENT = "percent"
    RANK = "rank"
    NUMBER = "number"
    CHOICE = "choice"
    PERIOD = "period"

    @property
    def dated(self) -> bool:
        """True for cells that are read as a date, whatever it then stands for."""
        return self in (CellKind.DATE, CellKind.WEEK, CellKind.MONTH, CellKind.TIME, CellKind.PERIOD)


@dataclass(frozen=True, slots=True)
class Column:
    """
    One column of a report kind.

    words: how other people's reports head such a column. aliases: other spellings of
    a choice's values, letters only, lower case, on top of the values themselves.
    summed: a count or sum of money that adds up over rows; nothing there means 0.
    most: the largest figure that can stand there. anything: a text that may say whatever a
    setting can be, so that figures and dates in it tell nothing against it. longest: characters
    of a text. assumed: what every row is taken to be where the file has no such column; of rows of days only
    where an amount beside it tells that they are settings.
    blank_with: the column and its first letters beside which this one may be empty.
    """

    name: str
    holds: CellKind
    required: bool = True
    words: tuple[str, ...] = ()
    aliases: Mapping[str, str] = field(default_factory=dict)
    summed: bool = False
    most: float | None = None
    anything: bool = False
    longest: int = 255
    assumed: str = ""
    blank_with: tuple[str, str] | None = None


DAY_COLUMNS = ("date", "week", "month", "at")
"""Names of the columns that place a row in time."""


SPAN_COLUMNS = ("from", "to", "period")
"""Columns that tell the days of a sum, in two columns or in one, where a kind takes blocks."""


class Replaces(StrEnum):
    """What a newly loaded file takes the place of."""

    DAYS = "days"
    KEYS = "keys"


@dataclass(frozen=True, slots=True)
class ReportKind:
    """
    A kind of report: what a row is, its columns, and its key besides the day.

    A row belongs to a day: that of its date, the Monday of its week, the first of its
    month, the day of its time; or the day of loading, where it has none of these.
    """

    name: str
    title: str
    row_is: str
    columns: tuple[Column, ...]
    key: tuple[str, ...]
    replaces: Replaces = Replaces.DAYS

    @property
    def has_campaign(self) -> bool:
        """True when rows belong to a campaign, and so to an ad format."""
        return any(column.name == "campaign" for column in self.columns)

    @property
    def day_column(self) -> str | None:
        """The column that says to which day a row belongs; None when the load's own day counts."""
        found = (column.name for column in self.columns if column.name in DAY_COLUMNS)
        return next(found, None)

    @property
    def takes_blocks(self) -> bool:
        """True when rows may be sums of several days, known only together."""
        return self.day_column == "date" and bool(self.summed)

    @property
    def is_settings(self) -> bool:
        """True when a row says how something is set on a day."""
        return self.day_column == "date" and not self.summed and self.has_campaign

    @property
    def has_days(self) -> bool:
        """True when a row belongs to a day."""
        return self.day_column is not None

    @property
    def summed(self) -> tuple[str, ...]:
        """The columns that add up over rows."""
        return tuple(column.name for column in self.columns if column.summed)

    def column(self, name: str) -> Column:
        """A column by its name in the contract."""
        return next(column for column in self.columns if column.name == name)
