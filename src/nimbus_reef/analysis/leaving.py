"""Checks before changes are handed over to be sent, for pages and the command line."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from nimbus_reef.analysis import sending_check
from nimbus_reef.analysis.delivery import plan_prices
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.wording import rise_words
from nimbus_reef.core import plan as rules
from nimbus_reef.core.conflicts import BLOCKS
from nimbus_reef.core.guards import Guard, GuardKind
from nimbus_reef.errors import BadInput, Conflict
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import plan_steps, plans, sendings
from nimbus_reef.store.people.people import Person
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.store.record.clock import utc_now

_LATELY_SECONDS: Final = 3600


@dataclass(frozen=True, slots=True)
class Leaving:
    """
    Changes that are to be sent. held: what the marketplace holds of them now, by row, None where it could not be asked;
    over: those that are sent though they stand at another value there; reason: why it is sent beyond a limit; token: of
    the form, by which the same one sent twice is one.
    """

    changes: Sequence[int]
    held: Mapping[int, str | None] | None
    over: frozenset[int]
    reason: str
    token: str


def chosen(facts: Facts, account_id: int, ids: Sequence[int]) -> list[Planned]:
    """The chosen changes with all that they were proposed with; the whole plan where none is named."""
    planned = plans.planned(facts.store, account_id)
    if not ids:
        return planned
    wanted = set(ids)
    rows = {
        each.row
        for each in rules.whole([each.change for each in planned], [e.change for e in planned if e.id in wanted])
    }
    return [each for each in planned if each.change.row in rows]


def hand_over(facts: Facts, selection: Selection, who: Person, leaving: Leaving, figures: Figures) -> int:
    """
    Hands changes over to be sent; the number of the sending.

    Raises BadInput where nothing is left to send, where a row is wrong, or where a limit is passed without a reason;
    Conflict where the plan contradicts itself.
    """
    store, account_id = facts.store, selection.account.id
    going = chosen(facts, account_id, leaving.changes)
    differs = sending_check.differences(going, leaving.held or {})
    taken = {each.planned.id: each.held for each in differs if each.planned.id in leaving.over and each.held}
    staying = {each.planned.id for each in differs} - set(taken)
    if taken:
        sendings.note_held(store, account_id, who.id, taken)
        going = chosen(facts, account_id, leaving.changes)
    going = [each for each in going if each.id not in staying]
    if not going:
        raise BadInput("Nothing is left to send.", remedy="Open the plan.")
    _refuse_wrong(facts, selection, going, figures)
    asked = sending_check.guards_of(facts, selection, going, others_at_work(facts, account_id, who))
    if asked and not leaving.reason:
        raise BadInput(" ".join(guard_words(asked, figures)), remedy="Say why it is sent all the same.")
    return sendings.hand_over(
        store,
        account_id,
        who.id,
        going,
        leaving.token,
        override=leaving.reason if asked else "",
        needs_approval=sending_check.needs_second(selection, going),
    )


def _refuse_wrong(facts: Facts, selection: Selection, going: Sequence[Planned], figures: Figures) -> None:
    """BadInput or Conflict where a row cannot be sent as it is."""
    changes = [each.change for each in going]
    for wrong in rules.problems(changes)[:1]:
        raise BadInput(f"Row {wrong.row}: {wrong.column} {wrong.reason}.", remedy="Fix or remove it in the plan first.")
    for each in plan_prices.conflicts_of(facts, selection, changes):
        if each.kind in BLOCKS and each.rise is not None:
            rise = rise_words(each.rise, figures)
            raise Conflict(f"Row {each.rows[0]}: {rise}.", remedy="Resolve the conflict on the plan first.")


def guard_words(found: Sequence[Guard], figures: Figures) -> list[str]:
    """What speaks against sending, a sentence each."""
    words = []
    for each in found:
        if each.kind is GuardKind.OTHERS:
            words.append(f"{' and '.join(each.others)} changed this plan in the last hour.")
            continue
        what = "Spend would change by" if each.kind is GuardKind.SPEND else "The changes touch"
        of = "of the account’s spend" if each.kind is GuardKind.SPEND else "of its sales"
        words.append(f"{what} {figures.rate(each.share, 0)} {of}; the limit is {figures.rate(each.limit, 0)}.")
    return words


def others_at_work(facts: Facts, account_id: int, who: Person) -> list[str]:
    """Who else changed the plan in the last hour."""
    now = utc_now()
    return [
        each.person
        for each in plan_steps.steps(facts.store, account_id)
        if each.person and each.person != who.name and (now - each.at).total_seconds() < _LATELY_SECONDS
    ]
