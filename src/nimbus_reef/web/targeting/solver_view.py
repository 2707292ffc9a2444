"""The target solver: what a target takes, and what another price of a click does to the part that is looked at."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis import solver as start
from nimbus_reef.analysis.solver import Quartiles, SolverData
from nimbus_reef.analysis.wording import response_words
from nimbus_reef.core import solver
from nimbus_reef.core.bids import BidMove, Pace
from nimbus_reef.core.solver import Figure
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.typed import number
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.targeting.price_chart import Chart, chart

OF_ADS: Final = "ads"
OF_VISITS: Final = "visits"
_TYPED: Final = (Figure.PRICE, Figure.CONVERSION, Figure.ORDER)
_IN_PERCENT: Final = (Figure.ACOS, Figure.CONVERSION)
_LABELS: Final = {
    Figure.ACOS: "ACOS",
    Figure.PRICE: "CPC",
    Figure.CONVERSION: "conversion",
    Figure.ORDER: "order value",
}
_DOUBLE: Final = math.log(2)
_HALF_WIDTH: Final = 44.0


@dataclass(frozen=True, slots=True)
class SolverLine:
    """
    One of the four figures. own: as the scope has it; typed: as somebody typed it; misfit: that is not from this scope;
    name: of the field its fixed value is typed into. arrow: from now to needed on a log line, 0 in its middle, a double
    at its end; ticks: the peers' quartiles there. note: what stands under it.
    """

    figure: Figure
    label: str
    own: str
    typed: str
    misfit: bool
    needed: str
    fixed: bool
    name: str
    arrow: float | None
    ticks: Sequence[float]
    note: str


@dataclass(frozen=True, slots=True)
class Notice:
    """What has to be known, and the ways out of it."""

    bold: str
    rest: str
    ways: Sequence[tuple[str, str]] = ()
    wrong: bool = False


@dataclass(frozen=True, slots=True)
class SolverView:
    """
    The solver above its table. chart: None where the scope has no sales; tries: targets that may be tried, each with
    its address and whether it is in force; visits: the two conversions to choose from; rows: what the listed targets
    are; moves: how many of their bids move, empty for none.
    """

    answer: Answer
    lines: Sequence[SolverLine]
    chart: Chart | None
    notices: Sequence[Notice]
    tries: Sequence[tuple[str, str, bool]]
    visits: Sequence[tuple[str, str, bool]]
    alike: str
    fine: str
    rows: Answer
    moves: str


def page(ask: Context, rows: pl.DataFrame, every: int) -> SolverView:
    """The view. rows: the listed targets with the advice on their bids; every: how many there are in all."""
    data = start.data(ask.facts, ask.selection)
    figures, scope = ask.figures, ask.scope
    listed = _listed(ask, rows, every)
    notices = _about_scope(ask, data)
    if not data.now.solvable or not data.now.orders:
        answer = Answer("No sales in this scope.", "A target can be solved for where ads sold something.")
        return SolverView(answer, (), None, notices, (), (), "", "", *listed)
    own = {figure: float(value or 0) for figure, value in data.now.figures.items()}
    of = scope.choice("visits", (OF_ADS, OF_VISITS))
    if of == OF_VISITS and data.of_visits:
        own[Figure.CONVERSION] = data.of_visits
    typed = _typed(ask)
    misfits = solver.misfits(own, typed)
    used = own | {
        figure: value for figure, value in typed.items() if figure not in misfits or scope.own_value("anyway")
    }
    fixed = Figure(scope.choice("fixed", [each.value for each in Figure]))
    value = scope.target_acos if fixed is Figure.ACOS else _value(ask, "at", fixed) or used[fixed]
    needed = solver.solved(used, scope.target_acos, fixed, value)
    factor = value / own[Figure.PRICE] if fixed is Figure.PRICE else solver.factor_for(data.now, scope.target_acos)
    return SolverView(
        _answer(ask, data, factor),
        [_line(ask, data, figure, own, typed, misfits, needed, fixed) for figure in Figure],
        chart(data.now, data.response, _marks(data, factor), data.peers.get(Figure.PRICE), figures),
        [*_not_from_here(ask, own, typed, misfits), *notices],
        _tries(ask, data),
        _conversions(ask, data, of),
        _alike(used, scope.target_acos, figures),
        f"{figures.counted(data.now.clicks, 'click')} in 30 days; {response_words(data.response, figures)}.",
        *listed,
    )


def _written(figure: Figure, value: float, figures: Figures) -> str:
    """A figure as it stands in a field."""
    return (
        figures.percent(value, 2 if figure is Figure.CONVERSION else 1)
        if figure in _IN_PERCENT
        else figures.number(value)
    )


def _said(figure: Figure, value: float, figures: Figures) -> str:
    """A figure in a sentence."""
    return (
        figures.rate(value, 2 if figure is Figure.CONVERSION else 1)
        if figure in _IN_PERCENT
        else figures.money(value, 2)
    )


def _value(ask: Context, name: str, figure: Figure) -> float | None:
    """What was typed for a figure; None for nothing; BadInput for what it cannot be."""
    text = ask.scope.own_value(name)
    if not text:
        return None
    found = number(text, ask.account.locale)
    if found is None or not 0 < found < 1_000_000:
        raise BadInput(f"“{text}” is not a {_LABELS[figure]}.", remedy="Enter a number above 0, such as 0.84.")
    return float(found) / (100 if figure in _IN_PERCENT else 1)


def _typed(ask: Context) -> dict[Figure, float]:
    entries = {figure: _value(ask, figure.value, figure) for figure in _TYPED}
    return {figure: value for figure, value in entries.items() if value is not None}


def _marks(data: SolverData, factor: float) -> list[tuple[str, float]]:
    peak = solver.peak(data.now, data.response)
    marks = [("now", 1.0), ("target", factor)]
    return [*marks, ("peak", solver.factor_for(data.now, peak))] if peak else marks


def _answer(ask: Context, data: SolverData, factor: float) -> Answer:
    figures, now = ask.figures, data.now
    price = now.price
    bold = (
        f"At {figures.aim(now.acos * factor)} a click of {_scope_words(ask)} may cost"
        f" {figures.money(price * factor, 2)}. You pay {figures.money(price, 2)}."
    )
    ends = solver.between(now, factor, data.response)
    today = solver.at_price(now, 1.0, data.response)
    moved = [("sales", sorted(each.sales - today.sales for each in ends))]
    if today.profit is not None:
        moved.append(("profit", sorted((each.profit or 0) - today.profit for each in ends)))
    rest = f"At {figures.number(price * factor)}, per 30 days: " + ", ".join(
        f"{name} {figures.change(low)} to {figures.change(high)}" for name, (low, high) in moved
    )
    peak = solver.peak(now, data.response)
    best = f" Profit peaks at {figures.money(price * solver.factor_for(now, peak), 2)}." if peak else ""
    return Answer(bold, f"{rest}.{best}")


def _scope_words(ask: Context) -> str:
    words = ask.scope.part_words
    return "this account" if words == "whole account" else words


def _line(
    ask: Context,
    data: SolverData,
    figure: Figure,
    own: Mapping[Figure, float],
    typed: Mapping[Figure, float],
    misfits: Sequence[Figure],
    needed: Mapping[Figure, float],
    fixed: Figure,
) -> SolverLine:
    figures, peers = ask.figures, data.peers.get(figure)
    unit = "%" if figure in _IN_PERCENT else figures.symbol
    return SolverLine(
        figure,
        f"{_LABELS[figure]} {unit}",
        _written(figure, own[figure], figures),
        ask.scope.own_value(figure.value) if figure in typed else "",
        figure in misfits,
        _written(figure, needed[figure], figures),
        figure is fixed,
        "target_acos" if figure is Figure.ACOS else "at",
        None if figure is fixed else _along(needed[figure] / own[figure]),
        [_along(each / own[figure]) for each in peers] if peers else (),
        _under(data, figure, peers, figures),
    )


def _along(ratio: float) -> float:
    """Where a multiple of today's figure stands on its line, today's in the middle."""
    return round(max(-1.0, min(1.0, math.log(ratio) / _DOUBLE)) * _HALF_WIDTH, 1)


def _under(data: SolverData, figure: Figure, peers: Quartiles | None, figures: Figures) -> str:
    if figure is Figure.ACOS and data.now.margin is not None:
        return f"break-even {figures.rate(data.now.margin, 0)}"
    return f"peers’ median {_written(figure, peers.median, figures)}" if peers else "no peers"


def _not_from_here(
    ask: Context, own: Mapping[Figure, float], typed: Mapping[Figure, float], misfits: Sequence[Figure]
) -> list[Notice]:
    """Typed figures that the scope's own contradict: nothing is worked out with them unasked."""
    figures, here, found = ask.figures, ask.url("targeting.table", name="targets"), []
    for figure in misfits:
        given, scope_value = (_said(figure, each[figure], figures) for each in (typed, own))
        back = ask.scope.choose(here, **{figure.value: "", "anyway": ""})
        if ask.scope.own_value("anyway"):
            rest = f"The {_LABELS[figure]} here is {scope_value}. The needed figures use {given}."
            ways: list[tuple[str, str]] = [(f"Use {scope_value}", back)]
        else:
            rest = f"The {_LABELS[figure]} here is {scope_value}, and all figures use that."
            ways = [(f"Use {scope_value}", back), (f"Use {given} anyway", ask.scope.choose(here, anyway="yes"))]
        found.append(Notice(f"{given} is not from this scope.", rest, ways, wrong=True))
    return found


