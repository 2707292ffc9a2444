"""What Changes says: the days, each change with what it stands at, and what setting back does."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import made_changes
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.tables import Field, by_key, choice, yes_or_no
from nimbus_reef.core.model import MICRO, from_micro
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListedRows, ListSpec, chosen, listed
from nimbus_reef.web.kit.tables import Head, TableView, heads_of, table_of


@dataclass(frozen=True, slots=True)
class ChangeLine:
    """One change. can: it can be set back; moved: it was changed again since."""

    key: str
    name: str
    where: str
    day: str
    field: str
    step: str
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
        now if now != new else "as changed",
        row["by"] or "–",
        figures.count(from_micro(row["spend"])),
        row["can"],
    )


def _value(text: str | None, figures: Figures, *, money: bool) -> str:
    if text is None or text == "":
        return "–"
    return figures.number(float(text)) if money else text


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What changes are filtered and sorted by."""
    name = pl.coalesce(*(pl.when(pl.col(each) != "").then(pl.col(each).cast(pl.String)) for each in _NAMED))
    return by_key(
        Field("name", "changed", name, text=True),
        Field("day", "day", pl.col("day"), day=True),
        choice("field", "what", pl.col("field").cast(pl.String).str.replace_all("_", " "), rows),
        Field("step", "old → new", pl.col("step") * 100, "%", "How much it was changed by", digits=0),
        Field("spend", "spend", pl.col("spend") / MICRO, "¤", "Spend of the target in this period", digits=0),
        Field("campaign", "campaign", pl.col("campaign"), text=True),
        choice("by", "by", pl.col("by"), rows),
        yes_or_no("can", "can be undone", pl.col("can")),
    )


_NAMED: Final = ("target", "ad_group", "campaign")


def heads(of: ListedRows, figures: Figures) -> tuple[Head, ...]:
    """Their heads."""
    now = Head("now", "Value on the last day of the period")
    keys = [key for key in ("name", "day", "field", "step", "spend", "by") if key in of.fields]
    shown = {key: replace(of.fields[key], unit="" if key == "step" else of.fields[key].unit) for key in keys}
    found = list(heads_of(shown, of.found.sort, figures, words=("field", "step", "by")))
    if "by" not in keys:
        found.append(Head("by", css="words"))
    if "field" not in keys:
        found.insert(2, Head("what", css="words"))
    return (*found[:4], now, *found[4:])


def answer(rows: pl.DataFrame, figures: Figures, day: date | None) -> Answer:
    """What was changed, and when most."""
    if rows.is_empty():
        return Answer("No changes recorded here.", "Load the report of changes, or choose another period.")
    raises, cuts = (int((rows["step"] > 0).sum()), int((rows["step"] < 0).sum()))
    bold = (
        f"{figures.counted(len(rows), 'change')}: {figures.counted(raises, 'raise')} and {figures.counted(cuts, 'cut')}"
        "."
    )
    if day is not None:
        return Answer(bold, f"All of {figures.day(day)}. Select some, or all (X), and undo them.")
    most = rows.group_by("day").len().sort(["len", "day"], descending=True).row(0)
    return Answer(bold, f"Most of them on {figures.day(most[0])}. Choose a day, or select rows to undo them.")


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
    of = listed(ask, LIST)
    return ChangesView(
        answer(of.found.rows, figures, day),
        which,
        day.isoformat() if day else "",
        days(made_changes.by_day(every), figures),
        ask.scope.own_value("whose"),
        table_of(
            ask,
            of,
            lines(of.found.shown, figures),
            heads(of, figures),
            here=ask.url("movement.view", name="changes"),
            name="changes",
            opens=False,
            picks=ask.writes,
            empty="Nothing was changed." if of.rows.is_empty() else "No changes match.",
            things="changes",
        ),
    )


def set_back(ask: Context, keys: Sequence[str] | None) -> list[Proposal]:
    """What sets the changes of some keys back, or all that are shown where none are given; BadInput for none."""
    return made_changes.set_back(ask.facts, ask.selection, chosen(ask, LIST, keys), _asked(ask)[1])


def _rows(ask: Context) -> pl.DataFrame:
    return made_changes.listed(ask.facts, _narrowed(ask), *_asked(ask))


LIST: Final = ListSpec(
    _rows, fields, ("target", "campaign", "ad_group", "by", "field"), file=lambda _, rows: made_changes.table(rows)
)


def _asked(ask: Context) -> tuple[str, date | None]:
    which = ask.scope.choice("which", (made_changes.ALL, made_changes.RAISES, made_changes.CUTS))
    text = ask.scope.own_value("day")
    try:
        return which, date.fromisoformat(text) if text else None
    except ValueError:
        raise BadInput(f"“{text}” is not a day.", remedy="Choose one from the list.") from None


def _narrowed(ask: Context) -> Selection:
    """What is asked about, on this page alone narrowed to the product it was asked for."""
    selection = ask.selection
    return replace(
        selection, part=replace(selection.part, product=ask.scope.own_value("whose") or selection.part.product)
    )
