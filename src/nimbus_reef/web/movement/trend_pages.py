"""The trends of one thing: its metrics day by day, the bid beneath, what was changed, and when a keyword worked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nimbus_reef.core.metrics import METRICS, Metric
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit import charts
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.splits import Why
from nimbus_reef.web.movement import courses, trends
from nimbus_reef.web.movement.courses import BestDay, Course, Worked
from nimbus_reef.web.movement.trends import Trend


@dataclass(frozen=True, slots=True)
class TrendsView:
    """
    Trends of one thing. moved: why its cost of sale moved; chosen, only: the metrics shown, and the one shown alone;
    stretches, best: bids of a keyword and how it did at each, and its best days.
    """

    trend: Trend
    moved: Why | None
    lines: Sequence[Course]
    chart: dict[str, Any] | None
    height: int
    offered: Sequence[Metric]
    chosen: Sequence[str]
    needs_days: str
    only: str
    smooth: str
    stretches: Sequence[Worked]
    best: Sequence[BestDay]
    changes: Sequence[tuple[str, str]]


def page(ask: Context) -> TrendsView:
    """The view."""
    figures, scope = ask.figures, ask.scope
    chosen = [key for key in scope.own_value("metric").split(",") if key] or ["spend", "sales", "acos"]
    wrong = [key for key in chosen if key not in courses.TRENDED]
    if wrong:
        raise BadInput(f"There is no trend of “{wrong[0]}”.", remedy=f"Use {', '.join(courses.TRENDED)}.")
    only = scope.own_value("only")
    shown = [only] if only in courses.TRENDED else chosen
    smooth = courses.SMOOTH[scope.choice("smooth", tuple(courses.SMOOTH))]
    found = _trend(ask)
    lines = courses.trend_lines(found.days, shown, smooth, figures, scope.window, found.target_acos)
    days = courses.shown_days(found.days)
    chart = None
    if days:
        values = [(line.label, line.values) for line in lines]
        beside = {line.label: line.beside for line in lines if line.beside}
        chart = charts.panels(
            days, values, found.bids, found.changes, first_shown=scope.window.first, figures=figures, beside=beside
        )
    return TrendsView(
        found,
        trends.why_moved(found, scope, figures),
        lines,
        chart,
        54 + len(lines) * (300 if only else 104) + (54 if found.bids else 0),
        [METRICS[key] for key in courses.TRENDED],
        chosen,
        found.sums_left_out,
        only,
        scope.own_value("smooth"),
        courses.stretches(found.days, found.target_acos, figures) if found.bids else [],
        courses.best_days(found.days, found.target_acos, figures) if found.bids else [],
        [(figures.day(each.day), each.at_length or each.words) for each in found.changes[-12:]][::-1],
    )


def file(ask: Context) -> Table:
    """Every day as a file."""
    found = _trend(ask)
    return courses.trend_export(found.days, found.bids)


def _trend(ask: Context) -> Trend:
    return trends.trend(ask.facts, ask.scope, ask.scope.own_value("whose"), ask.figures)
