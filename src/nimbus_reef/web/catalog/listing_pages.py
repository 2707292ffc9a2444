"""Product pages as their view shows them: what each lacks, what changed, conversion beside it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl

from nimbus_reef.core.listings import PageLimits, lacks_words
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.charts import Marked, panels
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.lost import lost_words
from nimbus_reef.web.kit.offered import heads, words_head

_SMOOTHED_OVER = 7


@dataclass(frozen=True, slots=True)
class PageLine:
    """A product page."""

    key: str
    name: str
    where: str
    mark: str
    stake: str
    spend: str
    cvr: str
    title: str
    images: str
    bullets: str
    rating: str
    lacks: str
    lost: str
    changed: str
    broken: bool


def lines(rows: pl.DataFrame, limits: PageLimits, figures: Figures) -> list[PageLine]:
    """Pages, what to mend first by money at the top."""
    made, called = [], lacks_words(limits)
    for row in rows.to_dicts():
        cvr = row["orders"] / row["clicks"] if row["clicks"] else None
        made.append(
            PageLine(
                row["row_id"],
                row["sku"],
                row["title"],
                "costly" if row["stake"] or row["lost"] else "none",
                figures.micro(row["stake"]) if row["stake"] else "–",
                figures.count(row["month"]),
                figures.percent(cvr),
                figures.count(len(row["title"])),
                figures.count(row["images"]),
                figures.count(row["bullets"]),
                figures.number(row["rating"], 1) if row["rating"] is not None else "–",
                ", ".join(called[key] for key in row["lacks"]) or "nothing",
                f"{lost_words(row['lost'])}, since {figures.day(row['lost_on'])}" if row["lost"] else "–",
                figures.day(row["changed"]) if row["changed"] else "–",
                bool(row["stake"] or row["lost"]),
            )
        )
    return made


def table_heads(figures: Figures) -> Any:
    """Their heads."""
    return heads(
        "product",
        (f"wasted {figures.symbol} a month", "spend that bought less since conversion fell with a change of the page"),
        (f"ad spend {figures.symbol} a month", "what visits to the page cost"),
        "CVR %",
        ("title", "characters"),
        "pictures",
        "bullets",
        "rating",
        words_head("lost", "what the page showed before and shows no more, by the newest load"),
        words_head("lacks"),
        words_head("changed"),
    )


def answer(rows: pl.DataFrame, figures: Figures) -> Answer:
    """Which page to mend first."""
    fell = rows.filter(pl.col("stake") > 0)
    lacking = rows.filter(pl.col("missing") > 0)
    spent = float(lacking["month"].sum()) if len(lacking) else 0.0
    rest = (
        f"{figures.counted(len(lacking), 'page')} with {figures.money(spent)} of ad spend a month lack something."
        if len(lacking)
        else "No page lacks anything."
    )
    gone = rows.filter(pl.col("lost").is_not_null())
    if len(gone):
        first = gone.row(0, named=True)
        one = len(gone) == 1
        return Answer(
            f"{first['sku']} lost something since {figures.day(first['lost_on'])}: {lost_words(first['lost'])}.",
            f"{figures.counted(len(gone), 'page')} lost something; {figures.money(float(gone['month'].sum()))} of ad"
            f" spend a month goes to {'it' if one else 'them'}. {rest}",
        )
    if fell.is_empty():
        return Answer("No conversion fell with a change of a page.", rest)
    first = fell.row(0, named=True)
    return Answer(
        f"{first['sku']} converts less since its page changed on {figures.day(first['fell_on'])}: mend it first.",
        f"{figures.micro(first['stake'])} a month of its ad spend buys nothing since. {rest}",
    )


def conversion_line(
    days: Sequence[date],
    clicks: Sequence[int],
    orders: Sequence[int],
    changed: Sequence[Marked],
    first_shown: date,
    figures: Figures,
) -> dict[str, Any] | None:
    """Conversion by day over seven days, page changes marked; None without days."""
    if not days:
        return None
    values: list[float | None] = []
    for place in range(len(days)):
        first = max(0, place - _SMOOTHED_OVER + 1)
        n = sum(clicks[first : place + 1])
        values.append(round(100 * sum(orders[first : place + 1]) / n, 2) if n else None)
    return panels(
        days, [("CVR %, over 7 days", values)], [], changed, first_shown=max(first_shown, days[0]), figures=figures
    )


def to_mend(row: Mapping[str, Any], limits: PageLimits) -> list[str]:
    """What to look at on a page, the gravest first."""
    called = lacks_words(limits)
    return [called[key] for key in row["lacks"]]
