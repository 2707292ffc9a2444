"""The list of notes: what was written, about what, by whom and when; each leads to its thing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.tables import Field, by_key, choice
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.people import notes
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.opened import KINDS_OF_ROWS, address
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of


@dataclass(frozen=True, slots=True)
class NoteLine:
    """A note. href: where its thing is open."""

    key: str
    text: str
    thing: str
    place: str
    kind: str
    by: str
    day: str
    href: str


def _rows(ask: Context) -> pl.DataFrame:
    """The account's notes, newest first."""
    found = notes.of_account(ask.facts.store, ask.account.id)
    return pl.DataFrame(
        [
            (
                str(each.id),
                each.text,
                each.about.thing or each.about.row_id,
                each.about.place,
                KINDS_OF_ROWS.get(each.about.view, each.about.view),
                each.by,
                each.at.date(),
                each.about.view,
                each.about.row_id,
            )
            for each in found
        ],
        schema={
            **dict.fromkeys(("row_id", "text", "thing", "place", "kind", "by"), pl.String),
            "day": pl.Date,
            "view": pl.String,
            "of": pl.String,
        },
        orient="row",
    )


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What notes are filtered and sorted by."""
    return by_key(
        Field("text", "note", pl.col("text"), text=True),
        Field("thing", "about", pl.col("thing"), text=True),
        Field("kind", "kind", pl.col("kind"), options=tuple(rows["kind"].unique().sort()) or ("target",)),
        choice("by", "by", pl.col("by"), rows),
        Field("day", "day", pl.col("day"), day=True),
    )


LIST: Final = ListSpec(
    _rows,
    fields,
    ("text", "thing", "place", "by"),
    file=lambda _, rows: Table("notes", rows.select("day", "by", "kind", "thing", "place", "text"), {}),
)


def lines(ask: Context, rows: pl.DataFrame, figures: Figures) -> list[NoteLine]:
    """Notes as rows."""
    return [
        NoteLine(
            row["row_id"],
            row["text"],
            row["thing"],
            row["place"],
            row["kind"],
            row["by"],
            figures.day(row["day"]),
            address(ask, row["view"], row["of"]),
        )
        for row in rows.to_dicts()
    ]


@dataclass(frozen=True, slots=True)
class NotesView:
    """The notes of an account."""

    table: TableView


def page(ask: Context) -> NotesView:
    """The view."""
    of = listed(ask, LIST)
    keys = [key for key in ("text", "thing", "kind", "by", "day") if key in of.fields]
    heads = heads_of(
        {key: of.fields[key] for key in keys}, of.found.sort, ask.figures, words=("thing", "kind", "by", "day")
    )
    return NotesView(
        table_of(
            ask,
            of,
            lines(ask, of.found.shown, ask.figures),
            heads,
            here=ask.url("notes.index"),
            name="notes",
            things="notes",
            opens=False,
            empty="No notes yet. Open any row and press n to write one." if of.rows.is_empty() else "No notes match.",
        )
    )
