"""What Intake says: the mapping of a file, jobs and their progress, batches, what is held."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any, Final

import polars as pl

from nimbus_reef.core.coverage import Span, State, Stretch, labels_in_use, stretches
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.windows import Window
from nimbus_reef.formats import reports, values
from nimbus_reef.formats.contract import Column, Holds
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.formats.mapping import ColumnMap, Suggestion
from nimbus_reef.formats.tables import LINE, RawTable
from nimbus_reef.jobs.agreement import Difference
from nimbus_reef.store.loads import Batch, HeldReport, Job
from nimbus_reef.web.figures import Figures

_SAMPLES: Final = 3
_BECOMES: Final[Mapping[Holds, str]] = {
    Holds.DATE: "day", Holds.WEEK: "week", Holds.MONTH: "month", Holds.TIME: "time",
    Holds.TEXT: "text", Holds.COUNT: "whole number", Holds.MONEY: "money", Holds.NUMBER: "number",
    Holds.SHARE: "share", Holds.PERCENT: "percent", Holds.RANK: "rank", Holds.CHOICE: "one of our words",
}  # fmt: skip


@dataclass(frozen=True, slots=True)
class MappedColumn:
    """One of our columns, the header that feeds it, and what its first cells become."""

    name: str
    required: bool
    becomes: str
    header: str
    samples: tuple[tuple[str, str], ...]


def _become(cells: Any, column: Column, order: values.DateOrder) -> list[str]:
    text = values.trimmed(cells)
    if column.holds.dated:
        known = order if order is not values.DateOrder.UNKNOWN else values.DateOrder.DAY_FIRST
        read = reports.dated(text, column.holds, known, "UTC")
        return [day.isoformat() if day else "" for day in read]
    if column.holds is Holds.CHOICE:
        return [word or "" for word in values.choices(text, column.aliases)]
    if column.holds is Holds.TEXT:
        return text.to_list()
    votes = values.style_votes(text)
    style = values.Style.COMMA if votes.comma > votes.dot else values.Style.DOT
    if column.holds is Holds.COUNT:
        style = values.counts_style(text, style)
    return ["" if number is None else f"{number:g}" for number in values.numbers(text, style)]


def _telling_rows(table: RawTable) -> pl.DataFrame:
    """The few rows that say most: rows of zeros show nothing about how figures are read."""
    says = [~pl.col(header).fill_null("").str.contains(r"^[\s0.,–-]*$") for header in table.headers]
    return table.frame.sort(pl.sum_horizontal(says), descending=True, maintain_order=True).head(_SAMPLES)


def mapped(table: RawTable, chosen: ColumnMap) -> list[MappedColumn]:
    """Our columns beside the file's, with sample cells: as they stand → what they become."""
    telling = _telling_rows(table)
    rows = []
    for column in KINDS[chosen.kind].columns:
        header = chosen.columns.get(column.name, "")
        samples: tuple[tuple[str, str], ...] = ()
        if header:
            cells = telling[header]
            become = _become(cells, column, chosen.date_order)
            samples = tuple(zip([cell or "" for cell in cells.to_list()], become, strict=True))
        rows.append(MappedColumn(column.name, column.required, _BECOMES[column.holds], header, samples))
    return rows


def sample_rows(table: RawTable, most: int = 5) -> list[tuple[str, ...]]:
    """The first rows of the file as they stand."""
    return table.frame.drop(LINE).head(most).fill_null("").rows()


def kinds_by_fit(suggestions: Sequence[Suggestion]) -> list[tuple[str, str, int]]:
    """Kinds to choose from: name, title, how well they fit in percent, best first."""
    return [(s.mapping.kind, KINDS[s.mapping.kind].title, round(100 * s.fit)) for s in suggestions]


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
        money = KINDS[kind].column(name).holds is Holds.MONEY
        shown.append(
            (name.replace("_", " "), figures.money(from_micro(value), 2) if money else figures.count(value))
        )
    return shown


def _span(first: Any, last: Any, days: int | None) -> list[tuple[str, str]]:
    if not first:
        return []
    shown = [("from", str(first)), ("to", str(last))]
    return [("days", str(days)), *shown] if days is not None else shown


def job_summaries(job: Job, seen: Mapping[int, tuple[str, Figures]]) -> list[Summary]:
    """
    What a finished load or undo did, by account.

    seen: the accounts the reader may see, with their names and how figures are written.
    """
    if job.state != "done":
        return []
    if job.kind == "undo":
        return [_undo_summary(job.result, seen[job.account_id or 0][1])]
    done = [(seen[each["account"]], each) for each in job.result["loads"] if each["account"] in seen]
    named = len(job.result["loads"]) > 1
    return [
        replace(summary, title=f"{summary.title} in {name}") if named else summary
        for (name, figures), each in done
        for summary in [_load_summary(each, figures)]
    ]


def _load_summary(result: Mapping[str, Any], figures: Figures) -> Summary:
    facts = [
        ("rows", figures.count(result["rows"])),
        *_span(result["first_day"], result["last_day"], result["days"]),
        ("replaced", figures.count(result["removed"])), ("rejected", figures.count(result["rejected"])),
        *_sums(result["kind"], result["sums"], figures),
    ]  # fmt: skip
    return Summary(
        KINDS[result["kind"]].title,
        tuple(facts),
        tuple(result["warnings"]),
        result["rejected"],
        result["batch"],
    )


