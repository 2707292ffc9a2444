"""The pulse of one account in a line: money, how it moved, what to do next."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.analysis.pulse import Beat
from nimbus_reef.analysis.wording import lost_words
from nimbus_reef.core.model import from_micro
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS

WIDTH: Final = 150
HEIGHT: Final = 34
STALE_DAYS: Final = 7


@dataclass(frozen=True, slots=True)
class Moved:
    """A change: how it is written, and whether it is good, bad or neither (None)."""

    text: str
    good: bool | None = None


@dataclass(frozen=True, slots=True)
class BeatStep:
    """What to do next, and the area it is done in."""

    words: str
    area: str


@dataclass(frozen=True, slots=True)
class BeatLine:
    """One account. sales_path and spend_path: the mirrored areas, sales up, spend down."""

    key: str
    name: str
    where: str
    sales_path: str
    spend_path: str
    spend: str
    spend_moved: Moved
    sales: str
    sales_moved: Moved
    acos: str
    acos_over: bool
    acos_moved: Moved
    tacos: str
    tacos_moved: Moved
    stake: str | None
    loaded: str
    source: str
    step: BeatStep
    has_figures: bool = False
    one_sum: bool = False
    lost: str = ""


def line(beat: Beat, today: date) -> BeatLine:
    """One account, ready to show."""
    account, now, then = beat.account, beat.now, beat.then
    figures = Figures(account.locale, account.currency)
    sales_path, spend_path = areas(beat.days, WIDTH, HEIGHT)
    acos = now.acos if now else None
    return BeatLine(
        key=account.key,
        name=f"{account.brand}, {account.country}",
        where=f"{account.marketplace} · {account.currency}"
        + (f" · {figures.days(beat.window)}" if beat.window else "")
        + (f" · without the total of {figures.days(beat.cut[0])}" if beat.cut else ""),
        sales_path=sales_path,
        spend_path=spend_path,
        spend=figures.micro(now.spend) if now else figures.micro(None),
        spend_moved=_relative(beat.moved("spend"), figures, None),
        sales=figures.micro(now.sales) if now else figures.micro(None),
        sales_moved=_relative(beat.moved("sales"), figures, more_is_good=True),
        acos=figures.rate(acos),
        acos_over=acos is not None and acos > account.target_acos,
        acos_moved=_points(acos, then.acos if then else None, figures),
        tacos=figures.rate(now.tacos if now else None),
        tacos_moved=_points(now.tacos if now else None, then.tacos if then else None, figures),
        stake=None if beat.overspend is None else figures.micro(beat.overspend),
        loaded=str(beat.loaded_at) if beat.loaded_at else "never",
        source=KINDS[beat.source].title if beat.source else "",
        step=next_step(beat, today),
        has_figures=now is not None,
        one_sum=beat.days is not None and len(beat.days) > 0 and not sales_path,
        lost=_lost(beat, figures),
    )


def _lost(beat: Beat, figures: Figures) -> str:
    """The pages that lost something and their ad spend; empty without any."""
    if beat.lost is None or beat.lost.is_empty():
        return ""
    first = beat.lost.row(0, named=True)
    several = len(beat.lost) > 1
    others = f", and {figures.counted(len(beat.lost) - 1, 'page')} more" if several else ""
    spent = figures.micro(int(beat.lost["spent"].sum()))
    return (
        f"{first['name']} lost content since {figures.day(first['since'])}: {lost_words(first['lost'])}{others}. "
        f"{spent} of ad spend per 30 days goes to {'these pages' if several else 'this page'}."
    )


def _relative(change: float | None, figures: Figures, more_is_good: bool | None) -> Moved:
    if change is None:
        return Moved("")
    text = figures.relative(change, 0)
    good = None if more_is_good is None or abs(change) < 0.005 else (change > 0) is more_is_good
    return Moved(text, good)


def _points(now: float | None, then: float | None, figures: Figures) -> Moved:
    if now is None or then is None:
        return Moved("")
    points = (now - then) * 100
    return Moved(f"{figures.signed(points, 1)} pt", None if abs(points) < 0.05 else points < 0)


def next_step(beat: Beat, today: date) -> BeatStep:
    """The first thing that is missing or waiting, in the order of an audit."""
    if beat.newest is None:
        return BeatStep("load a first report", "intake")
    if beat.trouble:
        return BeatStep("see why reports do not come", "intake")
    age = (today - beat.newest).days
    if age > STALE_DAYS:
        return BeatStep(f"load newer days: the newest is {age} days old", "intake")
    if beat.planned:
        return BeatStep(f"send the {beat.planned} planned change{'s' if beat.planned > 1 else ''}", "plan")
    if beat.unread:
        return BeatStep("load targets or search terms of this period", "intake")
    if beat.overspend is None or from_micro(beat.overspend) >= 1:
        return BeatStep("review its findings", "findings")
    return BeatStep("nothing to do", "findings")


def areas(days: pl.DataFrame | None, wide: float, tall: float) -> tuple[str, str]:
    """Two SVG areas on one scale: sales above the middle line, spend below it; empty without days."""
    if days is None or len(days) < 2 or (days["first_day"] < days["day"]).any():
        return "", ""
    sales, spend = days["sales"].to_list(), days["spend"].to_list()
    top, bottom = max(1, *sales), max(1, *spend)
    unit = tall / (top + bottom)
    middle, step = unit * top, wide / (len(sales) - 1)

    def area(values: Sequence[int], sign: int) -> str:
        points = [f"{n * step:.1f},{middle - sign * unit * value:.1f}" for n, value in enumerate(values)]
        return f"M0,{middle:.1f} L{' L'.join(points)} L{wide},{middle:.1f} Z"

    return area(sales, 1), area(spend, -1)
