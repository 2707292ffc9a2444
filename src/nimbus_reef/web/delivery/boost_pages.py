"""Boosts as their page shows them: what a click can cost at most, hour by hour, with a boost that is tried."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Final

from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis import out_of_budget
from nimbus_reef.analysis.acceptance import InPlan, in_plan
from nimbus_reef.analysis.delivery import boosts, budgets, hours, plan_prices
from nimbus_reef.analysis.delivery.boosts import Boosted
from nimbus_reef.analysis.wording import DAYS, REMEDY, WEEKDAYS, boost_days, rise_words, weekday_words
from nimbus_reef.core import boosts as rules
from nimbus_reef.core.boosts import BID, BUDGET, Boost
from nimbus_reef.core.click_prices import ADJUSTABLE
from nimbus_reef.core.model import PLACEMENTS, Bidding
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.reading import delivery_frames
from nimbus_reef.web.delivery.forms import BoostForm
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.axes import round_steps
from nimbus_reef.web.kit.context import Context

_WIDE, _TALL = 800.0, 150.0
_TONES: Final = ("first", "second", "third")


@dataclass(frozen=True, slots=True)
class Steps:
    """The highest bid in one placement as steps over the day; label and where it stands at the right."""

    path: str
    label: str
    y: float
    tone: str


@dataclass(frozen=True, slots=True)
class BoostBracket:
    """A boost under the axis."""

    x: float
    width: float
    name: str
    tried: bool


@dataclass(frozen=True, slots=True)
class Drawn:
    """The picture: steps, brackets, ticks of both axes, the highest of all."""

    steps: tuple[Steps, ...]
    brackets: tuple[BoostBracket, ...]
    y_ticks: tuple[tuple[float, str], ...]
    width: float
    height: float
    highest: float


def drawn(boosted: Boosted, tried: Boost | None, weekday: int, figures: Figures) -> Drawn:
    """
    What a click can cost at most on a weekday, or what the budget is raised to where a boost of that is tried; what the
    marketplace may add by itself drawn apart, where it may.
    """
    what = BUDGET if tried is not None and tried.what == BUDGET else BID
    with_it = boosted.with_boost(tried)
    lines: list[tuple[str, Sequence[float], str]]
    if what == BUDGET:
        lines = [("daily budget", with_it.highest_budgets(weekday), _TONES[0])]
    else:
        plain = with_it.highest_bids(weekday, raised=False)
        lines = [(PLACEMENTS[place.value], plain[place], tone) for place, tone in zip(ADJUSTABLE, _TONES, strict=True)]
        if boosted.then.bidding == Bidding.UP_AND_DOWN.value and boosted.then.raising:
            first = ADJUSTABLE[0]
            raised = with_it.highest_bids(weekday, raised=True)[first]
            lines.append((f"{PLACEMENTS[first.value]}, raised by dynamic bidding", raised, "loss"))
    highest = max((max(values) for _, values, _ in lines), default=0.0)
    top = highest * 1.12 or 1.0

    def y(value: float) -> float:
        return round(_TALL * (1 - value / top), 1)

    def path(values: Sequence[float]) -> str:
        step = _WIDE / rules.HOURS
        points = [f"M0 {y(values[0])}"]
        for hour, value in enumerate(values):
            points.append(f"V{y(value)} H{round(step * (hour + 1), 1)}")
        return " ".join(points)

    steps = [Steps(path(values), name, y(values[-1]), tone) for name, values, tone in lines]
    brackets = [
        BoostBracket(
            round(_WIDE * each.from_hour / rules.HOURS, 1),
            round(_WIDE * (each.to_hour - each.from_hour) / rules.HOURS, 1),
            f"{named} +{figures.count(each.percent)} %",
            each is tried,
        )
        for each, named in (
            *((each, each.name) for each in boosted.in_force),
            *((each, "planned") for each in boosted.planned),
            *([(tried, "tried")] if tried is not None else []),
        )
        if each.what == what and (weekday in (each.weekdays or rules.WEEK))
    ]
    ticks = tuple((y(value), figures.number(value)) for value in round_steps(top))
    return Drawn(_apart(steps), tuple(brackets), ticks, _WIDE, _TALL, highest)


def _apart(steps: Sequence[Steps]) -> tuple[Steps, ...]:
    """Labels at the right kept from lying over one another."""
    placed: list[Steps] = []
    last = -99.0
    for each in sorted(steps, key=lambda one: one.y):
        y = max(each.y, last + 13)
        placed.append(Steps(each.path, each.label, y, each.tone))
        last = y
    return tuple(placed)


def answer(boosted: Boosted, result: Drawn, weekday: int, tried: Boost | None, figures: Figures) -> Answer:
    """The highest price of a click, or of a boost of the budget the highest budget, and what it is made of."""
    what = BUDGET if tried is not None and tried.what == BUDGET else BID
    boosts = [
        each
        for each in (*boosted.in_force, *boosted.planned, *([tried] if tried else []))
        if each.what == what and weekday in (each.weekdays or rules.WEEK)
    ]
    added = (
        f"{figures.counted(len(boosts), 'boost')} of {', '.join(f'{each.percent:.0f} %' for each in boosts)};"
        " boosts at the same time add up"
    )
    if what == BUDGET:
        if boosted.budget is None:
            return Answer(
                "The budget of this campaign is unknown.", "Load the campaigns report to see how far it can rise."
            )
        return Answer(
            f"The budget of {boosted.campaign} can rise to {figures.money(result.highest, 2)} on {WEEKDAYS[weekday]}.",
            f"{figures.money(boosted.budget, 2)} a day, {added}. Bids stay unchanged.",
        )
    if boosted.bid is None:
        return Answer(
            "No target of this campaign has a known bid.", "Load the targets report to see how much a click can cost."
        )
    parts = [f"Bid {figures.money(boosted.bid, 2)}"]
    adjustment = max(boosted.then.adjustments.values(), default=0.0)
    if adjustment:
        parts.append(f"placement adjustment {figures.rate(adjustment, 0)}")
    if boosts:
        parts.append(added)
    dynamic = " Dynamic bidding can raise it further." if boosted.then.bidding == Bidding.UP_AND_DOWN.value else ""
    together = " Adjustments and boosts are added, not multiplied." if adjustment and boosts else ""
    plan = " Planned changes are included." if boosted.planned else ""
    return Answer(
        f"A click of {boosted.campaign} can cost up to {figures.money(result.highest, 2)} on {WEEKDAYS[weekday]}.",
        f"{', '.join(parts)}.{together}{dynamic}{plan}",
    )


@dataclass(frozen=True, slots=True)
class BoostLine:
    """A boost in force."""

    name: str
    what: str
    percent: str
    when: str
    hours: str


def boost_lines(boosted: Boosted, figures: Figures) -> list[BoostLine]:
    """Boosts of a campaign, in force and planned."""
    named = [*((each.name, each) for each in boosted.in_force), *(("in the plan", each) for each in boosted.planned)]
    return [
        BoostLine(
            name, each.what, f"+{figures.count(each.percent)} %", when(each), f"{each.from_hour}–{each.to_hour} h"
        )
        for name, each in named
    ]


def day_choices(chosen: str) -> dict[str, str]:
    """The weekdays that are offered, and those that are chosen where they are others."""
    weekdays = [int(day) for day in chosen.split() if day in "1234567"]
    return DAYS if chosen in DAYS else {**DAYS, chosen: weekday_words(weekdays)}


def when(boost: Boost) -> str:
    """On which days, in words."""
    first, last = (each.isoformat() if each else "" for each in (boost.first, boost.last))
    return boost_days(boost.weekdays, first, last, boost.condition)


def lowered(percent: float, boosted: Boosted, boost: Boost, figures: Figures) -> str:
    """What can be done in place of a boost below nothing."""
    if boosted.bid is None:
        return ""
    base, back = rules.lower_base(percent, boosted.bid)
    hours = f"{boost.to_hour}–{boost.from_hour} h" if (boost.from_hour, boost.to_hour) != (0, 24) else "no hour"
    return (
        f"Boosts only raise. Lower the base bid to {figures.money(base, 2)} instead and boost {hours} by"
        f" {figures.count(back)} %, so that the other hours stay unchanged."
    )


GIVEN: Final = ("what", "percent", "days", "from_hour", "to_hour", "first", "last", "event", "condition")
"""What the form of a boost asks for."""


@dataclass(frozen=True, slots=True)
class BoostsView:
    """
    What a campaign's bids and budget can come to with boosts; boosted: None where no campaign has figures. tried: the
    boost that is typed; problem, instead: why it cannot be, and what can; dearer: what it would make cost more.
    """

    campaigns: list[str]
    boosted: Boosted | None = None
    answer: Answer | None = None
    drawing: Drawn | None = None
    weekday: int = 1
    weekdays: Mapping[int, str] = field(default_factory=lambda: WEEKDAYS)
    in_force: Any = ()
    days: Mapping[str, str] = field(default_factory=dict)
    events: Sequence[tuple[str, str]] = ()
    given: Mapping[str, str] = field(default_factory=dict)
    tried: Boost | None = None
    tried_words: str = ""
    problem: str = ""
    instead: str = ""
    planned: InPlan = InPlan([], 0)  # noqa: RUF009  # frozen
    dearer: str = ""
    segments: Any = ()
    example: str = ""


def boost_form(given: Mapping[str, str], locale: str) -> BoostForm:
    """The form as sent; a sale event stands for its days."""
    values = dict(given)
    if event := values.pop("event", ""):
        first, _, last = event.partition("..")
        values |= {"first": first, "last": last}
    return BoostForm(MultiDict({name: value for name, value in values.items() if value}), locale)


def page(ask: Context) -> BoostsView:
    """The view."""
    facts, selection, figures, scope = ask.facts, ask.selection, ask.figures, ask.scope
    rows, planned = budgets.campaign_rows(facts, selection), ask.planned()
    offered = rows["campaign"].sort().to_list()
    busiest = rows.sort("spend", descending=True)["campaign"].head(1).to_list()
    chosen = scope.own_value("whose") or next(iter(busiest), "")
    if not chosen:
        return BoostsView(offered)
    changes = [each.change for each in planned]
    boosted = boosts.boosted(facts, selection, chosen, changes)
    given = {name: scope.own_value(name) for name in GIVEN}
    tried, problem, instead = _tried(ask, boosted, given)
    usual = tried.weekdays[0] if tried and tried.weekdays else 1
    weekday = int(scope.choice("weekday", (str(usual), *(str(day) for day in WEEKDAYS))))
    proposal = boosts.proposal(selection, chosen, tried) if tried else None
    there = in_plan(planned, proposal) if proposal else InPlan([], 0)
    # What is in the plan already is drawn as part of it, not once more.
    shown = tried if there.left else None
    acceptance = plan_prices.accepted(facts, selection, changes, [proposal.changes]) if proposal and shown else None
    result = drawn(boosted, shown, weekday, figures)
    hours_held = facts.held_days(ask.account.id, out_of_budget.KIND, scope.window)
    return BoostsView(
        offered,
        boosted,
        answer(boosted, result, weekday, shown, figures),
        result,
        weekday,
        WEEKDAYS,
        boost_lines(boosted, figures),
        day_choices(given["days"]),
        [
            (f"{first}..{last}", f"{name}, {first} to {last}")
            for name, first, last, *_ in delivery_frames.events(facts, ask.account.id).rows()
        ],
        given,
        tried,
        (f"{tried.what} +{tried.percent:.0f} %, {when(tried)}, {tried.from_hour}–{tried.to_hour} h" if tried else ""),
        problem,
        instead,
        there,
        f"{rise_words(acceptance.refused[0], figures)}. {REMEDY}" if acceptance and acceptance.refused else "",
        hours.found_segments(facts, selection) if hours_held else (),
        f"ROAS >= {figures.number(1 / selection.aims.account, 1)}",
    )


def _tried(ask: Context, boosted: Boosted, given: Mapping[str, str]) -> tuple[Boost | None, str, str]:
    """The boost that is typed, or why it cannot be and what can be done in its place."""
    if not given["percent"]:
        return None, "", ""
    form = boost_form({**given, "whose": boosted.campaign}, ask.account.locale).checked()
    boost = form.boost
    if not form.problem:
        return boost, "", ""
    instead = lowered(boost.percent, boosted, boost, ask.figures) if -99 < boost.percent < 0 else ""
    return None, f"A boost {form.problem}.", instead


def to_plan(ask: Context, given: Mapping[str, str]) -> Proposal:
    """A boost as it is put into the plan; BadInput for what a marketplace cannot do."""
    form = boost_form(given, ask.account.locale).checked()
    if form.problem:
        raise BadInput(f"A boost {form.problem}.", remedy="Change it and check the highest bid again.")
    boost = form.boost
    boosted = boosts.boosted(ask.facts, ask.selection, form.whose.data or "", ask.planned_changes())
    result = drawn(boosted, boost, (boost.weekdays or (1,))[0], ask.figures)
    return boosts.proposal(ask.selection, boosted.campaign, boost, result.highest)
