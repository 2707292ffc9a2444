"""Audits one after the other: what each found, what its changes promised and brought, and when the next is due."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from nimbus_reef.analysis.audit_rounds import AuditRound, next_due, rounds
from nimbus_reef.analysis.outcome import judged, listed
from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome
from nimbus_reef.core.recurring import News
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.outcome.money_axis import MoneyAxis, axis
from nimbus_reef.web.outcome.pages import VIEW, SumRow, range_of, sum_row

NAME: Final = "sheets"


@dataclass(frozen=True, slots=True)
class AuditBlock:
    """
    An audit. found: what it found and what changed since the one before; address: where it is looked at again, empty
    where it was not closed; rows: sums of its changes by kind; sheets: name and address of each sheet, with the count
    of its changes.
    """

    name: str
    found: str
    rows: Sequence[SumRow]
    sheets: Sequence[tuple[str, str, str]]


@dataclass(frozen=True, slots=True)
class AuditsView:
    """The audits, newest first. due: when the next one is, and by which schedule; sums on one axis with its ticks."""

    answer: Answer
    due: str
    audits: Sequence[AuditBlock]
    axis: MoneyAxis
    ticks: Sequence[tuple[float, str]]


def page(ask: Context) -> AuditsView:
    """The view."""
    figures, found = ask.figures, judged.outcomes(ask.facts, ask.selection)
    entries = rounds(ask.facts, ask.account, found)
    lines = [listed.sums(found, each.sent) for each in entries]
    money = axis([range_of(line) for own in lines for line in own if line.total.changes])
    blocks = [
        AuditBlock(
            _name(each, figures),
            _found(each, figures),
            [sum_row(line, money, figures) for line in own],
            [_sheet(ask, number, each.sent) for number in reversed(each.sheets)],
        )
        for each, own in zip(entries, lines, strict=True)
    ]
    ticks = [(place, figures.short(amount)) for place, amount in money.ticks()]
    return AuditsView(_answer(entries, figures), _due(ask), blocks, money, ticks)


def _name(each: AuditRound, figures: Figures) -> str:
    if each.closing is None:
        return "Sent before a first audit was closed"
    by = f" by {each.closing.by}" if each.closing.by else ""
    return f"Audit of {figures.day(each.closing.at.date())}{by}"


def _found(each: AuditRound, figures: Figures) -> str:
    if each.closing is None:
        return ""
    new, back, gone = (
        figures.count(count) for count in (each.count(News.NEW), each.count(News.BACK), len(each.since.gone))
    )
    changed = (
        f" Since the one before: {new} new, {back} back, {gone} gone." if each.since.news or each.since.gone else ""
    )
    found = figures.counted(len(each.closing.found), "finding")
    return f"{found}, {figures.micro(each.closing.overspend)} wasted per 30 days.{changed}"


def _sheet(ask: Context, number: int, sent: Sequence[ChangeOutcome]) -> tuple[str, str, str]:
    own = [each for each in sent if each.done.sending_id == number]
    here = ask.url("outcome.view", name=VIEW)
    link = ask.scope.link(here, where=(f"sending:eq:{number}",), page=1, open="")
    name = f"sheet {number}, {ask.figures.day(own[0].done.sent)}"
    return name, link, ask.figures.counted(len(own), "change")


def _due(ask: Context) -> str:
    day, every = next_due(ask.facts, ask.account), ask.figures.counted(ask.account.settings.audit_days, "day")
    if day is None:
        return f"Close a first audit on Findings. From then on one is due every {every}."
    return f"The next audit is due on {ask.figures.day(day)}, every {every}."


def _answer(entries: Sequence[AuditRound], figures: Figures) -> Answer:
    closed = [each for each in entries if each.closing is not None]
    sent = sum(len(each.sent) for each in entries)
    if not entries:
        return Answer("No audit is closed and no change was carried out yet.", "Send changes from the plan.")
    return Answer(
        f"{figures.counted(len(closed), 'audit')} closed, {figures.counted(sent, 'change')} carried out.",
        "What its changes promised is drawn as a line, their result as a bar.",
    )


def file(ask: Context) -> Table:
    """The sums of all sheets as a file."""
    return listed.sums_table(judged.outcomes(ask.facts, ask.selection))
