"""
The plan: accepted changes, old → new, each checked before it may leave as a sheet.

A change is one field of one thing. Values are the text of the open change sheet, so
what was accepted, what is written and what is read back compare as they stand.
"""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.core.changes import KEY_FIELDS, Action, Change, Entity, key, value_problem
from nimbus_reef.core.model import State

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


def problems(changes: Sequence[Change]) -> list[RowProblem]:
    """Every row of the plan that cannot be sent as it stands."""
    found = []
    first: dict[tuple[str, ...], int] = {}
    for change in changes:
        if reason := value_problem(change):
            found.append(RowProblem(change.row, "new_value", change.new_value, reason))
        other = first.setdefault(key(change), change.row)
        if other != change.row:
            found.append(RowProblem(change.row, "field", change.field, f"contradicts row {other} of the plan"))
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
    for line in sheet:
        change = _matched(planned, seen, line)
        if isinstance(change, RowProblem):
            found.append(change)
            continue
        after = replace(change, new_value=line["new_value"].strip())
        if after.new_value != change.new_value:
            edited.append(after)
    unplanned = whole(changes, [change for change in changes if change.row not in seen])
    gone = {change.row for change in unplanned}
    edited = [change for change in edited if change.row not in gone]
    unchanged = len(changes) - len(unplanned) - len(edited)
    return ReadBack(tuple(edited), unplanned, unchanged, tuple(found))


def whole(changes: Sequence[Change], some: Sequence[Change]) -> tuple[Change, ...]:
    """Some of a plan's changes with all that were proposed together with them: a package leaves the plan as one."""
    rows, packages = {change.row for change in some}, {change.package for change in some} - {0}
    return tuple(change for change in changes if change.row in rows or change.package in packages)


@dataclass(frozen=True, slots=True)
class Taken:
    """
    What accepting packages does to a plan. new: places of the packages that go in; replaced: the changes that leave for
    them, each with all of its package; already: places of those that are planned just so; stopped: of bids on what the
    plan pauses; packaged: of changes alone of what a package in the plan changes; contradicted: of those that change
    the same as another of this acceptance.
    """

    new: tuple[int, ...]
    replaced: tuple[Change, ...]
    already: tuple[int, ...] = ()
    stopped: tuple[int, ...] = ()
    packaged: tuple[int, ...] = ()
    contradicted: tuple[int, ...] = ()


def taken(changes: Sequence[Change], packages: Sequence[Sequence[Change]]) -> Taken:
    """
    A package is taken whole and replaces the planned changes it contradicts, or it is not taken.

    It contradicts another change of the same field of the same thing; a pause also a bid that stands alone on the same
    target, and the pause of a campaign or ad group all that is changed inside. A bid alone on what the plan pauses is
    not taken, nor anything inside a campaign or ad group that it pauses: the pause makes it idle. Nor is a change alone
    of what a package changes: it would break that up.
    """
    by_key = {key(change): change for change in changes}
    paused = {_thing(change) for change in changes if _pauses(change)}
    shut = [change for change in changes if shuts(change)]
    new, already, stopped, packaged, contradicted = [], [], [], [], []
    out: dict[int, Change] = {}
    claimed: set[tuple[str, ...]] = set()
    for place, package in enumerate(packages):
        keys = [key(change) for change in package]
        same = [by_key.get(each) for each in keys]
        if not package or all(
            was is not None and was.new_value == change.new_value for was, change in zip(same, package, strict=True)
        ):
            already.append(place)
        elif claimed & set(keys):
            contradicted.append(place)
        elif _is_idle(package, paused, shut):
            stopped.append(place)
        elif len(package) == 1 and same[0] is not None and same[0].package:
            packaged.append(place)
        else:
            new.append(place)
            claimed |= set(keys)
            off = {_thing(change) for change in package if _pauses(change)}
            idle = [each for each in changes if off and not each.package and _is_bid(each) and _thing(each) in off]
            ends = [change for change in package if shuts(change)]
            idle += [each for each in changes if any(_is_inside(each, end) for end in ends)]
            out |= {change.row: change for change in (*filter(None, same), *idle)}
    return Taken(
        tuple(new),
        whole(changes, list(out.values())),
        tuple(already),
        tuple(stopped),
        tuple(packaged),
        tuple(contradicted),
    )


def _thing(change: Change) -> tuple[str, ...]:
    """The thing a change is made to."""
    return (
        change.entity,
        change.campaign,
        change.ad_group,
        change.target,
        change.match_type,
        change.sku,
        change.placement,
    )


def _pauses(change: Change) -> bool:
    return change.field == "state" and change.action is Action.UPDATE and change.new_value != State.ENABLED


