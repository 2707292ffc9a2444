"""Budgets as their page shows them: a strip of 24 hours a campaign, what running dry costs, and what is moved."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.delivery.budgets import BudgetMove, Line
from nimbus_reef.core import hours
from nimbus_reef.core.budgets import Budget
from nimbus_reef.core.model import Verdict
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.offered import Worded, effect_words, heads, words_head
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


def worded(rows: pl.DataFrame, moved: BudgetMove, figures: Figures, *, hours_told: bool) -> Worded:
    """The move in words; see `answer`."""
    gives = [each for each in moved.budgets if each.change < 0]
    takes = [each for each in moved.budgets if each.change > 0]
    if moved.offer is None:
        dry = rows.filter("runs_dry")
        if dry.is_empty():
            return Worded(None, "nothing to move", ("no budget runs dry",) if hours_told else (_UNTOLD,))
        if not (dry["verdict"] == Verdict.FINE.value).any():
            return Worded(
                None, "nothing to move", ("what runs dry is not shown to be within target: settle its bids first",)
            )
        return Worded(None, "nothing to move", ("no campaign leaves enough of its budget; name a larger total",))
    reasons = (
        [
            f"{figures.counted(len(takes), 'campaign')} within target by evidence"
            f" {'gets' if len(takes) == 1 else 'get'} what the budget cut off on a dry day, best cost of sale first"
        ]
        if takes
        else []
    )
    if gives:
        reasons.append("who gives keeps what its busiest days spend (19 of 20 days)")
    if moved.asked is not None and moved.after - moved.asked > _CENT:
        reasons.append(
            f"{figures.money(moved.asked, 2)} a day is not reached: below {figures.money(moved.after, 2)} budgets that"
            " are spent would be cut"
        )
    if moved.asked is not None and moved.asked - moved.after > _CENT:
        reasons.append(f"{figures.money(moved.asked - moved.after, 2)} a day of the named total is not needed")
    return Worded(
        moved.offer, _headline(gives, takes, figures), tuple(reasons), effect_words(moved.offer.projected, figures)
    )


def _headline(gives: Sequence[Budget], takes: Sequence[Budget], figures: Figures) -> str:
    never = f"{figures.counted(len(gives), 'campaign')} that never spend{'s' if len(gives) == 1 else ''} theirs"
    if not takes:
        return f"take {figures.money(-sum(each.change for each in gives), 2)} a day from {never}"
    return (
        f"move {figures.money(sum(each.change for each in takes), 2)} a day from {never if gives else 'a larger total'}"
        f" to {figures.counted(len(takes), 'campaign')} that run{'s' if len(takes) == 1 else ''} dry"
    )