def _about_scope(ask: Context, data: SolverData) -> list[Notice]:
    figures, here, found = ask.figures, ask.url("targeting.table", name="targets"), []
    if len(data.formats) > 1:
        ways = [(f"{each} ads only", ask.scope.link(here, formats=(each,), page=1)) for each in data.formats]
        found.append(Notice(f"{len(data.formats)} ad formats together.", "One alone has figures of one kind.", ways))
    if data.left_out:
        found.append(
            Notice(
                f"{figures.counted(len(data.left_out), 'campaign')} left out.",
                f"Out of budget lately, so price is not what limits them: {_named(data.left_out, figures)}.",
            )
        )
    if data.now.sales and data.now.margin is None:
        found.append(
            Notice(
                "No profit.", f"Margins are unknown for {figures.rate(data.unpriced, 0)} of sales. Load the catalog."
            )
        )
    return found


_NAMED: Final = 3


def _named(names: Sequence[str], figures: Figures) -> str:
    more = len(names) - _NAMED
    return ", ".join(names[:_NAMED]) + (f" and {figures.count(more)} more" if more > 0 else "")


def _tries(ask: Context, data: SolverData) -> list[tuple[str, str, bool]]:
    figures, scope = ask.figures, ask.scope
    here, peak = ask.url("targeting.table", name="targets"), solver.peak(data.now, data.response)
    entries = [("target in force", "", ask.account.target_acos), ("now", None, data.now.acos)]
    entries += [("most profit", None, peak)] if peak else []
    found = []
    for words, text, acos in entries:
        asked = figures.percent(acos) if text is None else text
        link = scope.link(here, target_acos_text=asked, own=_without(scope.own, "fixed", "at"), page=1)
        found.append((f"{words} {figures.rate(acos)}", link, scope.target_acos_text == asked))
    return found


