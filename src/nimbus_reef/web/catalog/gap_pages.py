"""Eligibility and gaps as their pages show them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.catalog import files, gaps
from nimbus_reef.analysis.catalog.files import RESTS
from nimbus_reef.analysis.catalog.gaps import Ineligible
from nimbus_reef.analysis.tables import Field, by_key, choice, yes_or_no
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of, words_head

_CURVE: Final = (420.0, 190.0)


@dataclass(frozen=True, slots=True)
class LostLine:
    """A product that may not be advertised, or that nobody saw."""

    key: str
    name: str
    where: str
    status: str
    reason: str
    since: str
    cost: str
    rests_on: str


def lost_lines(rows: pl.DataFrame, figures: Figures) -> list[LostLine]:
    """Products that shoppers do not see, and why."""
    return [
        LostLine(
            row["row_id"],
            row["sku"],
            row["title"] or "",
            row["status"],
            _reason(row),
            figures.day(row["since"]) if row["since"] else "",
            figures.money(row["cost"]) if row["cost"] is not None else "–",
            RESTS[row["rests_on"] or ""],
        )
        for row in rows.to_dicts()
    ]


def _reason(row: Mapping[str, Any]) -> str:
    shadowed = row["shadow"] not in (None, row["sku"])
    taken = f"{row['shadow']} gets nearly all impressions of the family" if shadowed else ""
    own = (row["reason"] or "no reason given") if row["status"] == gaps.INELIGIBLE else "eligible and in ads"
    return "; ".join(filter(None, (own, taken)))


def lost_fields() -> Mapping[str, Field]:
    """What they are filtered and sorted by."""
    return by_key(
        Field("name", "product", pl.col("sku"), text=True),
        Field("status", "status", pl.col("status"), options=(gaps.INELIGIBLE, gaps.UNSEEN)),
        Field("reason", "reason", pl.col("reason"), text=True),
        Field("since", "since", pl.col("since"), definition="Since when its ads are not shown", day=True),
        Field(
            "cost",
            "ad sales missed",
            pl.col("cost"),
            "¤",
            "Per 30 days, likely: what its ads sold before, or what another variation’s ads sell",
            digits=0,
        ),
    )


def lost_answer(ineligible: Sequence[Ineligible], unseen: pl.DataFrame, figures: Figures, *, told: bool) -> Answer:
    """
    What may not be advertised, and what that costs; told: whether the catalog says of any product that it may or may
    not.
    """
    shadowed = unseen.filter(pl.col("shadow").is_not_null())
    rest = ""
    if len(shadowed):
        row = shadowed.row(0, named=True)
        rest = f" {row['shadow']} gets nearly all impressions of the family. {row['sku']} gets none."
    if not told:
        return Answer("Eligibility is unknown.", f"Load the catalog report in Intake.{rest}")
    if not ineligible:
        return Answer("Every product in the catalog is eligible.", rest.strip())
    total = sum(each.cost for each in ineligible)
    first = ineligible[0]
    since = f" since {figures.day(first.since)}" if first.since else ""
    may = "product is" if len(ineligible) == 1 else "products are"
    return Answer(
        f"{figures.count(len(ineligible))} {may} ineligible. That likely misses {figures.money(total)} of ad"
        " sales a month.",
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
    entries = []
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
        entries.append(
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
    return entries


def gap_fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What they are filtered and sorted by."""
    return by_key(
        Field("name", "product", pl.col("sku"), text=True),
        Field("month", "sales per 30 days", pl.col("month"), "¤", "Total sales, with and without ads", digits=0),
        Field("total_orders", "orders", pl.col("total_orders"), digits=0),
        yes_or_no("newer", "newer SKU", pl.col("replaces").is_not_null(), "Of an item that is advertised"),
        choice("category", "category", pl.col("category"), rows),
        choice("family", "family", pl.col("family"), rows),
        choice("fulfilment", "fulfilment", pl.col("fulfilment"), rows),
    )


GAPS: Final = ListSpec(
    lambda ask: gaps.unadvertised(ask.facts, ask.selection),
    gap_fields,
    ("sku", "title"),
    "-month",
    lambda _, rows: files.gaps_table(rows),
    view="gaps",
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
        return Answer("Every selling product is advertised.", rest)
    total = float(rows["month"].sum())
    newer = rows.filter(pl.col("replaces").is_not_null())
    also = (
        f" {figures.counted(len(newer), 'newer SKU')} of advertised items is not in their ads."
        if len(newer) == 1
        else (
            f" {figures.counted(len(newer), 'newer SKU')} of advertised items are not in their ads."
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
    """Products that shoppers do not see."""

    answer: Answer
    table: TableView


LOST: Final = ListSpec(
    lambda ask: gaps.not_shown(ask.facts, ask.selection),
    lambda _ask, _rows: lost_fields(),
    ("sku", "title", "reason"),
    file=lambda _, rows: files.eligibility_table(rows),
)


_IN_WORDS: Final = ("status", "reason", "since")


def eligibility_page(ask: Context) -> EligibilityView:
    """The view of eligibility."""
    ineligible, unseen = gaps.ineligible(ask.facts, ask.selection), gaps.unseen(ask.facts, ask.selection)
    present = gaps.eligibility_told(ask.facts, ask.selection)
    of = listed(ask, LOST)
    nothing = (
        "Every product in the catalog is eligible, and every advertised one had impressions."
        if present
        else "The catalog does not say which products are eligible."
    )
    return EligibilityView(
        lost_answer(ineligible, unseen, ask.figures, told=present),
        table_of(
            ask,
            of,
            lost_lines(of.found.shown, ask.figures),
            (*heads_of(of.fields, of.found.sort, ask.figures, words=_IN_WORDS), words_head("rests on")),
            here=ask.url("catalog.view", name="eligibility"),
            name="lost",
            things="products",
            empty=nothing if of.rows.is_empty() else "No products match.",
            opens=False,
        ),
    )


@dataclass(frozen=True, slots=True)
class GapsView:
    """Selling products without ads, and how spend follows sales."""

    answer: Answer
    curve: Curve | None
    table: TableView


def page(ask: Context) -> GapsView:
    """The view of gaps."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    of, curve = listed(ask, GAPS), gaps.concentration(facts, selection)
    shown = of.found.shown
    found = gaps.proposals(facts, selection, shown.to_dicts())
    heads = heads_of({key: of.fields[key] for key in ("name", "month", "total_orders")}, of.found.sort, figures)
    return GapsView(
        gap_answer(of.rows, curve, figures),
        curve_drawn(curve, figures),
        table_of(
            ask,
            of,
            gap_lines(shown, found, figures),
            (*heads, words_head("what it is"), words_head("proposal")),
            here=ask.url("catalog.view", name="gaps"),
            name="gaps",
            things="products",
            picks=ask.writes,
            empty="Everything that sold in this period has an ad." if of.rows.is_empty() else "No products match.",
        ),
    )


def drawer(ask: Context, row_id: str) -> Drawer:
    """A product without ads, and where it may be added."""
    figures, row = ask.figures, gaps.row_of(ask.facts, ask.selection, row_id)
    (proposal,) = gaps.proposals(ask.facts, ask.selection, [row])
    newer = f"The same item as {row['replaces']}, sent by {row['fulfilment']}."
    return Drawer(
        row_id,
        row["sku"],
        row["title"] or "",
        f"{figures.money(row['month'])} sold a month, {figures.counted(row['total_orders'], 'order')} in this period.",
        newer if row["replaces"] else "It is in no ad group.",
        offered(ask, proposal),
    )
