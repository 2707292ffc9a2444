"""Eligibility and gaps as their pages show them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import tables
from nimbus_reef.analysis.catalog import gaps
from nimbus_reef.analysis.catalog.files import RESTS
from nimbus_reef.analysis.catalog.gaps import Ineligible
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.tables import TableView, heads, words_head

_CURVE: Final = (420.0, 190.0)


@dataclass(frozen=True, slots=True)
class LostLine:
    """A product that may not be advertised."""

    key: str
    name: str
    where: str
    reason: str
    since: str
    cost: str
    rests_on: str


def lost_lines(held: Sequence[Ineligible], figures: Figures) -> list[LostLine]:
    """Products that may not be advertised, by what that likely costs."""
    return [
        LostLine(
            each.row["sku"],
            each.row["sku"],
            each.row["title"] or "",
            each.row["reason"] or "no reason given",
            figures.day(each.since) if each.since else "never shown in the days held",
            figures.money(each.cost) if each.rests_on else "–",
            RESTS[each.rests_on],
        )
        for each in held
    ]


def lost_heads(figures: Figures) -> Any:
    """Their heads."""
    return heads(
        "product",
        words_head("reason"),
        words_head("since"),
        (f"ad sales missed {figures.symbol} a month", "likely: what its ads sold before, else what a sibling’s sell"),
        words_head("rests on"),
    )


def lost_answer(held: Sequence[Ineligible], unseen: pl.DataFrame, figures: Figures, *, told: bool) -> Answer:
    """
    What may not be advertised, and what that costs; told: whether the catalog says of any product that it may or may
    not.
    """
    shadowed = unseen.filter(pl.col("shadow").is_not_null())
    rest = ""
    if len(shadowed):
        row = shadowed.row(0, named=True)
        rest = f" {row['shadow']} takes nearly all impressions of its family, since {row['sku']} is not shown."
    if not told:
        return Answer("Unknown which products may be advertised.", f"The catalog tells it; load it in Intake.{rest}")
    if not held:
        return Answer("Every product of the catalog may be advertised.", rest.strip())
    total = sum(each.cost for each in held)
    first = held[0]
    since = f" since {figures.day(first.since)}" if first.since else ""
    may = "product may" if len(held) == 1 else "products may"
    return Answer(
        f"{figures.count(len(held))} {may} not be advertised; that likely misses {figures.money(total)} of ad sales a"
        " month.",
        f"{first.row['sku']}{since}: {first.row['reason'] or 'no reason given'}.{rest}",
    )


@dataclass(frozen=True, slots=True)
class GapLine:
    """A product that sells and has no ads."""

    key: str
    name: str
    where: str
    mark: str
    sold: str
    orders: str
    note: str
    proposal: str


def gap_lines(rows: pl.DataFrame, found: Sequence[Proposal], figures: Figures) -> list[GapLine]:
    """Products without ads, most sales first."""
    made = []
    for row, each in zip(rows.to_dicts(), found, strict=True):
        note = (
            f"newer SKU of {row['replaces']}"
            if row["replaces"]
            else f"launched {figures.day(row['launched'])}"
            if row["launched"]
            else ""
        )
        count = figures.counted(len(each.package), "ad group")
        proposal = f"add to {count}" if each.package else "to the catch-all"
        made.append(
            GapLine(
                row["row_id"],
                row["sku"],
                row["title"] or "",
                "fine",
                figures.count(row["month"]),
                figures.count(row["total_orders"]),
                note,
                proposal,
            )
        )
    return made


def gap_heads(figures: Figures) -> Any:
    """Their heads."""
    return heads(
        "product",
        (f"sales {figures.symbol} a month", "all trade per 30 days"),
        "orders",
        words_head("what it is"),
        words_head("proposal"),
    )


def gap_answer(rows: pl.DataFrame, curve: pl.DataFrame, figures: Figures) -> Answer:
    """What sells without ads, and how spend follows sales."""
    rest = ""
    if len(curve) >= 4:
        top = max(1, len(curve) // 5)
        row = curve.row(top - 1, named=True)
        rest = (
            f"The {figures.counted(top, 'best seller')} make {figures.rate(row['share_of_sales'], 0)} of sales and get "
            f"{figures.rate(row['share_of_spend'], 0)} of spend."
        )
    if rows.is_empty():
        return Answer("Everything that sells is advertised.", rest)
    total = float(rows["month"].sum())
    newer = rows.filter(pl.col("replaces").is_not_null())
    also = (
        f" {figures.counted(len(newer), 'newer SKU')} of advertised items was never added to their ads."
        if len(newer) == 1
        else (
            f" {figures.counted(len(newer), 'newer SKU')} of advertised items were never added to their ads."
            if len(newer)
            else ""
        )
    )
    sell = "product sells" if len(rows) == 1 else "products sell"
    return Answer(
        f"{figures.count(len(rows))} {sell} {figures.money(total)} a month without an ad.", f"{also} {rest}".strip()
    )


@dataclass(frozen=True, slots=True)
class Curve:
    """How much of spend the best sellers get: two lines over rank, as SVG paths; ends: labels at their ends."""

    sales: str
    spend: str
    width: float
    height: float
    marks: tuple[tuple[float, str], ...]


def curve_drawn(rows: pl.DataFrame, figures: Figures) -> Curve | None:
    """The concentration curve; None of fewer than three products."""
    if len(rows) < 3:
        return None
    wide, tall = _CURVE

    def path(name: str) -> str:
        points = [(0.0, 0.0), *zip(rows["rank"].to_list(), rows[name].to_list(), strict=True)]
        return "M" + " L".join(
            f"{round(wide * rank / len(rows), 1)} {round(tall * (1 - share), 1)}" for rank, share in points
        )

    steps = sorted({1, len(rows) // 5 or 1, len(rows) // 2, len(rows)})
    return Curve(
        path("share_of_sales"),
        path("share_of_spend"),
        wide,
        tall,
        tuple((round(wide * step / len(rows), 1), figures.count(step)) for step in steps),
    )


@dataclass(frozen=True, slots=True)
class EligibilityView:
    """Products that may not be advertised; unseen: advertised ones that nobody saw."""

    answer: Answer
    unseen: list[dict[str, Any]]
    table: TableView


def eligibility_page(ask: Context) -> EligibilityView:
    """The view of eligibility."""
    held, unseen = gaps.ineligible(ask.facts, ask.look), gaps.unseen(ask.facts, ask.look)
    told = gaps.eligibility_told(ask.facts, ask.look)
    return EligibilityView(
        lost_answer(held, unseen, ask.figures, told=told),
        unseen.to_dicts(),
        TableView(
            here=ask.url("catalog.view", name="eligibility"),
            name="lost",
            heads=lost_heads(ask.figures),
            groups={"": lost_lines(held, ask.figures)},
            empty=(
                "Every product of the catalog may be advertised."
                if told
                else "The catalog says of no product whether it may."
            ),
            opens=False,
        ),
    )


@dataclass(frozen=True, slots=True)
class GapsView:
    """Products that sell and have no ads, and how spend follows sales."""

    answer: Answer
    curve: Curve | None
    table: TableView


def page(ask: Context) -> GapsView:
    """The view of gaps."""
    facts, look, figures = ask.facts, ask.look, ask.figures
    rows, curve = gaps.unadvertised(facts, look), gaps.concentration(facts, look)
    page, of = tables.page_of(len(rows), ask.scope.page)
    shown = rows.slice((page - 1) * tables.PAGE_ROWS, tables.PAGE_ROWS)
    found = gaps.proposals(facts, look, shown.to_dicts())
    return GapsView(
        gap_answer(rows, curve, figures),
        curve_drawn(curve, figures),
        TableView(
            here=ask.url("catalog.view", name="gaps"),
            name="gaps",
            heads=gap_heads(figures),
            groups={"": gap_lines(shown, found, figures)},
            page=page,
            pages=of,
            picks=True,
            empty="Everything that sold in these days has an ad.",
        ),
    )


def drawer(ask: Context, row_id: str) -> Drawer:
    """A product without ads, and where it may be added."""
    figures, row = ask.figures, gaps.row_of(ask.facts, ask.look, row_id)
    (proposal,) = gaps.proposals(ask.facts, ask.look, [row])
    newer = f"The same item as {row['replaces']}, sent by {row['fulfilment']}."
    return Drawer(
        row_id,
        row["sku"],
        row["title"] or "",
        f"{figures.money(row['month'])} sold a month, {figures.counted(row['total_orders'], 'order')} in these days.",
        newer if row["replaces"] else "It stands in no ad group.",
        offered(ask, proposal),
    )
