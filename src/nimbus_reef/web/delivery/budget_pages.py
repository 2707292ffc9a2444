"""Budgets as their page shows them: a strip of 24 hours a campaign, what running dry costs, and what is moved."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl
from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis import tables
from nimbus_reef.analysis.acceptance import InPlan, in_plan
from nimbus_reef.analysis.delivery import budgets
from nimbus_reef.analysis.delivery.budgets import BudgetMove, Line
from nimbus_reef.analysis.wording import Worded, worded
from nimbus_reef.core import hours
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.delivery.forms import TotalForm
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.tables import TableView, heads, words_head
from nimbus_reef.web.kit.verdicts import mark_of

_SHADES: Final = 9
_DRY_AT: Final = 0.2
_HOUR_WIDE: Final = 15
_CENT: Final = 0.005
_UNTOLD: Final = "Which budgets run dry needs hours, day by day."


@dataclass(frozen=True, slots=True)
class BudgetLine:
    """A campaign: strip: marks of its 24 hours, each a class and an outline; move: what is proposed."""

    key: str
    name: str
    where: str
    budget: str
    strip: tuple[tuple[str, str], ...]
    missed: str
    mark: str
    verdict: str
    move: str
    tone: str


def lines(held: Sequence[Line], moved: BudgetMove, figures: Figures) -> list[BudgetLine]:
    """A page of campaigns."""
    changes = {each.campaign: each.change for each in moved.budgets}
    made = []
    for line in held:
        change = changes.get(line.campaign, 0.0)
        acos = f", {figures.rate(line.row['acos'], 0)}" if line.row["acos"] is not None else ""
        made.append(
            BudgetLine(
                line.campaign,
                line.campaign,
                where(line, figures),
                figures.number(line.budget),
                _strip(line),
                (
                    f"{figures.money(line.missed.low)} to {figures.money(line.missed.high)}"
                    if line.missed.high >= 1
                    else "–"
                ),
                mark_of(line.row, "evidence"),
                f"{line.verdict}{acos}",
                figures.signed(change, 2) if change else "–",
                "gain" if change > 0 else "",
            )
        )
    return made


def _strip(line: Line) -> tuple[tuple[str, str], ...]:
    """Hours of equal ink as one outline, those often dry as another over them."""
    top = max(line.by_hour, default=0.0)
    marks: dict[str, str] = {}
    for hour, spend in enumerate(line.by_hour):
        shade = f"shade-{round(_SHADES * spend / top) if top else 0}"
        marks[shade] = marks.get(shade, "") + f"M{hour * _HOUR_WIDE} 0h14v16h-14z"
    dry = "".join(f"M{hour * _HOUR_WIDE} 0h14v16h-14z" for hour, share in enumerate(line.dry_share) if share >= _DRY_AT)
    return (*marks.items(), *([("dry", dry)] if dry else []))


def dry_lines(dry: Sequence[Line], figures: Figures, most: int = 6) -> list[tuple[str, str, str]]:
    """The campaigns that run dry: name, when, what it costs."""
    return [
        (
            line.campaign,
            where(line, figures),
            f"{figures.money(line.missed.low)} to {figures.money(line.missed.high)} of sales a month",
        )
        for line in dry[:most]
    ]


def where(line: Line, figures: Figures) -> str:
    """How a campaign's budget and its spend go together."""
    if line.dry_days:
        return f"dry on {line.dry_days} of {line.held_days} days, from about {line.from_hour} h"
    said = f"spends {figures.rate(line.usual_share, 0)} of its budget on a middling day"
    return f"{said}; never near it" if line.idle else said


def table_heads(figures: Figures) -> Any:
    """The heads of the table."""
    return heads(
        "campaign",
        f"budget {figures.symbol} a day",
        words_head("a usual day, 0 to 24 h: ink where it spends, hatched where the budget is gone"),
        ("sales lost a month", "what the dry hours usually sell, at 0.4 to 1 times"),
        words_head("evidence, ACOS"),
        (f"move {figures.symbol}", "what its budget is proposed to gain or give a day"),
    )


