"""Products × metrics, as standing or as change."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.standing import AD_METRICS
from nimbus_reef.analysis.tables import Field, Listing
from nimbus_reef.analysis.wording import ahead_words, metric_words
from nimbus_reef.core.metrics import METRICS, Better
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.peers import BOTTOM, RATED
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit import product, strips
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.strips import metric_name
from nimbus_reef.web.kit.tables import TableView, filtered, heads_of, table_of


def product_fields(how: str) -> dict[str, Field]:
    """What products are sorted by: standing, or change since the days before."""
    fields = [
        Field("name", "product", pl.col("sku")),
        Field("spend", "spend", pl.col("spend"), "¤", "what its clicks cost", digits=0),
    ]
    for metric in AD_METRICS:
        expr = pl.col(f"{metric}_at") if how == "standing" else pl.col(f"{metric}_change")
        fields.append(Field(metric, RATED[metric].label, expr, "", METRICS[metric].definition, digits=0))
    overall = "the mean of CTR, CVR, ACOS and AOV, at least three with CVR among them"
    fields.append(Field("overall", "overall", pl.col("overall_at"), "", overall, digits=0))
    return {field.key: field for field in fields}


@dataclass(frozen=True, slots=True)
class HeatCell:
    """One metric of a product: its words, where its mark stands in pixels (0: nowhere), what hovering says."""

    metric: str
    text: str
    x: float
    tone: str
    hollow: bool
    title: str


@dataclass(frozen=True, slots=True)
class ProductLine:
    """One product; key: its SKU."""

    key: str
    title: str
    spend: str
    cells: tuple[HeatCell, ...]
    overall: str
    tone: str


_ANSWERED: Final = ("ctr", "cvr", "cpc", "aov")
"""ACOS is left out of the answer: it is made of the others."""


def product_answer(rows: pl.DataFrame, figures: Figures) -> Answer:
    """The metric that is weak where most is spent, and the dearest product that drags it."""
    spent = float(rows["spend"].sum())
    weak = {metric: rows.filter((pl.col(f"{metric}_at") < BOTTOM) & ~pl.col(f"{metric}_own")) for metric in _ANSWERED}
    metric, found = max(weak.items(), key=lambda each: float(each[1]["spend"].sum()))
    if found.is_empty() or not spent:
        return Answer("No product stands in the bottom quarter of its peers.", "")
    share, dearest = (float(found["spend"].sum()) / spent, found.sort("spend", descending=True).row(0, named=True))
    name = metric_name(metric)
    bold = f"{name} is weak where {figures.rate(share, 0)} is spent."
    rest = (
        f"{figures.counted(len(found), 'product')} in the bottom quarter; the dearest, {dearest['sku']}, "
        f"has {metric_words(metric, dearest[metric], figures)}, {ahead_words(dearest[f'{metric}_at'], figures)}."
    )
    return Answer(bold, rest)


def product_lines(shown: pl.DataFrame, how: str, figures: Figures) -> list[ProductLine]:
    """A page of products."""
    return [
        ProductLine(
            row["sku"],
            row["title"] or "",
            figures.count(row["spend"]),
            tuple(_heat(row, metric, how, figures) for metric in AD_METRICS),
            figures.count(row["overall_at"]),
            strips.tone_of(row["overall_at"]),
        )
        for row in shown.to_dicts()
    ]


def _heat(row: Mapping[str, Any], metric: str, how: str, figures: Figures) -> HeatCell:
    at, value = row[f"{metric}_at"], metric_words(metric, row[metric], figures)
    if how == "standing":
        # Where it would stand is known of whatever has peers, however thin it is.
        alone = row[metric] is not None and row[f"{metric}_seen"] is None
        lacks = ("no peers", "no peers are known") if alone else ("thin", "too thin to be placed")
        title = f"{value}, {lacks[1] if at is None else ahead_words(at, figures)}"
        if row[f"{metric}_own"] and at is not None:
            title = f"{value}, ahead of {figures.count(at)} % of the account’s own products of the category"
        return HeatCell(
            metric,
            figures.count(at) if at is not None else lacks[0],
            _mark(row[f"{metric}_seen"]),
            strips.tone_of(at),
            at is None or row[f"{metric}_own"],
            title,
        )
    change = row[f"{metric}_change"]
    if change is None:
        return HeatCell(metric, "–", 0.0, "", True, f"{value}; nothing before")
    lower = RATED[metric].better is Better.LOWER
    good = None if abs(change) < 0.05 else (change < 0) is lower
    tone = "" if good is None or at is None else "gain" if good else "loss"
    before = metric_words(metric, row[f"{metric}_then"], figures)
    return HeatCell(metric, figures.relative(change, 0), 0.0, tone, at is None, f"{before} → {value}")


def _mark(percentile: float | None) -> float:
    """Where on the cell's line of 46 pixels, four of them kept free at each end."""
    return 0.0 if percentile is None else round(4 + percentile * 0.38, 1)


def product_export(rows: pl.DataFrame) -> Table:
    """Products with values, percentiles and changes."""
    columns: list[str] = ["sku", "title", "family", "category", *MEASURES]
    for metric in AD_METRICS:
        columns += [metric, f"{metric}_at", f"{metric}_change"]
    formats = {
        "ctr": "0.00%",
        "cvr": "0.0%",
        "acos": "0.0%",
        "cpc": "0.00",
        "aov": "0.00",
        "spend": "0.00",
        "sales": "0.00",
    }
    return Table("standing-products", rows.select(*columns, "overall_at"), formats)


HOWS: Final = ("standing", "change")


@dataclass(frozen=True, slots=True)
class ProductsView:
    """Products among their peers. how: by standing or by change; answer: None without products."""

    answer: Answer | None
    how: str
    table: TableView
    drawer: product.ProductDrawer | None


def page(ask: Context) -> ProductsView:
    """The view."""
    how, figures = ask.scope.choice("as", HOWS), ask.figures
    rows, listed = _listed(ask, how)
    table = table_of(
        listed,
        len(rows),
        product_lines(listed.shown, how, figures),
        heads_of(product_fields(how), listed.sort, figures),
        figures,
        name="heat",
        things="products",
        here=ask.url("standing.view", name="products"),
        empty="No product fits.",
        all="Show all",
    )
    return ProductsView(
        product_answer(rows, figures) if len(rows) else None, how, table, drawer(ask) if ask.scope.open else None
    )


def drawer(ask: Context) -> product.ProductDrawer:
    """The product that is open; NotFound where it has no activity in the window."""
    return product.drawer(ask.facts, ask.scope, ask.scope.open, ask.scope.said("metric"), ask.figures)


def file(ask: Context) -> Table:
    """All products that fit as a file."""
    return product_export(_listed(ask, ask.scope.choice("as", HOWS))[1].ordered)


def _listed(ask: Context, how: str) -> tuple[pl.DataFrame, Listing]:
    rows = standing.compared_products(ask.facts, ask.look)
    return rows, filtered(ask.scope, rows, product_fields(how), "-spend", "named")