def _without(own: tuple[tuple[str, str], ...], *names: str) -> tuple[tuple[str, str], ...]:
    return tuple((name, value) for name, value in own if name not in names)


def _conversions(ask: Context, data: SolverData, of: str) -> list[tuple[str, str, bool]]:
    """Conversion of ads, or of all visits."""
    if data.of_visits is None:
        return []
    here, figures = ask.url("targeting.table", name="targets"), ask.figures
    entries = ((OF_ADS, "of ads", data.now.figures[Figure.CONVERSION]), (OF_VISITS, "of all visits", data.of_visits))
    return [
        (f"{words} {figures.rate(value, 2)}", ask.scope.choose(here, visits="" if key == OF_ADS else key), key == of)
        for key, words, value in entries
    ]


def _alike(used: Mapping[Figure, float], target: float, figures: Figures) -> str:
    conversion, price = solver.equal_effort(used, target)
    return f"Or both alike: conversion {figures.rate(conversion, 2)}, CPC {figures.money(price, 2)}."


_WAY: Final = {Pace.HALF: "half of the way", Pace.AT_ONCE: "all of the way", Pace.STEPS: "by your steps"}


def _listed(ask: Context, rows: pl.DataFrame, every: int) -> tuple[Answer, str]:
    """What the listed targets are, what their proposed bids would do, and how many those are."""
    figures, rows = ask.figures, rows.select("move", "more_clicks", "more_sales", "more_spend", "cpc", "may_cost")
    moving = rows.filter(pl.col("move") != BidMove.NONE.value)
    clicks, sales, spend = (float(moving[name].sum()) for name in ("more_clicks", "more_sales", "more_spend"))
    bold = f"{figures.counted(len(rows), 'target')} of {figures.count(every)} listed."
    dear = rows.filter(pl.col("cpc") > pl.col("may_cost"))
    if len(dear) == len(rows):
        bold = (
            f"{figures.count(len(rows))} of {figures.counted(every, 'target')}"
            f" {'costs' if len(rows) == 1 else 'cost'} more than a click may at {figures.aim(ask.scope.target_acos)}."
        )
    if moving.is_empty():
        return Answer(bold, "No bid of theirs moves."), ""
    way = _WAY[ask.account.settings.bid_rule.pace]
    rest = (
        f"{figures.counted(len(moving), 'bid')} moved {way}: {figures.signed(clicks)} clicks, {figures.change(sales)}"
        f" sales, {figures.change(spend)} spend per 30 days."
    )
    return Answer(bold, rest), figures.counted(len(moving), "bid")
