"""Budgets as their page shows them: a strip of 24 hours a campaign, what running dry costs, and what is moved."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl
from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis.acceptance import InPlan, in_plan
from nimbus_reef.analysis.delivery import budgets
from nimbus_reef.analysis.delivery.budgets import BudgetMove, Line
from nimbus_reef.analysis.delivery.files import budgets_table
from nimbus_reef.analysis.tables import Field, by_key, choice, metric_fields, yes_or_no
from nimbus_reef.analysis.wording import Worded, worded
from nimbus_reef.core import hours
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.delivery.forms import TotalForm
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListedRows, ListSpec, listed
from nimbus_reef.web.kit.tables import Head, TableView, heads_of, table_of, words_head
from nimbus_reef.web.kit.verdicts import mark_of

_SHADES: Final = 9
_DRY_AT: Final = 0.2
_HOUR_WIDE: Final = 15
_CENT: Final = 0.005
_UNTOLD: Final = "Out-of-budget days need the hourly report by day."


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


def lines(entries: Sequence[Line], moved: BudgetMove, figures: Figures) -> list[BudgetLine]:
    """A page of campaigns."""
    changes = {each.campaign: each.change for each in moved.budgets}
    items = []
    for line in entries:
        change = changes.get(line.campaign, 0.0)
        acos = f", {figures.rate(line.row['acos'], 0)}" if line.row["acos"] is not None else ""
        items.append(
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
            )
        )
    return items


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
        return f"out of budget on {line.dry_days} of {line.held_days} days, from about {line.from_hour} h"
    text = f"spends {figures.rate(line.usual_share, 0)} of its budget on a median day"
    return f"{text}, never close to it" if line.idle else text


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What campaigns are filtered and sorted by."""
    return by_key(
        Field("name", "campaign", pl.col("campaign"), text=True),
        Field("budget", "budget a day", pl.col("budget"), "¤", digits=2),
        Field("missed", "missed sales per 30 days", pl.col("missed"), "¤", _MISSED, digits=0),
        *metric_fields(),
        Field("move", "move", pl.col("move"), "¤", "Proposed change of the daily budget", digits=2),
        Field("dry_days", "days out of budget", pl.col("dry_days"), digits=0),
        Field("from_hour", "out of budget from hour", pl.col("from_hour"), digits=0),
        Field("usual_share", "part of budget spent", pl.col("usual_share") * 100, "%", "On a median day", digits=0),
        choice("verdict", "verdict", pl.col("verdict"), rows),
        yes_or_no("dry", "out of budget", pl.col("runs_dry"), "Often enough to be counted"),
        yes_or_no("idle", "never near its budget", pl.col("idle")),
        choice("portfolio", "portfolio", pl.col("portfolio"), rows),
        choice("format", "format", pl.col("format"), rows),
    )


_MISSED: Final = "Usual sales of the hours out of budget, × 0.4 to 1"


def _rows(ask: Context) -> pl.DataFrame:
    """What runs dry, what gives, then the rest by spend; with move: what is proposed, a day."""
    rows = budgets.campaign_rows(ask.facts, ask.selection)
    found, _ = moved(ask, ask.scope.own_value("total"))
    change = {each.campaign: each.change for each in found.budgets}
    name = pl.col("campaign").cast(pl.String)
    return rows.with_columns(
        row_id=name.str.head(64), move=name.replace_strict(change, default=0.0, return_dtype=pl.Float64)
    ).sort(~pl.col("runs_dry"), pl.col("missed") <= 0, pl.col("move") == 0, maintain_order=True)


def _file(ask: Context, rows: pl.DataFrame) -> Table:
    return budgets_table(budgets.lines(rows), moved(ask, ask.scope.own_value("total"))[0])


LIST: Final = ListSpec(_rows, fields, ("campaign",), file=_file)


def table_heads(of: ListedRows, figures: Figures) -> tuple[Head, ...]:
    """The heads of the table."""
    shown = {key: of.fields[key] for key in ("name", "budget", "missed", "acos", "move")}
    name, budget, missed, acos, move = heads_of(shown, of.found.sort, figures, words=("acos",))
    strip = words_head("A median day, 0 to 24 h. Dark: spend. Hatched: out of budget")
    return (name, budget, strip, missed, replace(acos, label="evidence, ACOS"), move)


def answer(rows: pl.DataFrame, moved: BudgetMove, figures: Figures, *, hours_told: bool) -> Answer:
    """
    Who runs dry and what it costs, who never spends, and what is moved. rows: as the analysis holds them; hours_told:
    hours are held day by day, so that dry ones can be known.
    """
    if rows.is_empty():
        return Answer("No campaign’s budget is known in this period.", "Load campaign settings in Intake.")
    idle = int(rows["idle"].sum())
    never = (
        f"{figures.counted(idle, 'campaign')} {'does' if idle == 1 else 'do'} not come close to "
        f"{'its' if idle == 1 else 'their'} budget."
    )
    dry = dry_words(rows, figures)
    if not dry:
        text = "No campaign ran out of budget in this period." if hours_told else _UNTOLD
        return Answer(text, never if idle else "")
    total = (
        f"After the move the total stays {figures.money(moved.before, 2)} a day."
        if abs(moved.after - moved.before) < _CENT
        else f"The total goes from {figures.money(moved.before, 2)} to {figures.money(moved.after, 2)} a day."
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
        f"{figures.count(len(dry))} {runs} out of budget, usually from {first[len(first) // 2]} h. These hours miss"
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
        raise BadInput("Enter a total above 0.", remedy="Enter an amount such as 235.")
    return float(form.total.data)


def hours_told(ask: Context) -> bool:
    """Whether hours are held day by day: only then is it known which are dry."""
    return bool(ask.facts.days(ask.account.id, "hourly", ask.scope.window))


def moved(ask: Context, total: str) -> tuple[BudgetMove, Proposal]:
    """The move of budgets to a total, and what that proposes."""
    found = budgets.moved(ask.facts, ask.selection, total_asked(ask, total))
    return found, budgets.proposal(budgets.campaign_rows(ask.facts, ask.selection), found, hours_told=hours_told(ask))


def page(ask: Context) -> BudgetsView:
    """The view: what runs dry, what gives, then the rest by spend."""
    of, figures = listed(ask, LIST), ask.figures
    found, proposal = moved(ask, ask.scope.own_value("total"))
    return BudgetsView(
        answer(of.rows, found, figures, hours_told=hours_told(ask)),
        ask.scope.own_value("total"),
        figures.number(found.before),
        worded(proposal, figures),
        in_plan(ask.planned(), proposal),
        table_of(
            ask,
            of,
            lines(budgets.lines(of.found.shown), found, figures),
            table_heads(of, figures),
            here=ask.url("delivery.view", name="budgets"),
            name="budgets",
            things="campaigns",
            opens=False,
            empty=(
                "No campaign has a known budget and figures in this period."
                if of.rows.is_empty()
                else "No campaigns match."
            ),
        ),
    )