def _undo_summary(result: Mapping[str, Any], figures: Figures) -> Summary:
    restored, left = result["restored"], result["left"]
    span = _span(restored[0], restored[-1], len(restored)) if restored else []
    warnings = [
        f"{figures.count(len(left))} days from {left[0]} to {left[-1]} stay as they are: a newer batch "
        "stands on them. Undo that one first to have these back too."
        for _ in left[:1]
    ]
    return Summary(f"Undone: {KINDS[result['kind']].title.lower()} as before", tuple(span), tuple(warnings))


def batch_summary(batch: Batch, figures: Figures) -> Summary:
    """The same of a batch, from the record."""
    facts = [
        ("rows", figures.count(batch.rows)),
        *_span(batch.first_day, batch.last_day, None),
        ("replaced", figures.count(batch.removed)), ("rejected", figures.count(batch.rejected)),
        *_sums(batch.kind, batch.sums, figures),
    ]  # fmt: skip
    return Summary(KINDS[batch.kind].title, tuple(facts), batch.warnings, batch.rejected, batch.id)


_CALENDAR_DAYS: Final = 120
_DAY_WIDTH: Final = 5
_IN_THE_KEY: Final = {
    State.HELD: "held",
    State.MATURING: "maturing: sales are still being added",
    State.EARLY: "loaded before it had matured: load those days again",
    State.PART: "one of the ad formats is missing",
    State.MISSING: "missing",
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
class CalendarRow:
    """One kind of report in the calendar; `says` is the same in words."""

    title: str
    newest: str
    rows: str
    says: str
    pieces: tuple[Piece, ...]


@dataclass(frozen=True, slots=True)
class Calendar:
    """Report kind × day. months: where each begins and its name; unheld: kinds without a row."""

    days: int
    width: int
    months: tuple[tuple[int, str], ...]
    rows: tuple[CalendarRow, ...]
    unheld: tuple[str, ...]
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
        if kind.has_days:
            own = spans.get(kind.name, [])
            found = stretches(
                window, own, labels_in_use(own), newest or window.last, maturing_days,
                matures="sales" in kind.summed,
            )  # fmt: skip
        rows.append(
            CalendarRow(
                kind.title, report.last_day.isoformat(), figures.count(report.rows),
                _in_words(found), tuple(_piece(each, window) for each in found),
            )
        )  # fmt: skip
    return Calendar(
        _CALENDAR_DAYS,
        _CALENDAR_DAYS * _DAY_WIDTH,
        _months(window, figures) if window else (),
        tuple(rows),
        tuple(kind.title for kind in KINDS.values() if kind.name not in by_kind),
        tuple((_shape(state, 0, 0), words) for state, words in _IN_THE_KEY.items()),
    )


def _piece(stretch: Stretch, window: Window) -> Piece:
    days = stretch.days
    span = str(days.first) if days.days == 1 else f"{days.first} to {days.last}, {days.days} days"
    return replace(
        _shape(stretch.state, (days.first - window.first).days, days.days), title=f"{stretch.state}: {span}"
    )


def _shape(state: State, first: int, days: int) -> Piece:
    """Full height where a day is whole, half where it is not, a hairline where it is not there."""
    height = {State.HELD: 10, State.MATURING: 9, State.PART: 5, State.EARLY: 4, State.MISSING: 1}[state]
    # An outlined piece has its line inside its days.
    inset = 0.5 if state in (State.MATURING, State.EARLY) else 0
    width = max(0.0, days * _DAY_WIDTH - 2 * inset)
    return Piece(first * _DAY_WIDTH + inset, width, 13 - inset - height, height, state.name.lower(), "")


def _in_words(found: Sequence[Stretch]) -> str:
    """How many days are in each state, missing ones before the first held day not counted."""
    counts: dict[State, int] = {}
    for number, each in enumerate(found):
        if number > 0 or each.state is not State.MISSING:
            counts[each.state] = counts.get(each.state, 0) + each.days.days
    return ", ".join(f"{days} {state}" for state, days in counts.items())


def _months(window: Window, figures: Figures) -> tuple[tuple[int, str], ...]:
    days = [window.first + timedelta(days=number) for number in range(window.days)]
    return tuple((number * _DAY_WIDTH, figures.month(day)) for number, day in enumerate(days) if day.day == 1)


def differ_words(each: Difference, figures: Figures) -> str:
    """Two reports that do not agree, in a sentence."""
    titles = KINDS[each.better].title, KINDS[each.other].title
    gap = each.second / each.first - 1 if each.first else None
    return (
        f"{titles[0]} and {titles[1].lower()} differ in {each.measure}: {figures.micro(each.first)} against "
        f"{figures.micro(each.second)}{f' ({figures.points(gap)})' if gap is not None else ''}, "
        f"{figures.days(each.days)}, {figures.counted(each.held, 'day')} that both hold. "
        f"Totals come from {titles[0].lower()}."
    )
