"""The audit on paper: what was found, what changed since the last one, what is planned."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

from nimbus_reef.analysis.findings import Findings
from nimbus_reef.analysis.pulse import beat
from nimbus_reef.web.findings import pages, pictures
from nimbus_reef.web.kit.beats import line as beat_line
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drift import Drift
from nimbus_reef.web.kit.movers import Ways
from nimbus_reef.web.kit.planned import PlanLine
from nimbus_reef.web.kit.planned import lines as plan_lines
from nimbus_reef.web.kit.tree import Node


@dataclass(frozen=True, slots=True)
class ReportView:
    """The audit on paper. beat: what moved since the days compared with; groups: the plan, by kind of change."""

    answer: pages.FindingsAnswer
    blocks: Sequence[pages.FindingBlock]
    nodes: Mapping[str, Node] | None
    chart: Drift | None
    bars: Sequence[Any]
    ways: Ways
    by: str
    since: pages.SinceLast | None
    beat: Any
    groups: Mapping[str, Sequence[PlanLine]]
    today: date


def page(ask: Context, found: Findings, today: date) -> ReportView:
    """The view."""
    recurring, days, figures = pages.since(ask, found), pages.monthly_days(ask), ask.figures
    blocks = pages.blocks(found, days, "", figures, recurring.since.news)
    return ReportView(
        pages.answer(found, days, figures),
        blocks,
        pictures.nodes(ask.facts, ask.look, figures),
        pictures.moved(ask.facts, ask.look, ask.scope.target_acos),
        pictures.bars(blocks, [group.stake for group in found.groups]),
        Ways(),
        "product",
        pages.since_last(found, recurring, figures),
        beat_line(beat(ask.facts, ask.look, today), today),
        plan_lines(ask.planned(), figures),
        today,
    )


def page_foot(ask: Context) -> str:
    """What stands at the foot of every printed page, whose audit it is, as a style sheet."""
    said = f"{ask.account.brand}, {ask.account.country} · {ask.figures.days(ask.scope.window)}"
    escaped = "".join(f"\\{ord(sign):06x} " if not sign.isalnum() and sign != " " else sign for sign in said)
    return f'@page {{ @bottom-left {{ content: "{escaped}"; font: 9px sans-serif; color: #4c636b; }} }}'
