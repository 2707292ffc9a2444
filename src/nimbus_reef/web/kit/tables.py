"""One table on a page: heads, rows, where it lies, its pager, and what is said where no row fits."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import KW_ONLY, dataclass, field
from typing import Any

import polars as pl

from nimbus_reef.analysis.tables import Field, parse_filters
from nimbus_reef.core.metrics import ratio
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import notes
from nimbus_reef.web.kit.actions import choices
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListedRows


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


def heads_of(
    fields: Mapping[str, Field], sort: str, figures: Figures, *, words: Sequence[str] = ()
) -> tuple[Head, ...]:
    """The heads of a table that shows all its fields, names first; words: the fields that are said in words."""
    first, *others = fields.values()
    return (
        head_of(first, sort, figures, css="first", rises=True),
        *(head_of(each, sort, figures, css="words" if each.key in words else "") for each in others),
    )


@dataclass(frozen=True, slots=True)
class TableView:
    """
    A table ready to be shown; what stands in a row's cells is its area's own.

    here: the address that its links change; name: its kind, for its look. groups: lines under their heading, one
    group without where there are none; each line has a `key`, by which it is opened. empty: what is said where no
    row fits, and all: the words of the link to all rows. opens: rows open something beside the table; picks: rows can
    be selected. shown, of: how many fit, of how many things. chips: label and text of each filter in force; fields:
    what can be filtered by, nothing where the table cannot; totals: what the rows that fit come to, in words and
    figures. columns, column_sets: those shown and those offered, where they are chosen. noted: rows with a note. view,
    actions: what is done by hand to selected rows, with words, and under which view.
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
    fields: Mapping[str, Field] = field(default_factory=dict, repr=False)
    totals: Sequence[tuple[str, str]] = ()
    noted: frozenset[str] = frozenset()
    columns: Sequence[str] = ()
    column_sets: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    view: str = ""
    actions: Sequence[tuple[str, str]] = ()


def table_of(ask: Context, of: ListedRows, lines: Sequence[Any], heads: tuple[Head, ...], **more: Any) -> TableView:
    """A table of rows that were filtered, sorted and cut to a page."""
    figures, found = ask.figures, of.found
    return TableView(
        heads=heads,
        page=found.page,
        pages=found.pages,
        shown=figures.count(len(found.rows)),
        of=figures.count(len(of.rows)),
        noted=notes.rows_with(ask.facts.store, ask.account.id, of.view) if of.view else frozenset(),
        chips=[(chip.label(figures.symbol), chip.text) for chip in parse_filters(ask.scope.where, of.fields)],
        fields=of.fields,
        view=of.view,
        actions=choices(ask, of.actions),
        **({"groups": {"": lines}, "all": "Clear filters", "totals": sums(found.rows, figures)} | more),
    )


def sums(rows: pl.DataFrame, figures: Figures) -> tuple[tuple[str, str], ...]:
    """What rows that have spend and sales (micro-units) come to together: words and figure."""
    if not all(name in rows.columns and rows.schema[name].is_integer() for name in ("spend", "sales")):
        return ()
    spend, sales = int(rows["spend"].sum()), int(rows["sales"].sum())
    acos = figures.rate(ratio(spend, sales)) if sales else "no sales" if spend else "–"
    return (("spend", figures.micro(spend)), ("sales", figures.micro(sales)), ("ACOS", acos))


def heads(*labels: str | tuple[str, str] | Head) -> tuple[Head, ...]:
    """Heads that nothing is sorted by: the first a name, the rest figures; with a definition as (label, definition)."""
    entries = []
    for place, label in enumerate(labels):
        if isinstance(label, Head):
            entries.append(label)
            continue
        text, definition = label if isinstance(label, tuple) else (label, "")
        entries.append(Head(text, definition, css="first" if place == 0 else ""))
    return tuple(entries)


def words_head(label: str, definition: str = "") -> Head:
    """The head of a column in words."""
    return Head(label, definition, css="words")
