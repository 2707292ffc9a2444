"""
The plan: accepted changes, old → new, each checked before it may leave as a sheet.

A change is one field of one thing. Values are the text of the open change sheet, so
what was accepted, what is written and what is read back compare as they stand.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal, InvalidOperation
from enum import StrEnum
from typing import Final

from nimbus_reef.core.model import MatchType, State


class Action(StrEnum):
    """What happens to the thing."""

    UPDATE = "update"
    CREATE = "create"
    ARCHIVE = "archive"


class Entity(StrEnum):
    """What kind of thing a change touches."""

    CAMPAIGN = "campaign"
    AD_GROUP = "ad_group"
    PRODUCT_AD = "product_ad"
    TARGET = "target"
    NEGATIVE = "negative"
    PLACEMENT = "placement"
    BUDGET_BOOST = "budget_boost"
    BID_BOOST = "bid_boost"


@dataclass(frozen=True, slots=True)
class Change:
    """One row of the change sheet. `row` is its number there, kept for as long as it is planned."""

    row: int
    action: Action
    entity: Entity
    campaign: str
    field: str
    new_value: str
    old_value: str = ""
    ad_group: str = ""
    target: str = ""
    match_type: str = ""
    sku: str = ""
    placement: str = ""
    days: str = ""
    from_hour: str = ""
    to_hour: str = ""
    reason: str = ""
    finding: str = ""


KEY_FIELDS = (
    "action", "entity", "campaign", "ad_group", "target", "match_type",
    "sku", "placement", "days", "from_hour", "to_hour", "field",
)  # fmt: skip

SheetRow = Mapping[str, str]


@dataclass(frozen=True, slots=True)
class RowProblem:
    """What is wrong with one row of a sheet, or of the plan."""

    row: int
    column: str
    value: str
    reason: str


@dataclass(frozen=True, slots=True)
class ReadBack:
    """
    What an edited sheet asks for: changes to take, rows to un-plan, rows in error.

    Either everything is taken or, when there are problems, nothing is.
    """

    edited: tuple[Change, ...]
    unplanned: tuple[Change, ...]
    unchanged: int
    problems: tuple[RowProblem, ...]


def key(change: Change) -> tuple[str, ...]:
    """What the change is about; two changes of one key contradict each other."""
    return tuple(str(getattr(change, name)) for name in KEY_FIELDS)


def _amount(text: str) -> Decimal | None:
    try:
        amount = Decimal(text)
    except InvalidOperation:
        return None
    return amount if amount.is_finite() else None


def value_problem(change: Change) -> str | None:
    """Why the new value cannot stand, or null when it can."""
    value = change.new_value
    if not value:
        return "is empty; delete the row to take the change out of the plan"
    if change.field in ("bid", "daily_budget"):
        amount = _amount(value)
        if amount is None:
            return "is not a number; write it like 0.74"
        if amount <= 0:
            return "must be above 0; to stop it, set the state to paused"
        if -int(amount.as_tuple().exponent) > 2:
            return "has more than two decimals"
    if change.field == "state" and value not in tuple(State):
        return "is no state; use enabled, paused or archived"
    if change.entity is Entity.NEGATIVE and change.match_type not in {
        match.value for match in MatchType if match.negative
    }:
        return "needs the match type negative_exact, negative_phrase or negative_item"
    if change.old_value and value == change.old_value:
        return "is what it already was"
    return None


def problems(changes: Sequence[Change]) -> list[RowProblem]:
    """Every row of the plan that cannot be sent as it stands."""
    found = []
    first: dict[tuple[str, ...], int] = {}
    for change in changes:
        if reason := value_problem(change):
            found.append(RowProblem(change.row, "new_value", change.new_value, reason))
        other = first.setdefault(key(change), change.row)
        if other != change.row:
            found.append(
                RowProblem(change.row, "field", change.field, f"contradicts row {other} of the plan")
            )
    return found


def read_back(changes: Sequence[Change], sheet: Sequence[SheetRow]) -> ReadBack:
    """
    Compares an edited sheet with the plan it came from.

    Rows match by `row` and key. A changed new_value is taken, a missing row is
    un-planned, an unknown row or a stale old_value is an error at that row.
    """
    planned = {change.row: change for change in changes}
    edited: list[Change] = []
    found: list[RowProblem] = []
    seen: set[int] = set()
    unchanged = 0
    for line in sheet:
        change = _matched(planned, seen, line)
        if isinstance(change, RowProblem):
            found.append(change)
            continue
        after = replace(change, new_value=line["new_value"].strip())
        if after.new_value == change.new_value:
            unchanged += 1
        else:
            edited.append(after)
    unplanned = tuple(change for change in changes if change.row not in seen)
    return ReadBack(tuple(edited), unplanned, unchanged, tuple(found))


def _matched(planned: Mapping[int, Change], seen: set[int], line: SheetRow) -> Change | RowProblem:
    """The planned change a line is about, or what is wrong with the line; notes rows seen."""
    number = line.get("row", "").strip()
    row = int(number) if number.isdecimal() else 0
    change = planned.get(row)
    if change is None:
        reason = "is not a row of this plan; accept the change in the application instead"
        return RowProblem(row, "row", number, reason)
    if row in seen:
        return RowProblem(row, "row", number, "stands in the sheet twice")
    seen.add(row)
    return _line_problem(change, line) or change


def _line_problem(change: Change, line: SheetRow) -> RowProblem | None:
    for name in KEY_FIELDS:
        planned, written = str(getattr(change, name)), line.get(name, "")
        if written != planned:
            reason = f"was “{planned}” in the plan; only new_value may be edited"
            return RowProblem(change.row, name, written, reason)
    if line.get("old_value", "") != change.old_value:
        reason = f"is stale: the plan now holds “{change.old_value}”; download the sheet again"
        return RowProblem(change.row, "old_value", line.get("old_value", ""), reason)
    after = replace(change, new_value=line.get("new_value", "").strip())
    wrong = value_problem(after)
    return RowProblem(change.row, "new_value", after.new_value, wrong) if wrong else None


_EDITED: Final = re.compile(r"^(\S+) was proposed, \S+ chosen instead\. ")


def edited_reason(reason: str, before: str, after: str) -> str:
    """
    A reason that still holds after somebody chose another value: what was proposed first, what was
    chosen, and why the proposal had been made. Chosen back, it is the proposal's own again.
    """
    edited = _EDITED.match(reason)
    proposed = edited[1] if edited else before
    own = reason[edited.end() :] if edited else reason
    return own if after == proposed else f"{proposed} was proposed, {after} chosen instead. {own}"
