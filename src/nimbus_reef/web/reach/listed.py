"""The lists of Reach as pages: an answer, ready filters, and a table whose columns are written once each."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.tables import Listing
from nimbus_reef.core.market_fit import SEEN_WITHIN
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.tables import Head, TableView, head_of, table_of

WIDTH: Final = 78.0
"""Of a line from rank 1 to 40."""
_DEPTHS: Final = (3, 10, 20, int(SEEN_WITHIN))
"""Ranks from which a cell is darker."""
Row = Mapping[str, Any]


def place(rank: float | None) -> float | None:
    """Where a rank stands on the line; None for none or beyond its end."""
    if rank is None or rank > SEEN_WITHIN:
        return None
    return round(1 + (WIDTH - 2) * (rank - 1) / (SEEN_WITHIN - 1), 1)


@dataclass(frozen=True, slots=True)
class RankLine:
    """Rivals as places on a line, and ours, null for beyond; rank: ours in figures."""

    ranks: tuple[float, ...]
    own: float | None
    rank: str


def rank_line(ranks: Sequence[float], own: float | None, said: str) -> RankLine:
    """Ranks of rivals and ours as a line; said: ours in figures."""
    return RankLine(tuple(found for rank in ranks if (found := place(rank)) is not None), place(own), said)


@dataclass(frozen=True, slots=True)
class ListCell:
    """
    What stands in a cell. small: under it; words: it is no figure; bold; title: on focus; ranks: a line instead; share:
    a part of one, as a bar under it; shade: how dark its ground is, 0 for none to 4.
    """

    text: str
    small: str = ""
    words: bool = False
    bold: bool = False
    title: str = ""
    ranks: RankLine | None = None
    share: float | None = None
    shade: int = 0


@dataclass(frozen=True, slots=True)
class ListLine:
    """A row: its key, name, what stands under that, the mark before it, where its name leads, its cells."""

    key: str
    name: str
    where: str
    mark: str
    href: str
    cells: tuple[ListCell, ...]


@dataclass(frozen=True, slots=True)
class ListColumn:
    """A column: the field it shows, or the words over it, and its cell of a row; words: it holds no figures."""

    head: str
    cell: Callable[[Row], ListCell]
    definition: str = ""
    words: bool = True


def rank_shade(rank: float | None) -> int:
    """How dark the ground of a rank is."""
    return 0 if rank is None else sum(rank <= depth for depth in _DEPTHS)


def figure(head: str, say: Callable[[Any], str], of: str = "", *, bold: bool = False) -> ListColumn:
    """A column of figures; of: the column of rows that it tells, where that is not called as the field."""
    return ListColumn(head, lambda row: ListCell(say(row[of or head]), bold=bold))


@dataclass(frozen=True, slots=True)
class ListView:
    """
    A list. narrowed: ready filters: words, address, whether in force; ways: the same of other ways to see it; line: the
    width of a line of ranks; accepts: what is proposed on its rows can be accepted; opens: a row opens beside it;
    groups: rows can become campaigns.
    """

    answer: Answer
    table: TableView
    narrowed: tuple[tuple[str, str, bool], ...]
    ways: tuple[tuple[str, str, bool], ...]
    line: float
    accepts: bool
    opens: bool
    groups: bool = False


@dataclass(frozen=True, slots=True)
class ListName:
    """How a row is called: name, what stands under it, its mark, and where the name leads where nothing opens."""

    name: str
    where: str
    mark: str = "none"
    href: str = ""


Ways = tuple[tuple[str, str, bool], ...]
Ready = Sequence[tuple[str, tuple[str, ...]]]


def page_of(
    ask: Context,
    view: str,
    spec: ListSpec,
    *,
    first: str,
    named: Callable[[Row], ListName],
    columns: Callable[[Context, Listing], Sequence[ListColumn]],
    answer: Callable[[pl.DataFrame], Answer],
    empty: str,
    things: str = "phrases",
    ready: Ready = (),
    accepts: bool = False,
    opens: bool = False,
    groups: bool = False,
    ways: Callable[[Listing], Ways] = lambda _: (),
) -> ListView:
    """
    A list's page. first: the field of its names; columns: of the rows that match and are shown; empty: what is said
    where there is no row at all; ways: other ways to see it.
    """
    of, scope, here = listed(ask, spec), ask.scope, ask.url("reach.view", name=view)
    shown = columns(ask, of.found)
    heads = [head_of(of.fields[first], of.found.sort, ask.figures, css="first", rises=True)]
    heads += [
        head_of(of.fields[each.head], of.found.sort, ask.figures)
        if each.head in of.fields
        else Head(each.head, each.definition, css="words" if each.words else "")
        for each in shown
    ]
    lines = []
    for row in of.found.shown.to_dicts():
        called = named(row)
        href = scope.link(here, open=row["row_id"]) if opens else called.href
        cells = tuple(each.cell(row) for each in shown)
        lines.append(ListLine(row["row_id"], called.name, called.where, called.mark, href, cells))
    money = "spend" in of.rows.columns and of.rows.schema["spend"].is_integer()
    table = table_of(
        ask,
        of,
        lines,
        tuple(heads),
        here=here,
        name="pool",
        things=things,
        picks=accepts and ask.writes,
        empty=empty if of.rows.is_empty() else f"No {things} match.",
        opens=opens,
        **({} if money else {"totals": ()}),
    )
    narrowed = tuple(
        (words, scope.link(here, where=where, page=1, open=""), set(where) == set(scope.where))
        for words, where in ready
    )
    return ListView(answer(of.rows), table, narrowed, ways(of.found), WIDTH, accepts, opens, groups)
