"""Rivals as their page shows them, and which of them ranks are compared with."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.reach import files, market, ranks
from nimbus_reef.analysis.tables import Field, by_key, choice, yes_or_no
from nimbus_reef.core import rival_sets
from nimbus_reef.core.model import MICRO, from_micro
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of, words_head

_YOUNG_DAYS: Final = 180
_CLIMBS: Final = 1.2


@dataclass(frozen=True, slots=True)
class RivalLine:
    """An item of another brand."""

    key: str
    name: str
    brand: str
    where: str
    mark: str
    seen: str
    before: str
    ahead: str
    paying: str
    price: str
    rating: str
    reviews: str
    sales: str
    age: str
    note: str


def lines(rows: pl.DataFrame, ask: Context) -> list[RivalLine]:
    """Rivals, those that rank for most phrases first."""
    figures, today = ask.figures, market.as_of(ask.selection)

    def number(value: float | None, digits: int = 0) -> str:
        return "–" if value is None else figures.number(value, digits)

    entries = []
    for row in rows.to_dicts():
        age = (today - row["launched"]).days if row["launched"] else None
        entries.append(
            RivalLine(
                row["row_id"],
                f"{row['brand'] or 'brand unknown'} · {row['row_id']}",
                row["brand"] or "",
                " · ".join(filter(None, (row["title"], row["category"]))),
                "within" if row["chosen"] else "none",
                figures.count(row["seen"]),
                number(row["before"]),
                figures.count(row["ahead"]),
                figures.count(row["paying"]),
                number(from_micro(row["price"]), 2) if row["price"] is not None else "–",
                number(row["rating"], 1),
                number(row["reviews"]),
                number(from_micro(row["monthly_sales"])) if row["monthly_sales"] is not None else "–",
                figures.counted(age, "day") if age is not None else "–",
                _note(row, age),
            )
        )
    return entries


def _note(row: Mapping[str, Any], age: int | None) -> str:
    """Why it is worth a look."""
    climbs = row["before"] and row["seen"] >= _CLIMBS * row["before"]
    young = age is not None and age <= _YOUNG_DAYS
    return "young and climbing" if young and climbs else "climbing" if climbs else "young" if young else ""


def fields(ask: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What rivals are filtered and sorted by."""
    age = (pl.lit(market.as_of(ask.selection)) - pl.col("launched")).dt.total_days()
    return by_key(
        Field("name", "item", pl.concat_str(pl.col("brand").fill_null(""), pl.lit(" "), "row_id"), text=True),
        Field("seen", "ranks within 40", pl.col("seen"), "", "Phrases of your keyword lists", digits=0),
        Field(
            "before",
            "three weeks ago",
            pl.col("before"),
            "",
            "The same in the lists of about three weeks ago",
            digits=0,
        ),
        Field("ahead", "ahead of you", pl.col("ahead"), "", "Of them, where it ranks before your best item", digits=0),
        Field("paying", "phrases with its ad", pl.col("paying"), "", "With a sponsored rank", digits=0),
        Field("price", "price", pl.col("price") / MICRO, "¤", digits=2),
        Field("rating", "rating", pl.col("rating"), digits=1),
        Field("reviews", "reviews", pl.col("reviews"), digits=0),
        Field(
            "sales",
            "sales a month",
            pl.col("monthly_sales") / MICRO,
            "¤",
            "As the rivals report estimates it",
            digits=0,
        ),
        Field("age", "age in days", age, digits=0),
        choice("brand", "brand", pl.col("brand"), rows),
        choice("category", "category", pl.col("category"), rows),
        yes_or_no("chosen", "compared with", pl.col("chosen"), "Its ranks stand beside yours in Reach"),
    )


LIST: Final = ListSpec(
    lambda ask: ranks.rivals(ask.facts, ask.selection),
    fields,
    ("brand", "title", "category", "row_id"),
    "-seen",
    lambda _, rows: files.rivals_table(rows),
)
_SHOWN: Final = ("name", "seen", "before", "ahead", "paying", "price", "rating", "reviews", "sales", "age")


def answer(rows: pl.DataFrame, figures: Figures) -> Answer:
    """Who is compared with, chosen by whom."""
    if rows.is_empty():
        return Answer(
            "No rivals are loaded.", "Load the rivals report, or keyword ranks with other brands’ items, in Intake."
        )
    chosen = rows.filter("chosen")
    how = (
        "You chose them."
        if rows["picked"].any()
        else f"They are the {market.MOST_RIVALS} of each category that rank for most of your phrases. Select items to"
        " choose by hand."
    )
    return Answer(f"Your ranks are compared with {figures.counted(len(chosen), 'item')} of other brands.", how)


@dataclass(frozen=True, slots=True)
class RivalsView:
    """
    Other brands' items; by_hand: whether somebody chose those that are compared with; sets: those that are kept: name,
    how many items, whether in force.
    """

    answer: Answer
    table: TableView
    by_hand: bool
    sets: tuple[tuple[str, str, bool], ...]


def page(ask: Context) -> RivalsView:
    """The view."""
    of, figures = listed(ask, LIST), ask.figures
    shown = {key: of.fields[key] for key in _SHOWN}
    heads = (*heads_of(shown, of.found.sort, figures), words_head("worth a look"))
    return RivalsView(
        answer(of.rows, figures),
        table_of(
            ask,
            of,
            lines(of.found.shown, ask),
            heads,
            here=ask.url("reach.view", name="rivals"),
            name="rivals",
            things="items",
            picks=ask.writes,
            totals=(),
            empty="No rivals are loaded." if of.rows.is_empty() else "No items match.",
            opens=False,
        ),
        bool(ask.account.settings.chosen_rivals),
        tuple(
            (name, figures.counted(len(items), "item"), set(items) == set(ask.account.settings.chosen_rivals))
            for name, items in rival_sets.named(ask.account.settings.rival_sets).items()
        ),
    )