def _is_idle(package: Sequence[Change], paused: Collection[tuple[str, ...]], shut: Sequence[Change]) -> bool:
    """Whether pauses leave a package nothing to do: a bid alone on a paused target, or all inside what is shut."""
    if len(package) == 1 and _is_bid(package[0]) and _thing(package[0]) in paused:
        return True
    return bool(shut) and all(any(_is_inside(change, each) for each in shut) for change in package)


def shuts(change: Change) -> bool:
    """Whether a change pauses a whole campaign or ad group, and with it all that is inside."""
    return _pauses(change) and change.entity in (Entity.CAMPAIGN, Entity.AD_GROUP)


def _is_inside(change: Change, end: Change) -> bool:
    """Whether a change is of something inside what another pauses, or of its other fields."""
    if change.campaign != end.campaign or key(change) == key(end):
        return False
    return end.entity is Entity.CAMPAIGN or change.ad_group == end.ad_group


def _is_bid(change: Change) -> bool:
    return (change.entity, change.field, change.action) == (Entity.TARGET, "bid", Action.UPDATE)


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
        reason = f"was read from an older plan: the plan holds “{change.old_value}” by now; download the sheet again"
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


class MoneyView(StrEnum):
    """As what a change cuts a campaign's money."""

    TARGETS = "targets"
    ADS = "ads"
    PLACEMENTS = "placements"


@dataclass(frozen=True, slots=True)
class Cut:
    """Spend (units per 30 days, above 0) that a planned change takes away, by its number in the plan's store."""

    number: int
    campaign: str
    ad_group: str
    view: MoneyView
    spend: float


def counted_elsewhere(cuts: Sequence[Cut]) -> frozenset[int]:
    """
    The same money once over the views of a campaign, by the headline's rule ("Findings: the same money once" in
    docs/calculations.md): per ad group targets and terms or product ads, per campaign the ad groups together or
    placements, always the larger. Gives the cuts that do not count, since a larger one stands for them; of equals the
    first view counts.
    """
    sums: dict[tuple[str, str, MoneyView], float] = {}
    for cut in cuts:
        group = "" if cut.view is MoneyView.PLACEMENTS else cut.ad_group
        sums[cut.campaign, group, cut.view] = sums.get((cut.campaign, group, cut.view), 0.0) + cut.spend
    of_groups: dict[str, float] = {}
    for campaign, group, view in sums:
        if view is not MoneyView.PLACEMENTS and view is _larger(sums, campaign, group):
            of_groups[campaign] = of_groups.get(campaign, 0.0) + sums[campaign, group, view]

    def counts(cut: Cut) -> bool:
        placed = sums.get((cut.campaign, "", MoneyView.PLACEMENTS), 0.0)
        if cut.view is MoneyView.PLACEMENTS:
            return placed > of_groups.get(cut.campaign, 0.0)
        return placed <= of_groups[cut.campaign] and cut.view is _larger(sums, cut.campaign, cut.ad_group)

    return frozenset(cut.number for cut in cuts if not counts(cut))


def _larger(sums: Mapping[tuple[str, str, MoneyView], float], campaign: str, group: str) -> MoneyView:
    ads, targets = (sums.get((campaign, group, view), 0.0) for view in (MoneyView.ADS, MoneyView.TARGETS))
    return MoneyView.ADS if ads > targets else MoneyView.TARGETS


def own_shares(
    paused: Collection[int], negatives: Mapping[int, Sequence[str]], shares: pl.DataFrame
) -> dict[int, float]:
    """
    The same money once over a plan: the part of each negative's money that nothing planned before it stops already.

    paused: ids of targets. negatives: in their order, the terms that each keeps away, as "ad_group_id-normal_id".
    shares: what each target spent on each term: ad_group_id, normal_id, target_id, spend. A term under a paused
    target, or kept away by an earlier negative, counts there. Negatives whose money is all their own are left out.
    """
    wanted = {row_id for rows in negatives.values() for row_id in rows}
    sums = (
        shares.with_columns(
            row_id=pl.concat_str("ad_group_id", "normal_id", separator="-"),
            stopped=pl.when(pl.col("target_id").is_in(list(paused))).then("spend").otherwise(0),
        )
        .filter(pl.col("row_id").is_in(list(wanted)))
        .group_by("row_id")
        .agg(pl.col("spend", "stopped").sum())
    )
    whole = {row_id: (spend, spend - stopped) for row_id, spend, stopped in sums.rows()}
    left = {row_id: free for row_id, (_, free) in whole.items()}
    own = {}
    for number, rows in negatives.items():
        spend = sum(whole[row_id][0] for row_id in rows if row_id in whole)
        free = sum(left.pop(row_id, 0) for row_id in rows)
        if free < spend:
            own[number] = free / spend
    return own
