"""Product pages as their view shows them: what each lacks, what changed, conversion beside it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.catalog import pages as product_pages
from nimbus_reef.analysis.catalog.files import listings_table
from nimbus_reef.analysis.tables import Field, by_key, yes_or_no
from nimbus_reef.analysis.wording import lost_words
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.listings import PageLimits, lacks_words
from nimbus_reef.core.metrics import METRICS, ratio
from nimbus_reef.core.model import MICRO
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
from nimbus_reef.web.kit.lists import ListedRows, ListSpec, listed
from nimbus_reef.web.kit.tables import Head, TableView, head_of, heads_of, table_of, words_head

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
    entries, called = [], lacks_words(limits)
    for row in rows.to_dicts():
        cvr = ratio(row["orders"], row["clicks"])
        entries.append(
            PageLine(
                row["row_id"],
                row["sku"],
                row["title"],
                "above" if row["stake"] or row["lost"] else "none",
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
    return entries


_TITLE_LENGTH: Final = pl.col("title").str.len_chars()
_SHOWN: Final = ("name", "stake", "month", "cvr", "title", "images", "bullets", "rating")


def fields(ask: Context, _: pl.DataFrame) -> Mapping[str, Field]:
    """What pages are filtered and sorted by."""
    called, has = lacks_words(ask.account.settings.pages), pl.col("lacks").list.contains
    return by_key(
        Field("name", "product", pl.col("sku"), text=True),
        Field(
            "stake",
            "wasted per 30 days",
            pl.col("stake") / MICRO,
            "¤",
            "Spend that earns less since conversion dropped after a listing change",
            digits=0,
        ),
        Field("month", "ad spend per 30 days", pl.col("month"), "¤", "Ad spend on clicks to the page", digits=0),
        Field("cvr", "CVR", METRICS["cvr"].expr() * 100, "%", digits=1),
        Field("title", "title", _TITLE_LENGTH, "", "characters", digits=0),
        Field("images", "pictures", pl.col("images"), digits=0),
        Field("bullets", "bullets", pl.col("bullets"), digits=0),
        Field("rating", "rating", pl.col("rating"), digits=1),
        Field("reviews", "reviews", pl.col("reviews"), digits=0),
        Field("price", "price", pl.col("price") / MICRO, "¤", digits=2),
        Field("missing", "things it lacks", pl.col("missing"), digits=0),
        Field("changed", "changed", pl.col("changed"), day=True),
        yes_or_no("lost", "lost content", pl.col("lost").is_not_null(), "It showed before what it lacks now"),
        yes_or_no("in_stock", "in stock", pl.col("in_stock") == "yes"),
        *(yes_or_no(f"lacks_{key}", f"lacks: {words}", has(pl.lit(key))) for key, words in called.items()),
    )


LIST: Final = ListSpec(
    lambda ask: product_pages.listed(ask.facts, ask.selection),
    fields,
    ("sku", "title"),
    file=lambda _, rows: listings_table(rows),
    view="listings",
)


def table_heads(of: ListedRows, figures: Figures) -> tuple[Head, ...]:
    """Their heads."""
    shown = heads_of({key: of.fields[key] for key in _SHOWN}, of.found.sort, figures)
    lost = words_head("lost", "What the page had before and lacks in the newest load")
    return (*shown, lost, words_head("lacks"), head_of(of.fields["changed"], of.found.sort, figures, css="words"))


def answer(rows: pl.DataFrame, figures: Figures) -> Answer:
    """Which page to mend first."""
    fell = rows.filter(pl.col("stake") > 0)
    lacking = rows.filter(pl.col("missing") > 0)
    spent = float(lacking["month"].sum()) if len(lacking) else 0.0
    rest = (
        f"{figures.counted(len(lacking), 'page')} with {figures.money(spent)} of ad spend a month are incomplete."
        if len(lacking)
        else "Every page is complete."
    )
    gone = rows.filter(pl.col("lost").is_not_null())
    if len(gone):
        first = gone.row(0, named=True)
        one = len(gone) == 1
        return Answer(
            f"{first['sku']} lost content since {figures.day(first['lost_on'])}: {lost_words(first['lost'])}.",
            f"{figures.counted(len(gone), 'page')} lost content. {figures.money(float(gone['month'].sum()))} of ad"
            f" spend a month goes to {'it' if one else 'them'}. {rest}",
        )
    if fell.is_empty():
        return Answer("No conversion drop after a listing change.", rest)
    first = fell.row(0, named=True)
    return Answer(
        f"{first['sku']} converts less since its page changed on {figures.day(first['fell_on'])}. Fix this page first.",
        f"{figures.micro(first['stake'])} a month of its ad spend earns nothing since. {rest}",
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
    of = listed(ask, LIST)
    return ListingsView(
        answer(of.rows, ask.figures),
        table_of(
            ask,
            of,
            lines(of.found.shown, ask.account.settings.pages, ask.figures),
            table_heads(of, ask.figures),
            here=ask.url("catalog.view", name="listings"),
            name="listings",
            things="listings",
            empty="No listings loaded for these products." if of.rows.is_empty() else "No listings match.",
        ),
    )


def drawer(ask: Context, row_id: str) -> Drawer:
    """A product page: what it lacks, what changed on it, and conversion beside that."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    found = product_pages.listed(facts, selection)
    found = found.filter(pl.col("row_id") == row_id) if len(found) else found
    if found.is_empty():
        raise NotFound("This product has no listing data in this period.", remedy="Choose another period, or close it.")
    row = found.row(0, named=True)
    changed = product.page_changes(facts, selection, row["sku"])
    back = Window(selection.window.shifted(-selection.window.days).first, selection.window.last)
    days = product_frames.product_days(facts, ask.account.id, back, pl.Series([row["product_id"]], dtype=pl.UInt32))
    conversion = conversion_line(
        days["day"].to_list(),
        days["clicks"].to_list(),
        days["orders"].to_list(),
        changed,
        selection.window.first,
        figures,
    )
    mend = tuple(to_mend(row, ask.account.settings.pages))
    fell = (
        f"Conversion dropped when the page changed on {figures.day(row['fell_on'])}."
        if row["stake"]
        else "Its conversion did not drop after a listing change."
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
        "Same time, not proof of cause." if row["stake"] else "",
        offered(ask, proposal),
        links=(product_link(ask, "The product", str(row["sku"])),),
        conversion=conversion,
        changed=tuple((figures.day(each.day), each.words) for each in reversed(changed[-8:])),
    )
