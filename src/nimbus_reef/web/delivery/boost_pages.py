"""Boosts as their page shows them: what a click may cost at most, hour by hour, with a boost that is tried."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final

from nimbus_reef.analysis.delivery.boosts import Boosted, when_words
from nimbus_reef.analysis.delivery.files import WEEKDAYS
from nimbus_reef.core import budgets as rules
from nimbus_reef.core.budgets import Boost
from nimbus_reef.core.model import Bidding
from nimbus_reef.core.placements import ADJUSTABLE
from nimbus_reef.web.delivery.placement_pages import NAMES
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.axes import round_steps
from nimbus_reef.web.kit.figures import Figures

_WIDE, _TALL = 800.0, 150.0
_TONES: Final = ("first", "second", "third")
DAYS: Final = {
    "": "every day", "1 2 3 4 5": "Monday to Friday", "6 7": "the weekend", **{str(number): name for number, name in WEEKDAYS.items()},
}  # fmt: skip


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
    """What a click may cost at most on a weekday; dynamic raising drawn apart, where it is on."""
    more = [tried] if tried is not None and tried.what == "bid" else []
    plain = held.highest(more, weekday, raised=False)
    raised = held.highest(more, weekday, raised=True) if held.raising else {}
    highest = max((max(values) for each in (plain, raised) for values in each.values()), default=0.0)
    top = highest * 1.12 or 1.0

    def y(value: float) -> float:
        return round(_TALL * (1 - value / top), 1)

    def path(values: Sequence[float]) -> str:
        step = _WIDE / rules.HOURS
        points = [f"M0 {y(values[0])}"]
        for hour, value in enumerate(values):
            points.append(f"V{y(value)} H{round(step * (hour + 1), 1)}")
        return " ".join(points)

    steps = [
        Steps(path(plain[place]), NAMES[place.value], y(plain[place][-1]), tone)
        for place, tone in zip(ADJUSTABLE, _TONES, strict=True)
    ]
    if raised:
        first = ADJUSTABLE[0]
        steps.append(
            Steps(path(raised[first]), f"{NAMES[first.value]}, raising on", y(raised[first][-1]), "loss")
        )
    brackets = [
        BoostBracket(
            round(_WIDE * each.from_hour / rules.HOURS, 1), round(_WIDE * (each.to_hour - each.from_hour) / rules.HOURS, 1),
            f"{each.name} +{figures.count(each.percent)} %", each is tried,
        )
        for each in (*held.boosts, *more)
        if each.what == "bid" and (weekday in (each.weekdays or range(1, 8)))
    ]  # fmt: skip
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
    """The real highest bid, and what it is made of."""
    if held.bid is None:
        return Answer(
            "No target of this campaign has a known bid.",
            "Load the targets report to see what a click may cost.",
        )
    parts = [f"base {figures.money(held.bid, 2)}"]
    raise_of = max(held.adjustments.values())
    if raise_of:
        parts.append(f"the placement’s raise of {figures.rate(raise_of, 0)}")
    boosts = [each for each in (*held.boosts, *([tried] if tried else [])) if each.what == "bid"]
    if boosts:
        parts.append(
            f"{figures.counted(len(boosts), 'boost')} of {', '.join(f'{each.percent:.0f} %' for each in boosts)}"
        )
    dynamic = (
        " The marketplace may raise it further by itself, and does so last."
        if held.bidding == Bidding.UP_AND_DOWN.value
        else ""
    )
    return Answer(
        f"A click of {held.campaign} may cost up to {figures.money(made.highest, 2)} on {WEEKDAYS[weekday]}.",
        f"{', '.join(parts)}: raises add up, they do not multiply.{dynamic}",
    )


@dataclass(frozen=True, slots=True)
class BoostLine:
    """A boost in force."""

    name: str
    what: str
    percent: str
    when: str
    hours: str


def boost_lines(held: Sequence[Boost], figures: Figures) -> list[BoostLine]:
    """Boosts of a campaign."""
    return [
        BoostLine(
            each.name, each.what, f"+{figures.count(each.percent)} %", when(each, None), f"{each.from_hour}–{each.to_hour} h"
        )
        for each in held
    ]  # fmt: skip


def when(boost: Boost, dates: tuple[date, date] | None) -> str:
    """On which days, in words."""
    days = DAYS.get(" ".join(map(str, boost.weekdays)))
    if days is None:
        days = ", ".join(WEEKDAYS[day] for day in boost.weekdays)
    parts = [days] if boost.weekdays or not dates else []
    if dates:
        parts.append(f"{dates[0]} to {dates[1]}")
    if boost.condition:
        parts.append(f"while {boost.condition}")
    return ", ".join(parts) or when_words(boost, dates)


def lowered(percent: float, held: Boosted, boost: Boost, figures: Figures) -> str:
    """What can be done in place of a boost below nothing."""
    if held.bid is None:
        return ""
    base, back = rules.lower_base(percent, held.bid)
    hours = (
        f"{boost.to_hour}–{boost.from_hour} h" if (boost.from_hour, boost.to_hour) != (0, 24) else "no hour"
    )
    return (
        f"Boosts only raise. Lower the base bid to {figures.money(base, 2)} instead and boost {hours} by {figures.count(back)} %, "
        "so that the other hours stay as they are."
    )
