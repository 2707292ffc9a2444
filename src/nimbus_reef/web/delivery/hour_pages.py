"""
Hours as their page shows them: the grid, brackets of segments, the table under it, hours in which
ads are missing.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import out_of_budget
from nimbus_reef.analysis.acceptance import InPlan, in_plan
from nimbus_reef.analysis.delivery import budgets, hours
from nimbus_reef.analysis.delivery.files import hours_table
from nimbus_reef.analysis.delivery.hours import EVERY_DAY, Grid, HourCell, SegmentSums
from nimbus_reef.analysis.wording import WEEKDAYS, Worded, weekday_words, worded
from nimbus_reef.core import hours as rules
from nimbus_reef.core.hours import DAY, Segment
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MICRO
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.store.reading import delivery_frames
from nimbus_reef.web.delivery import budget_pages
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.shares import SharePair, share_pair
from nimbus_reef.web.kit.tables import TableView, heads, words_head

METRICS: Final[Mapping[str, tuple[str, str]]] = {
    "spend": ("spend", "¤"),
    "sales": ("ad sales", "¤"),
    "organic": ("organic sales", "¤"),
    "acos": ("ACOS", "%"),
    "tacos": ("TACOS", "%"),
    "rpc": ("RPC", "¤"),
}
NEED_TRADE: Final = frozenset({"organic", "tacos"})
_DRY_AT: Final = 0.04
"""An hour is hatched where budgets that were gone missed that part of what it would sell."""
_SHADES: Final = 9
_NAMED: Final = 4


@dataclass(frozen=True, slots=True)
class GridCell:
    """One hour: ink 0 … 9, hatched where budgets were gone; words on hover."""

    hour: int
    shade: int
    dry: bool
    title: str


@dataclass(frozen=True, slots=True)
class GridRow:
    """A weekday, or all days together."""

    name: str
    cells: tuple[GridCell, ...]


@dataclass(frozen=True, slots=True)
class SegmentBracket:
    """A segment along the edge of the grid: from hour to hour; parts: two where it runs past midnight."""

    name: str
    words: str
    parts: tuple[tuple[int, int], ...]
    strong: bool


def grid_rows(
    grid: Grid, metric: str, dried: Mapping[tuple[int, int], tuple[float, str]], figures: Figures
) -> list[GridRow]:
    """
    The grid in shades of a metric; dried: by weekday (0: all) and hour, sales missed on average
    (units), and whose.
    """
    values = {key: getattr(cell, metric) for key, cell in grid.cells.items()}
    known = [value for value in values.values() if value is not None]
    top = _top(known)
    rows = []
    for weekday in grid.weekdays:
        cells = []
        for hour in range(DAY):
            share, whose = dried.get((weekday, hour), (0.0, ""))
            value = values[weekday, hour]
            shade = 0 if value is None or not top else max(0, min(_SHADES, round(_SHADES * value / top)))
            cells.append(
                GridCell(
                    hour,
                    shade,
                    _hatched(share, grid.cells[weekday, hour].sales),
                    _title(weekday, hour, grid.cells[weekday, hour], share, whose, figures),
                )
            )
        rows.append(GridRow(WEEKDAYS.get(weekday, "all days"), tuple(cells)))
    return rows


def _hatched(missed: float, sold: float) -> bool:
    """Whether what was missed in an hour matters beside what it sold."""
    lost = rules.missed(missed).middle
    return lost > 0 and lost >= _DRY_AT * (sold + lost)


def _top(values: Sequence[float]) -> float:
    """What is drawn darkest: the 98th percentile, so that one odd hour does not pale the rest."""
    ordered = sorted(values)
    return ordered[int(0.98 * (len(ordered) - 1))] if ordered else 0.0


def _title(weekday: int, hour: int, cell: HourCell, missed: float, whose: str, figures: Figures) -> str:
    day = WEEKDAYS.get(weekday, "all days")
    texts = [
        f"{day} {hour}–{hour + 1} h: spend {figures.money(cell.spend, 2)}, ad sales {figures.money(cell.sales, 2)}"
    ]
    if cell.organic is not None:
        texts.append(f"organic {figures.money(cell.organic, 2)}")
    texts.append(f"ACOS {figures.rate(cell.acos, 0)}, a click earns {figures.number(cell.rpc)}")
    if missed > 0:
        texts.append(f"out of budget: {whose}")
    return "; ".join(texts)


def dried_by_cell(
    rows: pl.DataFrame, times: Mapping[int, int], value: int, *, by_day: bool
) -> dict[tuple[int, int], tuple[float, str]]:
    """By weekday (0: all days) and hour: sales missed per occurrence (units), and the campaigns, most missed first."""
    weekday = pl.col("day").dt.weekday().cast(pl.Int64) if by_day else pl.lit(EVERY_DAY, pl.Int64)
    sums = (
        rows.group_by(weekday.alias("weekday"), "hour", "campaign")
        .agg(missed=pl.col("missed_sales").sum() / MICRO)
        .sort(["missed", "campaign"], descending=[True, False])
        .group_by("weekday", "hour", maintain_order=True)
        .agg(pl.col("missed").sum(), names=pl.col("campaign").cast(pl.String).head(_NAMED), of=pl.len())
    )
    return {
        (day, hour): (missed / max(1, times.get(day, 0) if by_day else value), _listing(names, of))
        for day, hour, missed, names, of in sums.select("weekday", "hour", "missed", "names", "of").rows()
    }


def _listing(names: Sequence[str], of: int) -> str:
    more = f" and {of - len(names)} more" if of > len(names) else ""
    return ", ".join(names) + more


_LONG: Final = 10
_NAMES: Final = ((5, "night"), (11, "morning"), (14, "midday"), (18, "afternoon"), (23, "evening"))


def trade_words(days: int, traded: int, figures: Figures) -> str:
    """A note when total sales cover fewer days than ads; empty when they cover all."""
    if not traded or traded >= days:
        return ""
    return (
        f"Sales by hour are loaded for {figures.count(traded)} of {figures.count(days)} days. Organic sales and"
        " TACOS are per loaded day."
    )


def segment_names(segments: Sequence[Segment]) -> list[str]:
    """What segments are called, by the hour in their middle; told apart where two would be called alike."""
    if len(segments) == 1:
        return ["whole day"]
    named = []
    for segment in segments:
        if segment.hours == DAY:
            named.append("whole day")
            continue
        middle = (segment.first + segment.hours / 2) % DAY
        if segment.hours >= _LONG:
            named.append("rest of the day" if segment.hours >= 2 * DAY / 3 else "day" if 7 <= middle <= 21 else "night")
            continue
        name = next((name for end, name in _NAMES if middle < end), "night")
        named.append(name)
    seen: dict[str, int] = {}
    entries = []
    for name in named:
        seen[name] = seen.get(name, 0) + 1
        entries.append(name if seen[name] == 1 else f"{name} {seen[name]}")
    return entries


def brackets(sums: Sequence[SegmentSums], figures: Figures) -> list[SegmentBracket]:
    """Segments of all days along the edge; the one that earns most a click is strong."""
    names = segment_names([each.segment for each in sums])
    best = max((each.rpc or 0 for each in sums), default=0)
    entries = []
    for name, each in zip(names, sums, strict=True):
        if each.segment.weekdays:
            continue
        entries.append(
            SegmentBracket(
                name,
                f"{figures.number(each.rpc)} a click",
                each.segment.parts,
                len(sums) > 1 and (each.rpc or 0) == best,
            )
        )
    return entries


def boxes(sums: Sequence[SegmentSums]) -> list[tuple[int, int, int]]:
    """Segments of some weekdays, as boxes on the grid: row of the weekday, from hour, to hour."""
    return [
        (weekday - 1, first, end)
        for each in sums
        for weekday in each.segment.weekdays
        for first, end in each.segment.parts
    ]


@dataclass(frozen=True, slots=True)
class SegmentLine:
    """
    A segment of the day. boosts: its hours and weekdays, as the page of boosts has them: a label, from and to hour,
    weekdays.
    """

    name: str
    where: str
    pair: SharePair
    spend: str
    sales: str
    organic: str
    acos: str
    tacos: str
    rpc: str
    dry: str
    missed: str
    boosts: tuple[tuple[str, str, str, str], ...]


def segment_lines(sums: Sequence[SegmentSums], figures: Figures) -> list[SegmentLine]:
    """Segments side by side; shares of spend over all trade, over ad sales where that is not told."""
    spent = sum(each.spend for each in sums)
    sold = [each.sales + each.organic if each.organic is not None else each.sales for each in sums]
    names, entries = segment_names([each.segment for each in sums]), []
    for name, each, trade in zip(names, sums, sold, strict=True):
        shares = {"share_spend": ratio(each.spend, spent), "share_sales": ratio(trade, sum(sold))}
        missed = rules.missed(each.missed)
        entries.append(
            SegmentLine(
                name,
                _when(each.segment),
                share_pair(shares, figures, ahead=False),
                figures.count(each.spend),
                figures.count(each.sales),
                figures.count(each.organic),
                figures.percent(each.acos, 0),
                figures.percent(each.tacos),
                figures.number(each.rpc),
                f"{figures.number(each.dry_hours, 1)} h" if each.dry_hours >= 0.05 else "–",
                f"{figures.count(missed.low)}–{figures.count(missed.high)}" if missed.high >= 1 else "–",
                tuple(
                    (f"{first}–{end} h", str(first), str(end), " ".join(map(str, each.segment.weekdays)))
                    for first, end in each.segment.parts
                ),
            )
        )
    return entries


def _when(segment: Segment) -> str:
    hours = f"{segment.first}–{segment.end} h"
    return f"{hours}, {weekday_words(segment.weekdays)}" if segment.weekdays else hours


def segment_heads(figures: Figures) -> Any:
    """The heads of their table."""
    return heads(
        "segment",
        words_head("share of spend and of total sales"),
        f"spend {figures.symbol}",
        f"ad sales {figures.symbol}",
        (f"organic {figures.symbol}", "Total sales − ad sales"),
        "ACOS %",
        "TACOS %",
        f"RPC {figures.symbol}",
        ("hours lost", "Campaigns out of budget in an hour, on average"),
        (f"missed sales {figures.symbol} a month", "Usual sales of those hours, × 0.4 to 1"),
        words_head("boost"),
    )


def answer(sums: Sequence[SegmentSums], dry: str, starved: Sequence[int], figures: Figures) -> Answer:
    """When a click earns most, and what running dry costs; dry: who ran dry and what that missed, in words."""
    names = segment_names([each.segment for each in sums])
    rest = dry
    if starved:
        rest += f" Organic sales are strong but ads hardly run at {_listed(starved)} h."
    if len(sums) == 1:
        return Answer("All hours convert alike.", rest or "No campaign was out of budget in the loaded hours.")
    best = max(range(len(sums)), key=lambda place: sums[place].rpc or 0)
    each = sums[best]
    return Answer(f"The {names[best]} earns most per click: {figures.money(each.rpc, 2)}, {_when(each.segment)}.", rest)


def _listed(hours: Sequence[int]) -> str:
    """Hours as runs: 19–23."""
    runs: list[list[int]] = []
    for hour in hours:
        if runs and runs[-1][-1] == hour - 1:
            runs[-1].append(hour)
        else:
            runs.append([hour])
    return ", ".join(f"{run[0]}–{run[-1] + 1}" for run in runs)


USUAL_PERCENT: Final = "20"
"""What a boost of hours that somebody marked is tried with first."""


@dataclass(frozen=True, slots=True)
class HoursView:
    """The week by hour: the grid in one metric, its segments, what budgets cut off and the move that mends it."""

    metric: str
    metrics: list[tuple[str, str]]
    answer: Answer
    rows: Any
    brackets: Any
    boxes: Any
    percent: str
    trade_days: str
    by_day: bool
    trade: bool
    drawn: str
    starved: Sequence[int]
    worded: Worded
    planned: InPlan
    dry: Any
    table: TableView


def page(ask: Context) -> HoursView:
    """The view."""
    facts, selection, figures, scope = ask.facts, ask.selection, ask.figures, ask.scope
    grid = hours.grid(facts, selection)
    metric = scope.choice("metric", hours.METRICS)
    if metric in NEED_TRADE and not grid.trade:
        metric = "spend"
    drawn = scope.own_value("segments")
    segments = hours.drawn_segments(drawn) if drawn else hours.found_segments(facts, selection)
    sums = hours.segment_sums(facts, selection, segments)
    value = ask.days(out_of_budget.KIND)
    times = delivery_frames.weekdays_held(facts, ask.account.id, out_of_budget.KIND, scope.window)

    def dried() -> dict[tuple[int, int], tuple[float, str]]:
        return dried_by_cell(out_of_budget.hours(facts, selection), times, value, by_day=grid.by_day)

    by_hour = hours.by_hour(facts, selection)
    starved = rules.starved(by_hour["spend"].to_list(), by_hour["organic"].to_list()) if grid.trade else ()
    rows = budgets.campaign_rows(facts, selection)
    _, proposal = budget_pages.moved(ask, "")
    days_of_trade = facts.held_days(ask.account.id, hours.TRADE, scope.window)
    return HoursView(
        metric,
        [(key, words) for key, (words, _) in METRICS.items() if grid.trade or key not in NEED_TRADE],
        answer(sums, budget_pages.dry_words(rows, figures), starved, figures),
        grid_rows(
            grid, metric, facts.kept("dried cells", ask.account.id, dried, scope.window, selection.part), figures
        ),
        brackets(sums, figures),
        boxes(sums),
        USUAL_PERCENT,
        trade_words(value, days_of_trade, figures) if grid.trade else "",
        grid.by_day,
        grid.trade,
        drawn,
        starved,
        worded(proposal, figures),
        in_plan(ask.planned(), proposal),
        budget_pages.dry_lines(budgets.lines(rows.filter("runs_dry").head(6)), figures),
        TableView(
            here=ask.url("delivery.view", name="hours"),
            name="segments",
            heads=segment_heads(figures),
            groups={"": segment_lines(sums, figures)},
            opens=False,
        ),
    )


def file(ask: Context) -> Table:
    """The grid as a file."""
    return hours_table(hours.grid(ask.facts, ask.selection))
