"""The view of findings that were done by hand or kept on purpose."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.outcome import by_hand
from nimbus_reef.analysis.tables import Field, by_key, choice
from nimbus_reef.core.outcome import OutcomeVerdict
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.tables import Head, TableView, head_of, table_of
from nimbus_reef.web.outcome import wording

NAME: Final = "by-hand"


@dataclass(frozen=True, slots=True)
class HandLine:
    """A finding that was done by hand or kept on purpose. figures: before → since of clicks, CVR, ACOS."""

    key: str
    name: str
    finding: str
    kind: str
    note: str
    by: str
    figures: tuple[str, ...]
    mark: str
    verdict: str
    under: str


@dataclass(frozen=True, slots=True)
class HandView:
    """The view: its answer and the table."""

    answer: Answer
    table: TableView


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What its rows are filtered and sorted by."""
    return by_key(
        Field("what", "what", pl.col("what"), text=True),
        choice("finding", "finding", pl.col("finding"), rows),
        Field("kind", "kind", pl.col("kind"), options=(by_hand.DONE_KIND, by_hand.KEPT_KIND)),
        Field("verdict", "verdict", pl.col("verdict"), options=tuple(each.value for each in OutcomeVerdict)),
        choice("by", "by", pl.col("by"), rows),
        Field("since", "since", pl.col("since"), day=True),
        Field("look_again", "look again", pl.col("look_again"), day=True),
    )


LIST: Final = ListSpec(
    lambda ask: by_hand.rows(ask.facts, ask.selection),
    fields,
    ("what", "finding", "note", "by"),
    "-since",
    lambda _, rows: by_hand.table(rows),
)


def page(ask: Context) -> HandView:
    """The view."""
    figures, of = ask.figures, listed(ask, LIST)
    heads = (
        head_of(of.fields["what"], of.found.sort, figures, css="first", rises=True),
        Head("note", css="words"),
        *(Head(name, "In the 28 days before → since then") for name in ("clicks", "CVR %", "ACOS %")),
        *(head_of(of.fields[name], of.found.sort, figures, css="words") for name in ("since", "verdict")),
    )
    table = table_of(
        ask,
        of,
        [_line(row, figures) for row in of.found.shown.to_dicts()],
        heads,
        here=ask.url("outcome.view", name=NAME),
        name="by-hand",
        things="findings",
        empty="Nothing was done by hand or kept on purpose yet." if of.rows.is_empty() else "No findings match.",
    )
    return HandView(_answer(of.rows, figures), table)


def _answer(rows: pl.DataFrame, figures: Figures) -> Answer:
    if rows.is_empty():
        return Answer(
            "Nothing was done by hand or kept on purpose yet.",
            "Mark a finding as done, or snooze it until a day: how it goes since is shown here.",
        )
    done = int((rows["kind"] == by_hand.DONE_KIND).sum())
    helped = int((rows["verdict"] == OutcomeVerdict.KEPT.value).sum())
    return Answer(
        f"{figures.counted(done, 'finding')} done by hand, {figures.count(len(rows) - done)} kept on purpose.",
        f"{figures.count(helped)} helped. Figures: 28 days before → since. They say whether to look again.",
    )


def _line(row: Mapping[str, Any], figures: Figures) -> HandLine:
    until = figures.day(row["until"]) if row["until"] else ""
    again = f"look again {figures.day(row['look_again'])}" if row["look_again"] else ""
    verdict, under = wording.verdict_words(row["verdict"], None, until)
    if row["verdict"] == OutcomeVerdict.NONE.value:
        verdict, under = by_hand.KEPT_KIND, ""

    def moved(name: str, write: Any) -> str:
        before, after = (row[f"{name}_{side}"] for side in ("before", "after"))
        texts = ["–" if value is None else write(value) for value in (before, after)]
        return " → ".join(texts)

    return HandLine(
        row["row_id"],
        row["what"],
        row["finding"],
        row["kind"],
        row["note"],
        f"{row['by']}, {figures.day(row['since'])}" if row["by"] else figures.day(row["since"]),
        (
            moved("clicks", lambda value: figures.count(round(value))),
            moved("cvr", lambda value: figures.percent(value)),
            moved("acos", lambda value: figures.percent(value)),
        ),
        wording.MARKS[row["verdict"]],
        verdict,
        " · ".join(filter(None, (under, again))),
    )
