"""Why ACOS moved: one sentence, one picture, the rows that did it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.movement import REST
from nimbus_reef.analysis.tables import PAGE_ROWS
from nimbus_reef.core import change
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.movers import Ways
from nimbus_reef.web.kit.product import ProductDrawer
from nimbus_reef.web.kit.splits import split_bars, split_words
from nimbus_reef.web.movement import sides

FACTORS: Final = (
    ("cpc", "CPC"),
    ("cvr", "conversion"),
    ("aov", "AOV"),
    ("mix", "mix of sales"),
    ("unsplit", "rate, unsplit"),
    ("entered", "new or gone"),
)


@dataclass(frozen=True, slots=True)
class WhyStep:
    """One step of the picture. x, width: 0 … 100 of its line; kind: end, gain or loss."""

    name: str
    text: str
    x: float
    width: float
    kind: str
    title: str


@dataclass(frozen=True, slots=True)
class WhyLine:
    """One row's parts of the change, in points."""

    key: str
    name: str
    where: str
    sku: str
    pull: str
    part: str
    tone: str
    cells: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class WhyPage:
    """Why ACOS moved: one sentence, one picture, the rows that did it by the factors that moved at all."""

    answer: Answer
    steps: tuple[WhyStep, ...] = ()
    factors: tuple[str, ...] = ()
    lines: tuple[WhyLine, ...] = ()


def why(sides: pl.DataFrame, figures: Figures) -> WhyPage | None:
    """The exact split of the account's ACOS over its rows; None where nothing was sold in a window."""
    split = change.split_acos(sides)
    if split is None:
        return None
    before, after = (float(split[f"spend{when}"].sum()) / float(split[f"sales{when}"].sum()) for when in (0, 1))
    parts = [(words, float(split[name].sum())) for name, words in FACTORS]
    shown = split.sort(pl.col("pull").abs(), descending=True, maintain_order=True)
    moved = [(name, words) for name, words in FACTORS if (split[name] != 0).any()]
    lines = tuple(
        WhyLine(
            row["key"],
            row["name"],
            row["where"] or "",
            row["sku"] or "",
            _points(row["pull"], figures),
            _points(sum(row[name] for name, _ in FACTORS), figures),
            "loss" if row["pull"] > 0 else "gain",
            tuple(_points(row[name], figures) if row[name] else "" for name, _ in moved),
        )
        for row in shown.head(PAGE_ROWS).to_dicts()
    )
    return WhyPage(
        why_words(before, after, parts, shown, figures),
        _steps(before, after, parts, figures),
        tuple(words for _, words in moved),
        lines,
    )


def why_words(
    before: float, after: float, parts: Sequence[tuple[str, float]], by_pull: pl.DataFrame, figures: Figures
) -> Answer:
    """The change in one sentence of parts, and the two rows that pulled most its way."""
    moved = after - before
    if abs(moved) < 0.0005:
        bold = f"ACOS is {figures.rate(after)}, unchanged."
    else:
        bold = (
            f"ACOS {'rose' if moved > 0 else 'fell'} {figures.number(abs(moved) * 100, 1)} points,"
            f" {figures.rate(before)} → {figures.rate(after)}."
        )
    way = 1 if moved >= 0 else -1
    pulled = by_pull.filter((pl.col("pull") * way > 0) & (pl.col("key") != REST))
    most = pulled["name"].head(2).to_list()
    words = split_words(parts, figures)
    ending = f" {' and '.join(most)} did most." if most else ""
    return Answer(bold, f"{words[0].upper()}{words[1:]}.{ending}")


def _points(value: float, figures: Figures) -> str:
    return figures.signed(value * 100, 2)


def _steps(before: float, after: float, parts: Sequence[tuple[str, float]], figures: Figures) -> tuple[WhyStep, ...]:
    """ACOS then, each part where the one before left off, ACOS now: one scale, not from zero."""
    levels, at = [before], before
    for _, value in parts:
        at += value
        levels.append(at)
    low, high = min(*levels, after), max(*levels, after)
    margin = max((high - low) * 0.25, 0.004)
    low, high = max(0.0, low - margin), high + margin

    def place(value: float) -> float:
        return 100 * (value - low) / (high - low)

    steps = [WhyStep("then", figures.rate(before), 0, place(before), "end", "")]
    at = before
    for (name, value), bar in zip(parts, split_bars(parts, figures), strict=True):
        if abs(value) >= 0.00005:
            first, last = sorted((at, at + value))
            steps.append(
                WhyStep(name, bar.text, place(first), place(last) - place(first), "loss" if value > 0 else "gain", "")
            )
        at += value
    steps.append(WhyStep("now", figures.rate(after), 0, place(after), "end", ""))
    return tuple(steps)


def why_export(sides: pl.DataFrame) -> Table | None:
    """Every row's pull and parts as a file, in points of ACOS; None where nothing was sold in a window."""
    split = change.split_acos(sides)
    if split is None:
        return None
    points = [(pl.col(name) * 100).alias(f"{name}_points") for name in ("pull", *dict(FACTORS))]
    rows = split.sort(pl.col("pull").abs(), descending=True, maintain_order=True)
    money = [f"{name}{when}" for name in ("spend", "sales") for when in (0, 1)]
    formats = dict.fromkeys(money, "0.00") | {f"{name}_points": "0.00" for name in ("pull", *dict(FACTORS))}
    return Table("why-acos-moved", rows.select("name", "where", *money, *points), formats)


@dataclass(frozen=True, slots=True)
class WhyView:
    """Why ACOS moved, by the rows of a grouping; why: None where nothing was sold in one of the windows."""

    by: str
    why: WhyPage | None
    drawer: ProductDrawer | None
    ways: Ways


def page(ask: Context) -> WhyView:
    """The view."""
    by = sides.grouping(ask)
    here = ask.url("movement.view", name="why")
    return WhyView(by, kept(ask, by), sides.drawer(ask), sides.ways(ask, by, here))


def kept(ask: Context, by: str) -> WhyPage | None:
    """The same without its frame, kept until something is loaded."""
    key = (sides.compared(ask), by, ask.figures)
    return ask.facts.kept("why", ask.account.id, lambda: why(sides.sides(ask, by), ask.figures), *key)


def file(ask: Context) -> Table | None:
    """The rows that did it as a file; None where there is no change."""
    return why_export(sides.sides(ask, sides.grouping(ask)))
