"""Budgets as their page shows them: a strip of 24 hours a campaign, what running dry costs, and what is moved."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

from nimbus_reef.analysis.delivery.budgets import BudgetMove, Line
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.offered import Worded, effect_words, heads, words_head
from nimbus_reef.web.kit.verdicts import mark_of

_SHADES: Final = 9
_DRY_AT: Final = 0.2


@dataclass(frozen=True, slots=True)
class BudgetLine:
    """A campaign: strip: ink 0 … 9 by hour and whether it is often dry; move: what is proposed."""

    key: str
    name: str
    where: str
    budget: str
    strip: tuple[tuple[int, bool], ...]
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
        top = max(line.by_hour, default=0.0)
        strip = tuple(
            (round(_SHADES * spend / top) if top else 0, share >= _DRY_AT)
            for spend, share in zip(line.by_hour, line.dry_share, strict=True)
        )
        change = changes.get(line.campaign, 0.0)
        acos = f", {figures.rate(line.row['acos'], 0)}" if line.row["acos"] is not None else ""
        made.append(
            BudgetLine(
                line.campaign, line.campaign, where(line, figures), figures.number(line.spending.budget),
                strip, f"{figures.money(line.missed.low)} to {figures.money(line.missed.high)}" if line.missed.high >= 1 else "–",
                mark_of(line.row, "evidence"), f"{line.verdict}{acos}",
                figures.signed(change, 2) if change else "–", "gain" if change > 0 else "",
            )
        )  # fmt: skip
    return made


def dry_lines(held: Sequence[Line], figures: Figures, most: int = 6) -> list[tuple[str, str, str]]:
    """The campaigns that run dry: name, when, what it costs."""
    return [
        (
            line.campaign, where(line, figures), f"{figures.money(line.missed.low)} to {figures.money(line.missed.high)} of sales a month"
        )
        for line in held
        if line.runs_dry
    ][:most]  # fmt: skip


def where(line: Line, figures: Figures) -> str:
    """How a campaign's budget and its spend go together."""
    if line.dry_days:
        return f"dry on {line.dry_days} of {line.held_days} days, from about {line.from_hour} h"
    said = f"spends {figures.rate(line.spending.usual_share, 0)} of its budget on a middling day"
    return f"{said}; never near it" if line.spending.idle else said


def table_heads(figures: Figures) -> Any:
    """The heads of the table."""
    return heads(
        "campaign", f"budget {figures.symbol} a day", words_head("a usual day, 0 to 24 h: ink where it spends, hatched where the budget is gone"),
        ("sales lost a month", "what the dry hours usually sell, at 0.4 to 1 times"), words_head("evidence, ACOS"),
        (f"move {figures.symbol}", "what its budget is proposed to gain or give a day"),
    )  # fmt: skip


def answer(held: Sequence[Line], moved: BudgetMove, figures: Figures) -> Answer:
    """Who runs dry and what it costs, who never spends, and what is moved."""
    dry = [line for line in held if line.runs_dry]
    idle = [line for line in held if line.spending.idle]
    never = (
        f"{figures.counted(len(idle), 'campaign')} {'does' if len(idle) == 1 else 'do'} not come near "
        f"{'its' if len(idle) == 1 else 'their'} budget."
    )
    if not dry:
        return Answer("No budget ran dry in these days.", never if idle else "")
    total = (
        f"BudgetMove, the total stays {figures.money(moved.before, 2)} a day."
        if abs(moved.after - moved.before) < 0.005
        else f"BudgetMove, the total goes from {figures.money(moved.before, 2)} to {figures.money(moved.after, 2)} a day."
    )
    return Answer(
        dry_words(held, figures), f"{never if idle else ''} {total if moved.budgets else ''}".strip()
    )


def dry_words(held: Sequence[Line], figures: Figures) -> str:
    """Who runs dry, from when on, and what all that is out of budget misses; empty where nothing is."""
    dry = [line for line in held if line.runs_dry]
    low, high = (sum(getattr(line.missed, end) for line in held) for end in ("low", "high"))
    if not dry:
        return ""
    first = sorted(line.from_hour for line in dry if line.from_hour is not None)
    runs = "campaign runs" if len(dry) == 1 else "campaigns run"
    return (
        f"{figures.count(len(dry))} {runs} dry, usually from {first[len(first) // 2]} h, and it costs {figures.money(low)} to "
        f"{figures.money(high)} of sales a month."
    )


def worded(held: Sequence[Line], moved: BudgetMove, figures: Figures) -> Worded:
    """The move in words."""
    gives = [each for each in moved.budgets if each.change < 0]
    takes = [each for each in moved.budgets if each.change > 0]
    if moved.offer is None:
        fine = [line for line in held if line.runs_dry and line.spending.fine]
        if not any(line.runs_dry for line in held):
            return Worded(None, "nothing to move", ("no budget runs dry",))
        if not fine:
            return Worded(
                None,
                "nothing to move",
                ("what runs dry is not shown to be within target: settle its bids first",),
            )
        return Worded(
            None, "nothing to move", ("no campaign leaves enough of its budget; name a larger total",)
        )
    given = sum(each.change for each in takes)
    source = (
        f"from {figures.counted(len(gives), 'campaign')} that never spend{'s' if len(gives) == 1 else ''} theirs"
        if gives
        else "from a larger total"
    )
    reasons = [
        f"{figures.counted(len(takes), 'campaign')} within target by evidence {'gets' if len(takes) == 1 else 'get'} what the budget cut off on a dry day, best cost of sale first",
    ]
    if gives:
        reasons.append("who gives keeps what its busiest days spend (19 of 20 days)")
    return Worded(
        moved.offer, f"move {figures.money(given, 2)} a day {source} to {figures.counted(len(takes), 'campaign')} that run{'s' if len(takes) == 1 else ''} dry",
        tuple(reasons), effect_words(moved.offer.projected, figures),
    )  # fmt: skip
