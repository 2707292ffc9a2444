"""Layouts of one's own for the change sheet: the editor as it is typed, and a preview from the plan."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

from nimbus_reef.core import sheet_layouts
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.model import PLACEMENTS
from nimbus_reef.core.sheet_layouts import FIXED, OURS, SOURCES, WORDS, Ids, LayoutColumn, SheetLayout
from nimbus_reef.store.people import plans
from nimbus_reef.store.people import sheet_layouts as store_layouts
from nimbus_reef.store.reading import marketplace_ids
from nimbus_reef.web.kit.context import Context

_SHOWN: Final = 5
_BLANK: Final = 2
_EXAMPLE: Final = (
    Change(1, Action.UPDATE, Entity.TARGET, "Example", "bid", "0.64", "0.80", "Group", "grow light", "exact"),
    Change(2, Action.UPDATE, Entity.CAMPAIGN, "Example", "daily_budget", "12.00", "15.00"),
)
_NAMES: Final = {
    "campaign_id": "campaign id",
    "ad_group_id": "ad group id",
    "target_id": "target id",
    "ad_id": "product ad id",
    FIXED: "the same text",
    **PLACEMENTS,
}


@dataclass(frozen=True, slots=True)
class LayoutsView:
    """
    layouts: those there are; layout: the one that is edited; blank: empty rows behind its columns; sources: what can
    stand in a column, with words; words: ours, what they are called, what this layout writes; header, rows: the first
    rows of the sheet in it, of an example where the plan is empty; lacking: for which rows an id is not known.
    """

    layouts: Sequence[SheetLayout]
    layout: SheetLayout
    blank: int
    sources: Sequence[tuple[str, str]]
    words: Mapping[str, tuple[str, str]]
    header: Sequence[str]
    rows: Sequence[Sequence[str]]
    example: bool
    lacking: str
    wrong: str


def page(ask: Context, layout: SheetLayout | None = None) -> LayoutsView:
    """The view. layout: the one being edited, as it is typed; a new one begins with the columns of our sheet."""
    edited = layout or replace(OURS, name="")
    changes = ask.planned_changes()
    ids = marketplace_ids.of_changes(ask.facts, ask.account.id, changes) if changes else {}
    named = replace(edited, name=edited.name or "new")
    wrong = sheet_layouts.problem(named) or ""
    rows = (
        []
        if wrong
        else [sheet_layouts.cells(each, ids.get(each.row, {}), edited) for each in (changes or _EXAMPLE)[:_SHOWN]]
    )
    return LayoutsView(
        store_layouts.of_account(ask.facts.store, ask.account.id),
        edited,
        _BLANK,
        [(name, source_words(name)) for name in (*SOURCES, FIXED)],
        {each: (source_words(each), edited.words.get(each, "")) for each in WORDS},
        [each.header for each in edited.columns],
        rows,
        not changes,
        lacking_words(changes, ids, edited) if changes and not wrong else "",
        wrong,
    )


def source_words(name: str) -> str:
    """What stands in a column, in words."""
    return _NAMES.get(name, name.replace("_", " "))


def lacking_words(changes: Sequence[Change], ids: Ids, layout: SheetLayout) -> str:
    """For which rows an id is not known; empty where it is for all."""
    return " ".join(
        f"No {_NAMES[name]} for {'row' if len(rows) == 1 else 'rows'} {', '.join(map(str, rows[:12]))}"
        f"{f' and {len(rows) - 12} more' if len(rows) > 12 else ''}."
        for name, rows in sheet_layouts.lacking(changes, ids, layout).items()
    )


def typed(headers: Sequence[str], sources: Sequence[str], texts: Sequence[str], form: Mapping[str, str]) -> SheetLayout:
    """The layout of the editor's form; rows without a header are left out. A move of a column is done."""
    columns = [
        LayoutColumn(header.strip(), of, text.strip() if of == FIXED else "")
        for header, of, text in zip(headers, sources, texts, strict=False)
        if header.strip()
    ]
    move, _, way = form.get("move", "").partition(" ")
    if move.isdigit() and int(move) < len(columns):
        at = int(move)
        to = min(max(at + (1 if way == "down" else -1), 0), len(columns) - 1)
        columns.insert(to, columns.pop(at))
    words = {each: text for each in WORDS if (text := form.get(f"word-{each}", "").strip()) and text != each}
    number = form.get("layout", "")
    return SheetLayout(
        form.get("name", "").strip(),
        tuple(columns),
        words,
        bool(form.get("apart")),
        int(number) if number.isdigit() else 0,
    )


@dataclass(frozen=True, slots=True)
class LayoutLink:
    """A layout as the plan offers it. lacking: for which rows an id is not known."""

    id: int
    name: str
    lacking: str


def links(ask: Context, planned: Sequence[plans.Planned]) -> list[LayoutLink]:
    """The layouts of an account on its plan."""
    layouts = store_layouts.of_account(ask.facts.store, ask.account.id)
    changes = [each.change for each in planned]
    asked = any(each.ids for each in layouts)
    ids = marketplace_ids.of_changes(ask.facts, ask.account.id, changes) if asked else {}
    return [LayoutLink(each.id, each.name, lacking_words(changes, ids, each)) for each in layouts]
