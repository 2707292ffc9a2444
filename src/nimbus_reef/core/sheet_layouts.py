"""
A layout of one's own for the change sheet: its columns in order, what stands in each, and the words for states and
match types there.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

from nimbus_reef.core.changes import KINDS, SHEET_COLUMNS, Action, Change, Entity
from nimbus_reef.core.model import Bidding, MatchType, Placement, State

IDS: Final[Mapping[str, str]] = {
    "campaign_id": "campaign",
    "ad_group_id": "ad_group",
    "target_id": "target",
    "ad_id": "sku",
}
"""Ids of the marketplace, and the column of the sheet that names what each is of."""
FIELDS: Final = tuple(dict.fromkeys(field for _, field in KINDS))
"""Fields that can be changed: a column of one holds the new value on the rows that change it."""
SOURCES: Final = (*SHEET_COLUMNS, *IDS, *(f"new {name}" for name in FIELDS))
"""What can stand in a column: a column of our sheet, an id, or the new value of one field alone."""
FIXED: Final = "text"
"""A column with the same text in every row."""
WORDS: Final = (
    *(each.value for each in Action),
    *(each.value for each in State),
    *(each.value for each in MatchType),
    *(each.value for each in Bidding),
    *(each.value for each in Placement),
    "yes",
    "no",
    *(each.value for each in Entity),
)
"""Our words, which a layout may write in its own way."""
MOST_COLUMNS: Final = 60
LONGEST: Final = 128


@dataclass(frozen=True, slots=True)
class LayoutColumn:
    """A column: its header, what stands in it (one of `SOURCES`, or FIXED), and the text of a fixed one."""

    header: str
    of: str
    text: str = ""


@dataclass(frozen=True, slots=True)
class SheetLayout:
    """A layout. words: ours → theirs, where they differ; apart: a file for each kind of thing."""

    name: str
    columns: tuple[LayoutColumn, ...]
    words: Mapping[str, str] = field(default_factory=dict)
    apart: bool = False
    id: int = 0

    @property
    def ids(self) -> tuple[str, ...]:
        """The ids that it asks for."""
        return tuple(name for name in IDS if any(each.of == name for each in self.columns))


OURS: Final = SheetLayout("", tuple(LayoutColumn(name, name) for name in SHEET_COLUMNS))
"""The layout of our own sheet, from which others begin."""

Ids = Mapping[int, Mapping[str, str]]
"""By the row of a change, the ids of the marketplace that are known of what it is about."""


def cells(change: Change, ids: Mapping[str, str], layout: SheetLayout) -> list[str]:
    """A row of the sheet in a layout."""
    return [_cell(change, ids, each, layout.words) for each in layout.columns]


def _cell(change: Change, ids: Mapping[str, str], column: LayoutColumn, words: Mapping[str, str]) -> str:
    if column.of == FIXED:
        return column.text
    if column.of in IDS:
        return ids.get(column.of, "")
    if column.of.startswith("new "):
        value = change.new_value if column.of == f"new {change.field}" else ""
    else:
        value = str(getattr(change, column.of))
    return words.get(value, value)


def files(changes: Iterable[Change], layout: SheetLayout) -> dict[str, list[Change]]:
    """The changes of each file, by what they are of; all in one where they do not go apart."""
    found: dict[str, list[Change]] = {}
    for each in changes:
        found.setdefault(each.entity.value if layout.apart else "changes", []).append(each)
    return found


def lacking(changes: Sequence[Change], ids: Ids, layout: SheetLayout) -> dict[str, list[int]]:
    """By id, the rows of things that are there already and whose id is not known. What the plan creates has none."""
    new = {(each.entity, each.campaign, each.ad_group) for each in changes if each.action is Action.CREATE}
    found: dict[str, list[int]] = {}
    for each in changes:
        for name in layout.ids:
            if _is_there(each, name, new) and name not in ids.get(each.row, {}):
                found.setdefault(name, []).append(each.row)
    return found


def _is_there(change: Change, name: str, new: Collection[tuple[Entity, str, str]]) -> bool:
    """Whether what a change is about has an id of a kind by now. new: campaigns and ad groups that the plan creates."""
    if name in ("target_id", "ad_id"):
        own = Entity.TARGET if name == "target_id" else Entity.PRODUCT_AD
        return change.entity is own and change.action is Action.UPDATE
    if (Entity.CAMPAIGN, change.campaign, "") in new:
        return False
    return name == "campaign_id" or bool(
        change.ad_group and (Entity.AD_GROUP, change.campaign, change.ad_group) not in new
    )


def problem(layout: SheetLayout) -> str | None:
    """Why a layout cannot stand, or None."""
    if not layout.name or len(layout.name) > LONGEST:
        return f"A layout needs a name of up to {LONGEST} characters."
    if not layout.columns:
        return "A layout needs a column."
    if len(layout.columns) > MOST_COLUMNS:
        return f"A layout has up to {MOST_COLUMNS} columns."
    headers = [each.header for each in layout.columns]
    double = next((each for each in headers if headers.count(each) > 1), None)
    if double is not None:
        return f"Two columns are called “{double}”."
    for each in layout.columns:
        if not each.header or len(each.header) > LONGEST or len(each.text) > LONGEST:
            return f"A column needs a header, and header and text have up to {LONGEST} characters."
        if each.of not in (*SOURCES, FIXED):
            return f"“{each.of}” cannot stand in a column."
    if any(each not in WORDS for each in layout.words):
        return "A word is none of ours."
    return None
