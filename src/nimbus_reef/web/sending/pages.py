"""What is about to be sent, with what speaks against it; and a sending with the answer to each row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from nimbus_reef.analysis import leaving, sending_check
from nimbus_reef.analysis.sending_check import Differs, HeldDifference
from nimbus_reef.analysis.tables import PAGE_ROWS, page_of
from nimbus_reef.core import projection
from nimbus_reef.core.changes import ChangeState, inverse, named, word_of
from nimbus_reef.core.promises import projected
from nimbus_reef.core.proposals import counted_as
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people.marketplace_links import MarketplaceLink
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.people.sendings import SERVICE, Sending, SendingState, SentChange
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context


@dataclass(frozen=True, slots=True)
class DifferenceLine:
    """A change that starts from another value by now. can: it can be sent all the same, from what is there now."""

    id: int
    what: str
    where: str
    word: str
    planned: str
    held: str
    words: str
    can: bool


@dataclass(frozen=True, slots=True)
class CheckView:
    """
    The last look before changes are sent. chosen: how many; kinds: of each kind how many, and spend and sales; ids:
    which, none for all of the plan; token: of this look alone; away: why the marketplace could not be asked; guards:
    what asks for a reason; second: somebody else has to say yes; link: where it goes, None where the account is linked
    to none.
    """

    answer: Answer
    chosen: int
    kinds: Sequence[tuple[str, str, str, str]]
    ids: Sequence[int]
    differs: Sequence[DifferenceLine]
    away: str
    guards: Sequence[str]
    second: bool
    token: str
    link: MarketplaceLink | None
    may_send: bool


_WHY: Final[Mapping[Differs, str]] = {
    Differs.MOVED: "It was changed since this was planned.",
    Differs.GONE: "It is no longer there.",
    Differs.ALREADY: "It already has the new value.",
}


def difference_lines(found: Sequence[HeldDifference]) -> list[DifferenceLine]:
    """Those in the order of their rows."""
    return [
        DifferenceLine(
            each.planned.id,
            *named(each.planned.change),
            word_of(each.planned.change),
            f"{each.planned.change.old_value} → {each.planned.change.new_value}",
            each.held or "–",
            _WHY[each.how],
            each.how is Differs.MOVED,
        )
        for each in found
    ]


def _kinds(going: Sequence[Planned], figures: Figures) -> list[tuple[str, str, str, str]]:
    """Kind, how many, spend and sales in 30 days, most changes first."""
    by_kind: dict[str, list[Planned]] = {}
    for each in going:
        by_kind.setdefault(counted_as(each.change), []).append(each)
    found = []
    for kind, own in sorted(by_kind.items(), key=lambda each: -len(each[1])):
        effect = projection.total(projected(each.change, each.promise) for each in own)
        spend, sales = (figures.span(each) if effect.known else "unknown" for each in (effect.spend, effect.sales))
        found.append((kind, figures.count(len(own)), spend, sales))
    return found


def check(
    ask: Context,
    planned: Sequence[Planned],
    held: Mapping[int, str | None] | None,
    away: str,
    others: Sequence[str],
    *,
    ids: Sequence[int],
    token: str,
    link: MarketplaceLink | None,
    may_send: bool,
) -> CheckView:
    """The last look. held: what the marketplace holds by row, None where it could not be asked."""
    figures = ask.figures
    differs = sending_check.differences(planned, held or {})
    staying = {each.planned.id for each in differs}
    going = [each for each in planned if each.id not in staying]
    effect = projection.total(projected(each.change, each.promise) for each in going)
    campaigns = len({each.change.campaign for each in going})
    bold = f"{figures.counted(len(going), 'change')} in {figures.counted(campaigns, 'campaign')}."
    rest = (
        f"Together {figures.span(effect.spend)} spend and {figures.span(effect.sales)} sales per 30 days (80 % range)."
        if going and effect.known
        else "Their effect is not known."
        if going
        else "Nothing is left to send."
    )
    return CheckView(
        Answer(bold, rest),
        len(going),
        _kinds(going, figures),
        ids,
        difference_lines(differs),
        away,
        leaving.guard_words(sending_check.guards_of(ask.facts, ask.selection, going, others), figures) if going else [],
        sending_check.needs_second(ask.selection, going),
        token,
        link,
        may_send,
    )


@dataclass(frozen=True, slots=True)
class SentLine:
    """A change that was sent, and what was said to it. kind: sent, done or failed."""

    row: int
    what: str
    where: str
    word: str
    values: str
    kind: str
    said: str


@dataclass(frozen=True, slots=True)
class SendingView:
    """
    A sending. state: in words; open: it still gets on by itself; done, failed, waiting: how many changes; failed_ids:
    those that can be sent again; back: how many can be taken back; lines: a page of them, failed ones first.
    """

    entry: Sending
    answer: Answer
    open: bool
    part: float
    done: int
    failed: int
    waiting: int
    failed_ids: Sequence[int]
    back: int
    lines: Sequence[SentLine]
    page: int
    pages: int
    by_hand: bool
    cancels: bool
    approves: bool
    said: str


_ORDER: Final = (ChangeState.FAILED, ChangeState.SENT, ChangeState.DONE, ChangeState.TAKEN_BACK)
_SAYS: Final[Mapping[ChangeState, str]] = {
    ChangeState.SENT: "no answer yet",
    ChangeState.DONE: "done",
    ChangeState.TAKEN_BACK: "cancelled",
}


def sending(
    entry: Sending, changes: Sequence[SentChange], planned: Sequence[Planned], number: int, figures: Figures, who: int
) -> SendingView:
    """A sending with its rows. planned: the plan as it is now; who: looks at it."""
    counts = {state: entry.results.get(state, 0) for state in ChangeState}
    there = {each.id for each in planned}
    ordered = sorted(changes, key=lambda each: (_ORDER.index(each.result), each.change.row))
    page, pages = page_of(len(ordered), number)
    cut = ordered[(page - 1) * PAGE_ROWS : page * PAGE_ROWS]
    done, failed, waiting = (counts[each] for each in (ChangeState.DONE, ChangeState.FAILED, ChangeState.SENT))
    return SendingView(
        entry,
        _answer(entry, done, failed, waiting, figures),
        entry.open,
        (entry.changes - waiting) / max(1, entry.changes),
        done,
        failed,
        waiting,
        [each.id for each in changes if each.result is ChangeState.FAILED and each.id in there],
        sum(each.result is ChangeState.DONE and inverse(each.change) is not None for each in changes),
        [_sent_line(each) for each in cut],
        page,
        pages,
        entry.sheet != SERVICE,
        entry.state in (SendingState.APPROVAL, SendingState.QUEUED),
        entry.state is SendingState.APPROVAL and entry.person_id != who,
        entry.said,
    )


def _answer(entry: Sending, done: int, failed: int, waiting: int, figures: Figures) -> Answer:
    if entry.state is SendingState.APPROVAL:
        return Answer("Waiting for approval.", "Another person who may send has to approve it.")
    if entry.state is SendingState.CANCELLED:
        return Answer("Cancelled.", "Nothing was sent. The changes are in the plan as before.")
    if entry.state is SendingState.QUEUED:
        return Answer(f"{figures.counted(entry.changes, 'change')} waiting to be sent.", "They leave by themselves.")
    if waiting:
        by_hand = entry.state is SendingState.SHEET
        rest = "Upload the result file, or mark the sheet as carried out." if by_hand else "Answers come by themselves."
        return Answer(f"{figures.count(entry.changes - waiting)} of {figures.count(entry.changes)} answered.", rest)
    if failed:
        text = f"{figures.count(done)} done, {figures.count(failed)} failed."
        return Answer(text, "What failed is still in the plan: fix the rows there and send them again.")
    holds = f" They hold from {entry.day} on." if entry.day else ""
    return Answer(f"All {figures.counted(done, 'change')} done.", f"Outcome judges them after 14 days.{holds}")


def _sent_line(each: SentChange) -> SentLine:
    change = each.change
    values = f"{change.old_value} → {each.new_value}" if change.old_value else each.new_value
    said = each.said if each.result is ChangeState.FAILED else _SAYS.get(each.result, "")
    return SentLine(change.row, *named(change), word_of(change), values, each.result.value, said)
