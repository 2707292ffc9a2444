"""What Intake says: jobs and their progress, batches, what is held."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any, Final

from nimbus_reef.analysis.agreement import ReportGap
from nimbus_reef.core.coverage import DayState, Span, Stretch, labels_in_use, stretches
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.windows import Window
from nimbus_reef.formats.contract import CellKind
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.jobs.orders import loads_done, undos_done
from nimbus_reef.store.loading.ingest import Loaded
from nimbus_reef.store.loading.undo import Undone
from nimbus_reef.store.record.loads import Batch, HeldReport, Job


@dataclass(frozen=True, slots=True)
class Summary:
    """What a load did, in words and figures."""

    title: str
    facts: tuple[tuple[str, str], ...]
    warnings: tuple[str, ...]
    rejected: int = 0
    batch_id: int | None = None


def _sums(kind: str, sums: Mapping[str, int], figures: Figures) -> list[tuple[str, str]]:
    shown = []
    for name, value in sums.items():
        if not value and not KINDS[kind].column(name).required:
            continue  # the file has no such column
        money = KINDS[kind].column(name).holds is CellKind.MONEY
        shown.append((name.replace("_", " "), figures.money(from_micro(value), 2) if money else figures.count(value)))
    return shown


def _span(first: Any, last: Any, days: int | None) -> list[tuple[str, str]]:
    if not first:
        return []
    shown = [("from", str(first)), ("to", str(last))]
    return [("days", str(days)), *shown] if days is not None else shown


def _sums_of_days(blocks: Sequence[Window]) -> list[tuple[str, str]]:
    """Days that are known only together."""
    if not blocks:
        return []
    first, last = blocks[0].first, blocks[0].last
    more = f" and {len(blocks) - 1} more" if len(blocks) > 1 else ""
    return [("one sum for", f"{first} to {last}{more}")]


@dataclass(frozen=True, slots=True)
class JobView:
    """A load or undo. waits: its file can be tried again; nobody: no worker is there to do it."""

    job: Job
    file_name: str
    summaries: Sequence[Summary]
    waits: bool
    nobody: bool


def job_summaries(job: Job, seen: Mapping[int, tuple[str, Figures]]) -> list[Summary]:
    """
    What a finished load or undo did, by account.

    seen: the accounts the reader may see, with their names and how figures are written.
    """
    if job.state != "done":
        return []
    if job.kind == "undo":
        return [_undo_summary(each, seen[job.account_id or 0][1]) for each in undos_done(job)]
    all_done = loads_done(job)
    done = [(seen[each.account_id], each) for each in all_done if each.account_id in seen]
    named = len(all_done) > 1
    return [
        replace(summary, title=f"{summary.title} in {name}") if named else summary
        for (name, figures), each in done
        for summary in [_load_summary(each, figures)]
    ]


def _load_summary(done: Loaded, figures: Figures) -> Summary:
    facts = [
        ("rows", figures.count(done.rows)),
        *_span(done.first_day, done.last_day, done.days),
        *_sums_of_days(done.blocks),
        *([("loaded as", f"{done.scope} ads")] if done.scope != "all" else []),
        ("replaced", figures.count(done.removed)),
        ("rejected", figures.count(done.rejected)),
        *_sums(done.kind, done.sums, figures),
    ]
    return Summary(KINDS[done.kind].title, tuple(facts), tuple(done.warnings), done.rejected, done.batch_id)


def _undo_summary(done: Undone, figures: Figures) -> Summary:
    restored, left = done.restored, done.left
    span = _span(restored[0].first, restored[-1].last, len(restored)) if restored else []
    warnings = [
        f"{figures.count(len(left))} days or sums from {left[0].first} to {left[-1].last} stay, because a newer"
        " load replaced them. Undo that load first."
        for _ in left[:1]
    ]
    return Summary(f"Undone: {KINDS[done.kind].title.lower()} as before", tuple(span), tuple(warnings))


def batch_summary(batch: Batch, figures: Figures) -> Summary:
    """The same of a batch, from the record."""
    facts = [
        ("rows", figures.count(batch.rows)),
        *_span(batch.first_day, batch.last_day, None),
        ("replaced", figures.count(batch.removed)),
        ("rejected", figures.count(batch.rejected)),
        *_sums(batch.kind, batch.sums, figures),
    ]
    return Summary(KINDS[batch.kind].title, tuple(facts), batch.warnings, batch.rejected, batch.id)


_CALENDAR_DAYS: Final = 120
_DAY_WIDTH: Final = 5
_IN_THE_KEY: Final = {
    DayState.HELD: "loaded",
    DayState.MATURING: "maturing: sales are still coming in",
    DayState.EARLY: "loaded before it was complete: load those days again",
    DayState.PART: "one ad format is missing",
    DayState.MISSING: "missing",
}


@dataclass(frozen=True, slots=True)
class Piece:
    """Neighbouring days in one state: where they lie in the calendar, and what a hover says."""

    x: float
    width: float
    y: float
    height: float
    state: str
    title: str


@dataclass(frozen=True, slots=True)
class Bracket:
    """A block: one sum for its days, drawn from the first to the last as a bracket."""

    path: str
    title: str


@dataclass(frozen=True, slots=True)
class CalendarRow:
    """One kind of report in the calendar; `says` is the same in words."""

    title: str
    newest: str
    rows: str
    says: str
    pieces: tuple[Piece, ...]
    brackets: tuple[Bracket, ...] = ()


@dataclass(frozen=True, slots=True)
class Calendar:
    """Report kind × day. months: where each begins and its name."""

    days: int
    width: int
    months: tuple[tuple[int, str], ...]
    rows: tuple[CalendarRow, ...]
    key: tuple[tuple[Piece, str], ...]


def calendar(
    reports_held: Sequence[HeldReport],
    spans: Mapping[str, Sequence[Span]],
    newest: date | None,
    maturing_days: int,
    figures: Figures,
) -> Calendar:
    """The last 120 days of every kind that is held, the other kinds by name."""
    by_kind = {each.kind: each for each in reports_held}
    last = max([each.last_day for each in reports_held if KINDS[each.kind].has_days], default=None)
    rows: list[CalendarRow] = []
    window = Window(last - timedelta(days=_CALENDAR_DAYS - 1), last) if last else None
    for kind in KINDS.values():
        report = by_kind.get(kind.name)
        if report is None or window is None:
            continue
        found: list[Stretch] = []
        blocks: list[Window] = []
        if kind.has_days:
            own = spans.get(kind.name, [])
            blocks = sorted({span.days for span in own if span.block})
            found = stretches(
                window, own, labels_in_use(own), newest or window.last, maturing_days, matures="sales" in kind.summed
            )
        rows.append(
            CalendarRow(
                kind.title,
                report.last_day.isoformat(),
                figures.count(report.rows),
                _with_blocks(_in_words(found), blocks),
                tuple(_piece(each, window) for each in found),
                tuple(_bracket(each, window) for each in blocks if each.last >= window.first),
            )
        )
    return Calendar(
        _CALENDAR_DAYS,
        _CALENDAR_DAYS * _DAY_WIDTH,
        _months(window, figures) if window else (),
        tuple(rows),
        tuple((_shape(state, 0, 0), words) for state, words in _IN_THE_KEY.items()),
    )


def _bracket(block: Window, window: Window) -> Bracket:
    first = max(0, (block.first - window.first).days) * _DAY_WIDTH + 0.5
    last = ((block.last - window.first).days + 1) * _DAY_WIDTH - 0.5
    return Bracket(f"M{first},4 V1.5 H{last} V4", f"one total for {block.first} to {block.last}, {block.days} days")


def _with_blocks(words: str, blocks: Sequence[Window]) -> str:
    if not blocks:
        return words
    return f"{words}; {len(blocks)} {'sum' if len(blocks) == 1 else 'sums'} of several days"


def _piece(stretch: Stretch, window: Window) -> Piece:
    days = stretch.days
    span = str(days.first) if days.days == 1 else f"{days.first} to {days.last}, {days.days} days"
    return replace(_shape(stretch.state, (days.first - window.first).days, days.days), title=f"{stretch.state}: {span}")


def _shape(state: DayState, first: int, days: int) -> Piece:
    """Full height where a day is whole, half where it is not, a hairline where it is not there."""
    height = {
        DayState.HELD: 10,
        DayState.MATURING: 9,
        DayState.PART: 5,
        DayState.EARLY: 4,
        DayState.MISSING: 1,
        DayState.SUM: 2,
    }[state]
    # An outlined piece has its line inside its days.
    inset = 0.5 if state in (DayState.MATURING, DayState.EARLY) else 0
    width = max(0.0, days * _DAY_WIDTH - 2 * inset)
    return Piece(first * _DAY_WIDTH + inset, width, 13 - inset - height, height, state.name.lower(), "")


def _in_words(found: Sequence[Stretch]) -> str:
    """How many days are in each state, missing ones before the first held day not counted."""
    counts: dict[DayState, int] = {}
    for number, each in enumerate(found):
        if number > 0 or each.state is not DayState.MISSING:
            counts[each.state] = counts.get(each.state, 0) + each.days.days
    return ", ".join(f"{days} {state}" for state, days in counts.items())


def _months(window: Window, figures: Figures) -> tuple[tuple[int, str], ...]:
    days = [window.first + timedelta(days=number) for number in range(window.days)]
    return tuple((number * _DAY_WIDTH, figures.month(day)) for number, day in enumerate(days) if day.day == 1)


def differ_words(each: ReportGap, figures: Figures) -> str:
    """Two reports that do not agree, in a sentence."""
    titles = KINDS[each.better].title, KINDS[each.other].title
    gap = each.second / each.first - 1 if each.first else None
    return (
        f"{titles[0]} and {titles[1].lower()} differ in {each.measure}: {figures.micro(each.first)} against "
        f"{figures.micro(each.second)}{f' ({figures.relative(gap)})' if gap is not None else ''}, "
        f"{figures.days(each.days)}, {figures.counted(each.shared_days, 'day')} in both. "
        f"Totals come from {titles[0].lower()}."
    )
