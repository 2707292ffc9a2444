"""Product pages as their view shows them: what each lacks, what changed, conversion beside it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl

from nimbus_reef.analysis import tables
from nimbus_reef.analysis.catalog import pages as product_pages
from nimbus_reef.analysis.wording import lost_words
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.listings import PageLimits, lacks_words
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.reading import product_frames
from nimbus_reef.web.catalog.beside import product_link
from nimbus_reef.web.kit import product
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.charts import Marked, panels
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.tables import TableView, heads, words_head

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
        cvr = ratio(row["orders"], row["clicks"])
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


@dataclass(frozen=True, slots=True)
class ListingsView:
    """Product pages."""

    answer: Answer
    table: TableView


def page(ask: Context) -> ListingsView:
    """The view."""
    rows = product_pages.listed(ask.facts, ask.look)
    page, of = tables.page_of(len(rows), ask.scope.page)
    shown = rows.slice((page - 1) * tables.PAGE_ROWS, tables.PAGE_ROWS)
    return ListingsView(
        answer(rows, ask.figures),
        TableView(
            here=ask.url("catalog.view", name="listings"),
            name="listings",
            heads=table_heads(ask.figures),
            groups={"": lines(shown, ask.account.settings.pages, ask.figures)},
            page=page,
            pages=of,
            empty="No page is held of these products.",
        ),
    )


def drawer(ask: Context, row_id: str) -> Drawer:
    """A product page: what it lacks, what changed on it, and conversion beside that."""
    facts, look, figures = ask.facts, ask.look, ask.figures
    found = product_pages.listed(facts, look)
    found = found.filter(pl.col("row_id") == row_id) if len(found) else found
    if found.is_empty():
        raise NotFound("No page of this product is held in these days.", remedy="Choose other days, or close it.")
    row = found.row(0, named=True)
    changed = product.page_changes(facts, look, row["sku"])
    back = Window(look.window.shifted(-look.window.days).first, look.window.last)
    days = product_frames.product_days(facts, ask.account.id, back, pl.Series([row["product_id"]], dtype=pl.UInt32))
    conversion = conversion_line(
        days["day"].to_list(), days["clicks"].to_list(), days["orders"].to_list(), changed, look.window.first, figures
    )
    mend = tuple(to_mend(row, ask.account.settings.pages))
    fell = (
        f"Conversion fell when the page changed on {figures.day(row['fell_on'])}."
        if row["stake"]
        else "Its conversion did not fall with a change of the page."
    )
    gone = f"Lost since {figures.day(row['lost_on'])}: {lost_words(row['lost'])}. " if row["lost"] else ""
    headline = HeadlineKey.LOOK_AT_PAGE if mend or row["stake"] else HeadlineKey.NOTHING_TO_MEND
    why = tuple(Reason(ReasonKey.TO_MEND, (each,)) for each in mend)
    proposal = Proposal(
        EntityKey(Subject.PRODUCT, name=row["sku"]),
        row_id,
        Headline(HeadlineKey.RESTORE_PAGE if gone else headline),
        reasons=why,
    )
    return Drawer(
        row_id,
        row["sku"],
        row["title"],
        gone + fell,
        "Coincidence in time, not proof." if row["stake"] else "",
        offered(ask, proposal),
        links=(product_link(ask, "The product", str(row["sku"])),),
        conversion=conversion,
        changed=tuple((figures.day(each.day), each.words) for each in reversed(changed[-8:])),
    )
