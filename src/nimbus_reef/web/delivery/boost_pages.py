"""Boosts as their page shows them: what a click can cost at most, hour by hour, with a boost that is tried."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

from nimbus_reef.analysis.delivery.boosts import Boosted
from nimbus_reef.analysis.delivery.files import WEEKDAYS
from nimbus_reef.core import boosts as rules
from nimbus_reef.core.boosts import BID, BUDGET, Boost
from nimbus_reef.core.click_prices import ADJUSTABLE
from nimbus_reef.core.model import Bidding
from nimbus_reef.web.delivery.placement_pages import NAMES
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.axes import round_steps
from nimbus_reef.web.kit.figures import Figures

_WIDE, _TALL = 800.0, 150.0
_TONES: Final = ("first", "second", "third")
DAYS: Final = {
    "": "every day",
    "1 2 3 4 5": "Monday to Friday",
    "6 7": "the weekend",
    **{str(number): name for number, name in WEEKDAYS.items()},
}


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


def drawn(held: Boosted, tried: Boost | None, weekday: int, figures: Figures) -> Drawn:
    """
    What a click can cost at most on a weekday, or what the budget is raised to where a boost of that is tried; what the
    marketplace may add by itself drawn apart, where it may.
    """
    what = BUDGET if tried is not None and tried.what == BUDGET else BID
    with_it = held.with_boost(tried)
    lines: list[tuple[str, Sequence[float], str]]
    if what == BUDGET:
        lines = [("daily budget", with_it.highest_budgets(weekday), _TONES[0])]
    else:
        plain = with_it.highest_bids(weekday, raised=False)
        lines = [(NAMES[place.value], plain[place], tone) for place, tone in zip(ADJUSTABLE, _TONES, strict=True)]
        if held.then.bidding == Bidding.UP_AND_DOWN.value and held.then.raising:
            first = ADJUSTABLE[0]
            raised = with_it.highest_bids(weekday, raised=True)[first]
            lines.append((f"{NAMES[first.value]}, raised by the marketplace", raised, "loss"))
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
            *((each, each.name) for each in held.in_force),
            *((each, "planned") for each in held.planned),
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


def answer(held: Boosted, made: Drawn, weekday: int, tried: Boost | None, figures: Figures) -> Answer:
    """The highest price of a click, or of a boost of the budget the highest budget, and what it is made of."""
    what = BUDGET if tried is not None and tried.what == BUDGET else BID
    boosts = [
        each
        for each in (*held.in_force, *held.planned, *([tried] if tried else []))
        if each.what == what and weekday in (each.weekdays or rules.WEEK)
    ]
    added = (
        f"{figures.counted(len(boosts), 'boost')} of {', '.join(f'{each.percent:.0f} %' for each in boosts)}; those"
        " that hold on the same days and hours add up"
    )
    if what == BUDGET:
        if held.budget is None:
            return Answer(
                "The budget of this campaign is not known.",
                "Load the campaigns report to see what it can be raised to.",
            )
        return Answer(
            f"The budget of {held.campaign} can rise to {figures.money(made.highest, 2)} on {WEEKDAYS[weekday]}.",
            f"{figures.money(held.budget, 2)} a day, {added}. The price of a click stays as it is.",
        )
    if held.bid is None:
        return Answer(
            "No target of this campaign has a known bid.", "Load the targets report to see what a click can cost."
        )
    parts = [f"Bid {figures.money(held.bid, 2)}"]
    adjustment = max(held.then.adjustments.values(), default=0.0)
    if adjustment:
        parts.append(f"placement adjustment {figures.rate(adjustment, 0)}")
    if boosts:
        parts.append(added)
    dynamic = (
        " The marketplace can raise it further by itself, on top of that."
        if held.then.bidding == Bidding.UP_AND_DOWN.value
        else ""
    )
    together = " Adjustments and boosts add up, they do not multiply." if adjustment and boosts else ""
    plan = " The plan is included." if held.planned else ""
    return Answer(
        f"A click of {held.campaign} can cost up to {figures.money(made.highest, 2)} on {WEEKDAYS[weekday]}.",
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


def boost_lines(held: Boosted, figures: Figures) -> list[BoostLine]:
    """Boosts of a campaign, in force and planned."""
    named = [*((each.name, each) for each in held.in_force), *(("in the plan", each) for each in held.planned)]
    return [
        BoostLine(
            name, each.what, f"+{figures.count(each.percent)} %", when(each), f"{each.from_hour}–{each.to_hour} h"
        )
        for name, each in named
    ]


def days_words(weekdays: Sequence[int]) -> str:
    """Weekdays in words."""
    return DAYS.get(" ".join(map(str, weekdays))) or ", ".join(WEEKDAYS[day] for day in weekdays)


def day_choices(chosen: str) -> dict[str, str]:
    """The weekdays that are offered, and those that are chosen where they are others."""
    weekdays = [int(day) for day in chosen.split() if day in "1234567"]
    return DAYS if chosen in DAYS else {**DAYS, chosen: days_words(weekdays)}


def when(boost: Boost) -> str:
    """On which days, in words."""
    days = days_words(boost.weekdays)
    dated = boost.first or boost.last
    parts = [days] if boost.weekdays or not dated else []
    if dated:
        parts.append(f"{boost.first or 'now'} to {boost.last or 'further notice'}")
    if boost.condition:
        parts.append(f"while {boost.condition}")
    return ", ".join(parts)


def lowered(percent: float, held: Boosted, boost: Boost, figures: Figures) -> str:
    """What can be done in place of a boost below nothing."""
    if held.bid is None:
        return ""
    base, back = rules.lower_base(percent, held.bid)
    hours = f"{boost.to_hour}–{boost.from_hour} h" if (boost.from_hour, boost.to_hour) != (0, 24) else "no hour"
    return (
        f"Boosts only raise. Lower the base bid to {figures.money(base, 2)} instead and boost {hours} by"
        f" {figures.count(back)} %, so that the other hours stay as they are."
    )
