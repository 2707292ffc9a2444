"""The client's report: what happened, why, what is planned and what it should bring; the audit as an annex."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any, Final

from nimbus_reef.analysis import movement
from nimbus_reef.analysis.findings import Findings
from nimbus_reef.analysis.pulse import Beat, beat
from nimbus_reef.core import change
from nimbus_reef.core.checks import Money, Subject
from nimbus_reef.core.proposals import counted_as
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import logos
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.web.findings import done_pages, pages, pictures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.beats import areas
from nimbus_reef.web.kit.beats import line as beat_line
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drift import Drift
from nimbus_reef.web.kit.movers import Ways
from nimbus_reef.web.kit.planned import PlanLine, PlanStrip, account_strip
from nimbus_reef.web.kit.planned import lines as plan_lines
from nimbus_reef.web.kit.previews import by_kind
from nimbus_reef.web.kit.tree import Node

_PICTURE: Final = (720, 110)
_MOST_STEPS: Final = 5
_SPOKEN: Final[Mapping[str, str]] = {
    "cpc": "the price per click",
    "cvr": "the share of clicks that become orders",
    "aov": "the value of an order",
}
"""The parts of ACOS for readers outside the trade."""


@dataclass(frozen=True, slots=True)
class Annex:
    """The audit in detail. groups: the plan, by campaign."""

    answer: Answer
    blocks: Sequence[pages.FindingBlock]
    nodes: Mapping[str, Node] | None
    since: pages.SinceLast | None
    groups: Mapping[str, Sequence[PlanLine]]


@dataclass(frozen=True, slots=True)
class ReportView:
    """
    The report. name, logo: whose report it is; sales_path, spend_path: sales over spend by day, in a picture of `wide`
    by `tall`; beat: totals and how they moved; bars: the largest findings; did: what earlier changes did, None where
    there were none; annex: None unless asked for.
    """

    name: str
    logo: str
    happened: Sequence[str]
    why: Sequence[str]
    doing: Sequence[str]
    brings: Sequence[str]
    beat: Any
    sales_path: str
    spend_path: str
    wide: int
    tall: int
    chart: Drift | None
    bars: Sequence[pictures.Bar]
    ways: Ways
    by: str
    today: date
    did: done_pages.DoneView | None
    annex: Annex | None


def page(ask: Context, found: Findings, today: date) -> ReportView:
    """The view; with `annex=yes` the details too."""
    figures, selection = ask.figures, ask.selection
    blocks = pages.blocks(found, pages.monthly_days(ask), "", figures)
    now = beat(ask.facts, selection, today)
    sales_path, spend_path = areas(now.days, *_PICTURE)
    told = [
        (block, group.stake)
        for block, group in zip(blocks, found.groups, strict=True)
        # A single word, such as what the shop sells, says nothing to a reader who does not know the account; and what
        # is only to be looked at, or could be won, is nothing that "we do" about costs.
        if group.check.subject not in (Subject.PHRASE, Subject.NEW_PHRASE)
        and group.check.money is not Money.SPENT
        and not group.check.by_itself
        and not block.gain
    ]
    logo = logos.of_account(ask.facts.store, ask.account.id)
    return ReportView(
        ask.account.settings.report_name,
        logo.address if logo else "",
        happened(now, selection.aims.account, figures, assumed=ask.scope.assumes_target),
        why(_parts(ask), figures),
        doing(ask.planned(), [block for block, _ in told], figures),
        brings(account_strip(ask.facts, ask.scope, figures)),
        beat_line(now, today),
        sales_path,
        spend_path,
        *_PICTURE,
        pictures.moved(ask.facts, selection, ask.scope.target_acos),
        pictures.bars([block for block, _ in told], [stake for _, stake in told], most=_MOST_STEPS),
        Ways(),
        "product",
        today,
        done_pages.page(ask),
        _annex(ask, found) if ask.scope.own_value("annex") == "yes" else None,
    )


def _annex(ask: Context, found: Findings) -> Annex:
    recurring, days, figures = pages.since(ask, found), pages.monthly_days(ask), ask.figures
    return Annex(
        pages.answer(found, days, figures),
        pages.blocks(found, days, "", figures, recurring.since.news),
        pictures.nodes(ask.facts, ask.selection, figures),
        pages.since_last(found, recurring, figures),
        plan_lines(ask.planned(), figures),
    )


def happened(now: Beat, target: float, figures: Figures, *, assumed: bool) -> list[str]:
    """
    What ads cost and sold, and how that moved, in sentences for readers outside the trade. assumed: nobody has set the
    target yet.
    """
    if now.now is None:
        return ["No data for this period."]
    spend, sales, acos = now.now.spend, now.now.sales, now.now.acos
    if not sales:
        return [f"Ads cost {figures.micro(spend)} and brought no sales."]
    sentences = [
        f"Ads cost {figures.micro(spend)} and brought {figures.micro(sales)} of sales.",
        f"That is {figures.rate(acos)} of the sales they brought (ACOS). The target is {figures.aim(target)}"
        f"{', assumed until one is set' if assumed else ''}.",
    ]
    moved = [
        f"{name} {'rose' if change > 0 else 'fell'} by {figures.rate(abs(change), 0)}"
        for name, change in (("spend", now.moved("spend")), ("sales", now.moved("sales")))
        if change is not None and abs(change) >= 0.005
    ]
    if moved:
        sentences.append(f"Per day, {' and '.join(moved)}.")
    return sentences


def _parts(ask: Context) -> dict[str, float] | None:
    """Points of ACOS by its parts, over all products or terms; None where nothing can be compared."""
    if ask.selection.against is None:
        return None
    sides = movement.sides(ask.facts, ask.selection, "product")
    split = change.split_acos(sides) if len(sides) else None
    return {name: float(split[name].sum()) for name in _SPOKEN} if split is not None else None


def why(parts: Mapping[str, float] | None, figures: Figures) -> list[str]:
    """What moved ACOS, in sentences for readers outside the trade."""
    if parts is None:
        return ["There is no earlier period to compare with."]
    moved = sorted(
        ((name, value) for name, value in parts.items() if abs(value) >= 0.0005), key=lambda each: -abs(each[1])
    )
    if not moved:
        return ["ACOS did not change."]
    return [
        f"{_SPOKEN[name].capitalize()} {'raised' if value > 0 else 'lowered'} ACOS by"
        f" {figures.number(abs(value) * 100, 1)} points."
        for name, value in sorted(moved, key=lambda each: -abs(each[1]))
    ]


def doing(planned: Sequence[Planned], blocks: Sequence[pages.FindingBlock], figures: Figures) -> list[str]:
    """What is planned by kind, or without a plan what the largest findings ask for."""
    if planned:
        kinds = by_kind((counted_as(each.change) for each in planned), figures)
        return [f"{each}." for each in kinds]
    return [f"{block.title}: {block.to_do}." for block in blocks[:_MOST_STEPS]]


def brings(strip: PlanStrip) -> list[str]:
    """What the plan should bring."""
    if not strip.count:
        return ["No changes are planned yet."]
    sentences = [f"Per 30 days: {strip.spend} spend and {strip.sales} sales (80 % range)."]
    if strip.acos:
        sentences.append(f"ACOS: {strip.acos}.")
    if strip.unknown:
        one = strip.unknown == 1
        sentences.append(f"The effect of {strip.unknown} {'change' if one else 'changes'} is unknown.")
    return sentences


def page_foot(ask: Context) -> str:
    """What stands at the foot of every printed page, whose audit it is, as a style sheet."""
    text = f"{ask.account.brand}, {ask.account.country} · {ask.figures.days(ask.scope.window)}"
    escaped = "".join(f"\\{ord(sign):06x} " if not sign.isalnum() and sign != " " else sign for sign in text)
    return f'@page {{ @bottom-left {{ content: "{escaped}"; font: 9px sans-serif; color: #4c636b; }} }}'
