"""What Changes says: the days, each change with what it stands at, and what setting back does."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any

import polars as pl

from nimbus_reef.analysis import made_changes
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.tables import PAGE_ROWS, page_of
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.tables import Head, TableView


@dataclass(frozen=True, slots=True)
class ChangeLine:
    """One change. can: it can be set back; moved: it was changed again since."""

    key: str
    name: str
    where: str
    day: str
    field: str
    step: str
    tone: str
    now: str
    by: str
    spend: str
    can: bool


@dataclass(frozen=True, slots=True)
class DayLine:
    """A day with its changes."""

    day: str
    key: str
    words: str


def days(rows: pl.DataFrame, figures: Figures) -> list[DayLine]:
    """The days with changes, newest first."""
    return [
        DayLine(
            figures.day(row["day"]),
            row["day"].isoformat(),
            f"{figures.count(row['changes'])}: {figures.counted(row['raises'], 'raise')},"
            f" {figures.counted(row['cuts'], 'cut')}",
        )
        for row in rows.to_dicts()
    ]


def lines(rows: pl.DataFrame, figures: Figures) -> list[ChangeLine]:
    """Changes as rows."""
    return [_line(row, figures) for row in rows.to_dicts()]


def _line(row: Mapping[str, Any], figures: Figures) -> ChangeLine:
    money = row["field"] in ("bid", "daily_budget")
    old, new, now = (_value(row[key], figures, money=money) for key in ("old", "new", "now"))
    step = "" if row["step"] is None else f" {figures.signed(row['step'] * 100, 0)} %"
    name = row["target"] or row["ad_group"] or row["campaign"] or "–"
    where = " · ".join(part for part in (row["match_type"], row["campaign"], row["ad_group"]) if part and part != name)
    return ChangeLine(
        row["row_id"],
        name,
        where,
        figures.day(row["day"]),
        row["field"].replace("_", " "),
        f"{old} → {new}{step}",
        "" if row["step"] is None else "loss" if row["step"] > 0 else "gain",
        now if now != new else "as changed",
        row["by"] or "–",
        figures.count(from_micro(row["spend"])),
        row["can"],
    )


def _value(text: str | None, figures: Figures, *, money: bool) -> str:
    if text is None or text == "":
        return "–"
    return figures.number(float(text)) if money else text


def heads(figures: Figures) -> tuple[Head, ...]:
    """Their heads."""
    return (
        Head("changed", css="first"),
        Head("day"),
        Head("what", css="words"),
        Head("old → new", css="words"),
        Head("stands at", "on the window's last day"),
        Head(f"spend {figures.symbol}", "of the target in the window"),
        Head("by", css="words"),
    )


def answer(rows: pl.DataFrame, figures: Figures, day: date | None) -> Answer:
    """What was changed, and when most."""
    if rows.is_empty():
        return Answer("No change is on record here.", "Load the report of changes, or look at other days.")
    raises, cuts = (int((rows["step"] > 0).sum()), int((rows["step"] < 0).sum()))
    bold = (
        f"{figures.counted(len(rows), 'change')}, {figures.counted(raises, 'raise')} and {figures.counted(cuts, 'cut')}"
        " among them."
    )
    if day is not None:
        return Answer(bold, f"All of {figures.day(day)}. Select some, or all (X), and set them back to what they were.")
    most = rows.group_by("day").len().sort(["len", "day"], descending=True).row(0)
    return Answer(
        bold,
        f"Most of them on {figures.day(most[0])}. Choose a day, or select rows and set them back to what they were.",
    )


@dataclass(frozen=True, slots=True)
class ChangesView:
    """What somebody changed. which, day: raises or cuts, and of which day, where they are chosen; whose: a product."""

    answer: Answer
    which: str
    day: str
    days: list[DayLine]
    whose: str
    table: TableView


def page(ask: Context) -> ChangesView:
    """The view."""
    figures = ask.figures
    which, day = _asked(ask)
    every = made_changes.listed(ask.facts, _narrowed(ask), which)
    rows = made_changes.listed(ask.facts, _narrowed(ask), which, day)
    number, of = page_of(len(rows), ask.scope.page)
    shown = rows.slice((number - 1) * PAGE_ROWS, PAGE_ROWS)
    return ChangesView(
        answer(rows, figures, day),
        which,
        day.isoformat() if day else "",
        days(made_changes.by_day(every), figures),
        ask.scope.said("whose"),
        TableView(
            here=ask.url("movement.view", name="changes"),
            name="changes",
            heads=heads(figures),
            groups={"": lines(shown, figures)},
            page=number,
            pages=of,
            opens=False,
            picks=ask.writes,
            empty="Nothing was changed.",
            shown=figures.count(len(rows)),
            of=figures.count(len(rows)),
            things="changes",
        ),
    )


def set_back(ask: Context, keys: Sequence[str] | None) -> list[Proposal]:
    """What sets the changes of some keys back, or all that are shown where none are given; BadInput for none."""
    which, day = _asked(ask)
    rows = made_changes.listed(ask.facts, _narrowed(ask), which, day)
    if keys is not None:
        rows = rows.filter(pl.col("row_id").is_in(list(keys)))
    if rows.is_empty():
        raise BadInput("No change is selected.", remedy="Select some first (x), or all that are shown (X).")
    return made_changes.set_back(ask.facts, ask.look, rows, day)


def _asked(ask: Context) -> tuple[str, date | None]:
    which = ask.scope.choice("which", (made_changes.ALL, made_changes.RAISES, made_changes.CUTS))
    text = ask.scope.said("day")
    try:
        return which, date.fromisoformat(text) if text else None
    except ValueError:
        raise BadInput(f"“{text}” is not a day.", remedy="Choose one of the list.") from None


def _narrowed(ask: Context) -> Look:
    """What is asked about, on this page alone narrowed to the product it was asked for."""
    look = ask.look
    return replace(look, part=replace(look.part, product=ask.scope.said("whose") or look.part.product))