def answer(rows: pl.DataFrame, moved: BudgetMove, figures: Figures, *, hours_told: bool) -> Answer:
    """
    Who runs dry and what it costs, who never spends, and what is moved. rows: as the analysis holds them; hours_told:
    hours are held day by day, so that dry ones can be known.
    """
    if rows.is_empty():
        return Answer(
            "No campaign’s budget is known in these days.", "Campaign settings tell budgets; load them in Intake."
        )
    idle = int(rows["idle"].sum())
    never = (
        f"{figures.counted(idle, 'campaign')} {'does' if idle == 1 else 'do'} not come near "
        f"{'its' if idle == 1 else 'their'} budget."
    )
    dry = dry_words(rows, figures)
    if not dry:
        said = "No budget ran dry in these days." if hours_told else _UNTOLD
        return Answer(said, never if idle else "")
    total = (
        f"Moved, the total stays {figures.money(moved.before, 2)} a day."
        if abs(moved.after - moved.before) < _CENT
        else f"Moved, the total goes from {figures.money(moved.before, 2)} to {figures.money(moved.after, 2)} a day."
    )
    return Answer(dry, f"{never if idle else ''} {total if moved.budgets else ''}".strip())


def dry_words(rows: pl.DataFrame, figures: Figures) -> str:
    """Who runs dry, from when on, and what all that is out of budget misses; empty where nobody does."""
    dry = rows.filter("runs_dry")
    if dry.is_empty():
        return ""
    lost = hours.missed(float(dry["missed"].sum()))
    first = sorted(dry["from_hour"].to_list())
    runs = "campaign runs" if len(dry) == 1 else "campaigns run"
    return (
        f"{figures.count(len(dry))} {runs} dry, usually from {first[len(first) // 2]} h; the hours out of budget cost"
        f" {figures.money(lost.low)} to {figures.money(lost.high)} of sales a month."
    )


@dataclass(frozen=True, slots=True)
class BudgetsView:
    """Budgets. total: the sum that was asked for, as typed; now: what it is."""

    answer: Answer
    total: str
    now: str
    worded: Worded
    planned: InPlan
    table: TableView


def total_asked(ask: Context, given: str) -> float | None:
    """The total of all budgets as typed; BadInput for what it cannot be."""
    form = TotalForm(MultiDict({"total": given}), ask.account.locale).checked()
    if form.total.data is None:
        return None
    if not 0 < form.total.data < 10**9:
        raise BadInput("The total of all budgets has to be above 0.", remedy="Write it like 235.")
    return float(form.total.data)


def hours_told(ask: Context) -> bool:
    """Whether hours are held day by day: only then is it known which are dry."""
    return bool(ask.facts.days(ask.account.id, "hourly", ask.scope.window))


def moved(ask: Context, total: str) -> tuple[BudgetMove, Proposal]:
    """The move of budgets to a total, and what that proposes."""
    found = budgets.moved(ask.facts, ask.look, total_asked(ask, total))
    return found, budgets.proposal(budgets.held(ask.facts, ask.look), found, hours_told=hours_told(ask))


def page(ask: Context) -> BudgetsView:
    """The view: what runs dry, what gives, then the rest by spend."""
    rows, figures = budgets.held(ask.facts, ask.look), ask.figures
    found, proposal = moved(ask, ask.scope.said("total"))
    changed = pl.col("campaign").is_in([each.campaign for each in found.budgets])
    ordered = rows.sort(~pl.col("runs_dry"), pl.col("missed") <= 0, ~changed, maintain_order=True)
    page, of = tables.page_of(len(ordered), ask.scope.page)
    shown = budgets.lines(ordered.slice((page - 1) * tables.PAGE_ROWS, tables.PAGE_ROWS))
    return BudgetsView(
        answer(rows, found, figures, hours_told=hours_told(ask)),
        ask.scope.said("total"),
        figures.number(found.before),
        worded(proposal, figures),
        in_plan(ask.planned(), proposal),
        TableView(
            here=ask.url("delivery.view", name="budgets"),
            name="budgets",
            heads=table_heads(figures),
            groups={"": lines(shown, found, figures)},
            page=page,
            pages=of,
            opens=False,
            empty="No campaign has a known budget and figures in these days.",
        ),
    )
