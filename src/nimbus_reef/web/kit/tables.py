"""One table on a page: heads, rows, where it lies, its pager, and what is said where no row fits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import KW_ONLY, dataclass, field
from typing import Any

import polars as pl

from nimbus_reef.analysis.tables import Field, Listing, listing, parse_filters
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.params import Scope


@dataclass(frozen=True, slots=True)
class Head:
    """
    A column head. sort: what a click sorts by, nothing where it cannot; sorted: how it is now, in the words of
    `aria-sort`. css: first, words or num. spoken: what only a screen reader says before it.
    """

    label: str
    definition: str = ""
    _: KW_ONLY
    sorted: str = ""
    sort: str = ""
    css: str = ""
    spoken: str = ""


def head_of(shown: Field, sort: str, figures: Figures, *, css: str = "", label: str = "", rises: bool = False) -> Head:
    """The head of a field, in its unit; rises: the first click puts the least first, as for names."""
    down, up = f"-{shown.key}", shown.key
    order = "descending" if sort == down else "ascending" if sort == up else ""
    unit = figures.symbol if shown.unit == "¤" else shown.unit
    after = (down if sort == up else up) if rises else (up if sort == down else down)
    return Head(label or f"{shown.label} {unit}".strip(), shown.definition, sorted=order, sort=after, css=css)


def heads_of(fields: Mapping[str, Field], sort: str, figures: Figures, *, words: str = "") -> tuple[Head, ...]:
    """The heads of a table that shows all its fields, names first; words: the field that is said in words."""
    first, *others = fields.values()
    return (
        head_of(first, sort, figures, css="first", rises=True),
        *(head_of(each, sort, figures, css="words" if each.key == words else "") for each in others),
    )


@dataclass(frozen=True, slots=True)
class TableView:
    """
    A table ready to be shown; what stands in a row's cells is its area's own.

    here: the address that its links change; name: its kind, for its look. groups: lines under their heading, one
    group without where there are none; each line has a `key`, by which it is opened. empty: what is said where no
    row fits, and all: the words of the link to all rows. opens: rows open something beside the table; picks: rows can
    be selected. shown, of: how many fit, of how many things. chips: label and text of each filter in force.
    """

    here: str
    heads: tuple[Head, ...]
    groups: Mapping[str, Sequence[Any]]
    name: str = ""
    page: int = 1
    pages: int = 1
    empty: str = ""
    all: str = ""
    opens: bool = True
    picks: bool = False
    shown: str = ""
    of: str = ""
    things: str = "rows"
    chips: Sequence[tuple[str, str]] = field(default=())


def filtered(scope: Scope, rows: pl.DataFrame, fields: Mapping[str, Field], sort: str, *text: str) -> Listing:
    """Rows as the scope filters, searches (in the columns text) and sorts them, else by sort."""
    return listing(
        rows,
        filters=parse_filters(scope.where, fields),
        query=scope.query,
        text_columns=text,
        sort=scope.sort or sort,
        fields=fields,
        page=scope.page,
    )


def table_of(
    listed: Listing, of: int, lines: Sequence[Any], heads: tuple[Head, ...], figures: Figures, **more: Any
) -> TableView:
    """A table of rows that were filtered, sorted and cut to a page."""
    return TableView(
        heads=heads,
        groups={"": lines},
        page=listed.page,
        pages=listed.pages,
        shown=figures.count(len(listed.rows)),
        of=figures.count(of),
        **more,
    )


def heads(*labels: str | tuple[str, str] | Head) -> tuple[Head, ...]:
    """Heads that nothing is sorted by: the first a name, the rest figures; with a definition as (label, definition)."""
    made = []
    for place, label in enumerate(labels):
        if isinstance(label, Head):
            made.append(label)
            continue
        text, definition = label if isinstance(label, tuple) else (label, "")
        made.append(Head(text, definition, css="first" if place == 0 else ""))
    return tuple(made)


def words_head(label: str, definition: str = "") -> Head:
    """The head of a column in words."""
    return Head(label, definition, css="words")
