"""One mechanism for every table: filters on any metric, text search, sort, pages, totals."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.core.glossary import definition
from nimbus_reef.core.metrics import METRICS, Unit, acos_rank, is_money
from nimbus_reef.core.model import FORMER_WORDS, MICRO
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.typed import number

PAGE_ROWS: Final = 100
_TOO_LARGE: Final = 10**12
_OPERATORS: Final[Mapping[str, str]] = {"gt": ">", "ge": "≥", "lt": "<", "le": "≤", "eq": "="}
_CHOICE_OPERATORS: Final[Mapping[str, str]] = {"is": "is", "not": "is not"}
_TEXT_OPERATORS: Final[Mapping[str, str]] = {"has": "contains", "lacks": "does not contain"}
OPERATORS: Final[Mapping[str, str]] = {**_OPERATORS, **_CHOICE_OPERATORS, **_TEXT_OPERATORS}
"""Every comparison, as the URL has it and as it is written."""
_DAY_OPERATORS: Final = {key: _OPERATORS[key] for key in ("ge", "le", "eq")}
_LONGEST_TEXT: Final = 200
YES: Final = "yes"
NO: Final = "no"


@dataclass(frozen=True, slots=True)
class Field:
    """
    Something rows can be filtered and sorted by.

    expr gives it in the unit it is written in (percent for rates, units for money);
    options are the values of a choice, in their order; text: it is compared by what it contains; day: it is a day;
    digits are its decimals, and those of a column of it: None for what is not a column of figures.
    """

    key: str
    label: str
    expr: pl.Expr
    unit: str = ""
    definition: str = ""
    options: tuple[str, ...] = ()
    digits: int | None = None
    text: bool = False
    day: bool = False

    @property
    def operators(self) -> Mapping[str, str]:
        """What it can be compared with, as the URL has it and as it is written."""
        if self.options:
            return _CHOICE_OPERATORS
        return _TEXT_OPERATORS if self.text else _DAY_OPERATORS if self.day else _OPERATORS


def yes_or_no(key: str, label: str, condition: pl.Expr, definition: str = "") -> Field:
    """A field that says whether something holds."""
    expr = pl.when(condition.fill_null(False)).then(pl.lit(YES)).otherwise(pl.lit(NO))
    return Field(key, label, expr, options=(YES, NO), definition=definition)


def choice(key: str, label: str, expr: pl.Expr, rows: pl.DataFrame, definition: str = "") -> Field | None:
    """A field whose options are the texts that rows have in it; None where they have none."""
    if not set(expr.meta.root_names()) <= set(rows.columns):
        return None
    values = rows.select(expr.cast(pl.String).alias(key))[key].drop_nulls().unique().sort().to_list()
    return Field(key, label, expr.cast(pl.String), options=tuple(values), definition=definition) if values else None


def word_count(column: str) -> Field:
    """How many words a text has."""
    count = pl.col(column).cast(pl.String).str.count_matches(r"\S+")
    return Field("words", "number of words", count, "", "Words divided by spaces", digits=0)


def by_key(*fields: Field | None) -> dict[str, Field]:
    """Fields by their keys, those that are not there left out."""
    return {field.key: field for field in fields if field is not None}


def metric_fields() -> list[Field]:
    """Every metric of the trade as a field."""
    fields = []
    for metric in METRICS.values():
        expr = pl.col(metric.key)
        if metric.key == "acos":
            expr = acos_rank() * 100
        elif metric.unit is Unit.RATE:
            expr = expr * 100
        elif is_money(metric.key):
            expr = expr / MICRO
        unit = "%" if metric.unit is Unit.RATE else "¤" if metric.unit is Unit.MONEY else ""
        fields.append(Field(metric.key, metric.label, expr, unit, definition(metric.label), digits=metric.digits))
    return fields


def chosen_columns(text: str, sets: Mapping[str, tuple[str, ...]], fields: Mapping[str, Field]) -> tuple[str, ...]:
    """The columns of a URL: a set by its name, or keys divided by commas; the first set for none."""
    if not text:
        return next(iter(sets.values()))
    if text in sets:
        return sets[text]
    keys = tuple(dict.fromkeys(key for key in text.split(",") if key))
    wrong = [key for key in keys if key not in fields or fields[key].digits is None]
    if wrong or not keys:
        raise BadInput(
            f"There is no column “{', '.join(wrong) or text}”.",
            remedy=f"Choose a set ({', '.join(sets)}) or columns under “columns”.",
        )
    return keys


@dataclass(frozen=True, slots=True)
class Filter:
    """One chip: field · comparison · value."""

    field: Field
    operator: str
    value: str

    @property
    def text(self) -> str:
        """Its form in the URL."""
        return f"{self.field.key}:{self.operator}:{self.value}"

    def label(self, symbol: str) -> str:
        """What the chip says."""
        unit = symbol if self.field.unit == "¤" else self.field.unit
        words = f"{self.field.label} {self.field.operators[self.operator]}"
        return (
            f"{words} {unit}\u00a0{self.value}"
            if unit == symbol and unit
            else f"{words} {self.value}{' %' if unit == '%' else ''}"
        )

    def condition(self) -> pl.Expr:
        """The rows it keeps; a figure that is null is kept by no comparison."""
        if self.field.options:
            same = (self.field.expr == self.value).fill_null(False)
            return same if self.operator == "is" else ~same
        if self.field.text:
            text = self.field.expr.cast(pl.String).fill_null("").str.to_lowercase()
            wanted = [each.strip() for each in self.value.lower().split("|") if each.strip()]
            holds = text.str.contains_any(wanted) if wanted else pl.lit(True)
            return holds if self.operator == "has" else ~holds
        if self.field.day:
            day = pl.lit(date.fromisoformat(self.value))
            compared = {"ge": self.field.expr >= day, "le": self.field.expr <= day, "eq": self.field.expr == day}
            return compared[self.operator].fill_null(False)
        bound = float(self.value)
        # A figure shown as 28.0 should meet "= 28", hence the tolerance.
        comparisons = {
            "gt": self.field.expr > bound,
            "ge": self.field.expr >= bound - 1e-9,
            "lt": self.field.expr < bound,
            "le": self.field.expr <= bound + 1e-9,
            "eq": (self.field.expr - bound).abs() < 1e-6,
        }
        return comparisons[self.operator].fill_null(False)


def parse_filters(texts: Sequence[str], fields: Mapping[str, Field]) -> list[Filter]:
    """The chips of a URL; BadInput names the one that cannot be understood."""
    return [_parse_filter(text, fields) for text in dict.fromkeys(texts)]


def _parse_filter(text: str, fields: Mapping[str, Field]) -> Filter:
    key, _, rest = text.partition(":")
    operator, _, value = rest.partition(":")
    field = fields.get(key)
    if field is None or operator not in field.operators:
        offered = field.operators if field is not None else fields
        raise BadInput(
            f"The filter “{text}” is not valid.",
            remedy=(
                "Remove it, or write it as column:comparison:value; "
                f"{'columns' if field is None else f'comparisons of {key}'} are {', '.join(offered)}."
            ),
        )
    if field.options:
        value = value if value in field.options else FORMER_WORDS.get(value, value)
        if value not in field.options:
            raise BadInput(f"{field.label} is never “{value}”.", remedy=f"Choose {', '.join(field.options)}.")
        return Filter(field, operator, value)
    if field.text:
        if not 0 < len(value) <= _LONGEST_TEXT:
            raise BadInput(f"{field.label}: no text to look for.", remedy="Enter a part of a name.")
        return Filter(field, operator, value)
    if field.day:
        try:
            return Filter(field, operator, date.fromisoformat(value).isoformat())
        except ValueError:
            raise BadInput(f"“{value}” is not a day.", remedy="Write it like 2026-11-28.") from None
    figure = number(value)
    if figure is None or abs(figure) >= _TOO_LARGE:
        raise BadInput(f"“{value}” is not a number to compare {field.label} with.", remedy="Write it like 28 or 0.94.")
    return Filter(field, operator, f"{figure:f}")


def search_condition(query: str, columns: Sequence[str]) -> pl.Expr:
    """Rows whose text holds every word; “"exact words"” together, “-without” not at all."""
    text = pl.concat_str(
        [pl.col(column).cast(pl.String).fill_null("") for column in columns], separator=" \x1f "
    ).str.to_lowercase()
    condition = pl.lit(True)
    for minus, quoted, word in re.findall(r'(-?)(?:"([^"]*)"|(\S+))', query.lower()):
        wanted = quoted or word
        if not wanted or wanted == '"':
            continue
        holds = text.str.contains(wanted, literal=True)
        condition = condition & (~holds if minus else holds)
    return condition


@dataclass(frozen=True, slots=True)
class Listing:
    """Rows after the filters, in no order, and the page that is shown, in its own."""

    rows: pl.DataFrame
    shown: pl.DataFrame
    page: int
    pages: int
    sort: str
    by: pl.Expr | None

    @property
    def ordered(self) -> pl.DataFrame:
        """All rows in their order."""
        return self.rows if self.by is None else self.rows[_order(self.rows, self.by, self.sort)]


def _order(rows: pl.DataFrame, by: pl.Expr, sort: str, first: int = 0, count: int | None = None) -> pl.Series:
    """
    Where in `rows` those of a page come; all where no count is given.

    Only numbers are sorted, and of the first pages only their own: the row's number as second
    key keeps equals in their order without asking for a sort of everything.
    """
    return (
        rows.lazy()
        .select(by.alias("by"))
        .with_row_index("place")
        .sort("by", "place", descending=[sort.startswith("-"), False], nulls_last=True)
        .slice(first, count)
        .select("place")
        .collect()["place"]
    )


def page_of(count: int, asked: int, rows: int = PAGE_ROWS) -> tuple[int, int]:
    """The page that is shown where one is asked for, the last where there are not so many; and how many there are."""
    pages = max(1, -(-count // rows))
    return min(asked, pages), pages


def listing(
    rows: pl.DataFrame,
    *,
    filters: Sequence[Filter],
    query: str,
    text_columns: Sequence[str],
    sort: str,
    fields: Mapping[str, Field],
    page: int,
    page_rows: int = PAGE_ROWS,
) -> Listing:
    """Filters, sorts (`-key` is descending, nulls last; empty: as they come) and cuts to a page."""
    kept = rows
    if filters:
        kept = kept.filter(*(each.condition() for each in filters))
    if query:
        kept = kept.filter(search_condition(query, text_columns))
    page, pages = page_of(len(kept), page, page_rows)
    first = (page - 1) * page_rows
    if not sort:
        return Listing(kept, kept.slice(first, page_rows), page, pages, sort, None)
    key = sort.removeprefix("-")
    field = fields.get(key)
    if field is None or not set(field.expr.meta.root_names()) <= set(kept.columns):
        raise BadInput(f"Rows cannot be sorted by “{key}”.", remedy="Click a column head instead.")
    shown = kept[_order(kept, field.expr, sort, first, page_rows)]
    return Listing(kept, shown, page, pages, sort, field.expr)
