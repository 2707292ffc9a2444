"""The page of the client's report on the outcome of recent changes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Final

from nimbus_reef.analysis.outcome import judged, listed
from nimbus_reef.analysis.outcome.change_outcomes import ChangeOutcome
from nimbus_reef.analysis.outcome.listed import SumLine
from nimbus_reef.core.changes import named
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.core.windows import Window, per_month
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.promises_kept import MONEY, monthly_range

_BEFORE: Final = timedelta(days=28)
"""Changes of so many days before the report's period show in it."""
_MOST: Final = 5
_PLAIN: Final = {
    OutcomeVerdict.KEPT: "kept",
    OutcomeVerdict.DID_NOT: "not kept",
    OutcomeVerdict.TOO_EARLY: "too early to tell",
    OutcomeVerdict.NONE: "",
}
"""Verdicts for readers outside the trade."""


@dataclass(frozen=True, slots=True)
class DoneLine:
    """A kind of changes: how many, what they promised and brought per 30 days, with its range."""

    name: str
    whole: bool
    changes: str
    promised: str
    came: str
    range: str
    verdict: str


@dataclass(frozen=True, slots=True)
class DoneView:
    """What changes did. period: the days from which on they held; best, worst: single ones in words."""

    period: str
    sentences: Sequence[str]
    lines: Sequence[DoneLine]
    best: Sequence[str]
    worst: Sequence[str]


def page(ask: Context) -> DoneView | None:
    """The changes of the report's period and of the four weeks before it; None where none was carried out."""
    window, figures = ask.scope.window, ask.figures
    found = judged.outcomes(ask.facts, ask.selection)
    sent = [each for each in found.entries if each.day and window.first - _BEFORE <= each.day <= window.last]
    if not sent:
        return None
    lines = listed.sums(found, sent)
    decided = [each for each in sent if each.verdict in (OutcomeVerdict.KEPT, OutcomeVerdict.DID_NOT)]
    kept = [each for each in decided if each.verdict is OutcomeVerdict.KEPT]
    missed = [each for each in decided if each.verdict is OutcomeVerdict.DID_NOT]
    return DoneView(
        _period(sent, figures),
        _sentences(lines, len(sent), len(kept), len(missed), figures),
        [_line(each, figures) for each in lines],
        [_one(each, figures) for each in sorted(kept, key=lambda each: -(each.result or 0))[:_MOST]],
        [_one(each, figures) for each in sorted(missed, key=lambda each: (each.result or 0) - each.promised)[:_MOST]],
    )


def _period(sent: Sequence[ChangeOutcome], figures: Figures) -> str:
    days = sorted(each.day for each in sent if each.day)
    first, last = days[0], days[-1]
    return figures.day(first) if first == last else figures.days(Window(first, last))


def _sentences(lines: Sequence[SumLine], sent: int, kept: int, missed: int, figures: Figures) -> list[str]:
    found = []
    for line in lines:
        if line.whole and line.total.changes:
            promised, came = (figures.money(per_month(each, 1)) for each in (line.total.promised, line.total.result))
            found.append(f"{came} of {MONEY[line.money]} per 30 days, of {promised} expected.")
    counts = f"{figures.counted(sent, 'change')}: {kept} kept what they promised, {missed} did not"
    return [*found, f"{counts}, {sent - kept - missed} cannot be told yet."]


def _line(line: SumLine, figures: Figures) -> DoneLine:
    total = line.total
    if not total.changes:
        early = _PLAIN[OutcomeVerdict.TOO_EARLY]
        return DoneLine(line.name, line.whole, figures.count(line.changes), "–", "–", "", early)
    return DoneLine(
        line.name,
        line.whole,
        figures.count(line.changes),
        figures.number(per_month(total.promised, 1), 0),
        figures.number(per_month(total.result, 1), 0),
        monthly_range(total, figures),
        _PLAIN[total.verdict],
    )


def _one(each: ChangeOutcome, figures: Figures) -> str:
    what, _ = named(each.change)
    moved = f"{each.change.old_value} → {each.change.new_value}" if each.change.old_value else each.change.new_value
    return f"{what}, {moved}: {figures.money(per_month(each.result or 0.0, 1))} per 30 days"
