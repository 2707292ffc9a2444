"""Products × metrics: value, the peers' median and the change since the comparison period in one row."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.standing import AD_METRICS
from nimbus_reef.analysis.tables import Field, by_key, choice
from nimbus_reef.analysis.wording import ahead_words, metric_words
from nimbus_reef.core import glossary
from nimbus_reef.core.metrics import METRICS, is_money
from nimbus_reef.core.model import MEASURES
from nimbus_reef.core.peers import BOTTOM, RATED
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.kit import product, strips
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.strips import metric_name
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of

_OVERALL: Final = Field(
    "overall",
    "overall",
    pl.col("overall_at"),
    definition="Mean of CTR, CVR, ACOS and AOV; at least three of them, CVR included",
    digits=0,
)


def shown_fields() -> dict[str, Field]:
    """The columns of the table; a metric is sorted by its standing."""
    fields = [
        Field("name", "product", pl.col("sku"), text=True),
        Field("spend", "spend", pl.col("spend"), "¤", "Spend on its ads", digits=0),
    ]
    fields += [
        Field(metric, label, pl.col(f"{metric}_at"), "", glossary.definition(label), digits=0)
        for metric, label in ((each, RATED[each].label) for each in AD_METRICS)
    ]
    return {field.key: field for field in (*fields, _OVERALL)}


def product_fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What products are filtered by: the value of each metric, its standing among peers and its change."""
    shown = shown_fields()
    fields: list[Field | None] = [shown["name"], shown["spend"]]
    for metric in AD_METRICS:
        label, money = RATED[metric].label, is_money(metric)
        value = pl.col(metric) if money else pl.col(metric) * 100
        unit = "¤" if money else "%"
        fields += [
            Field(f"{metric}_value", label, value, unit, glossary.definition(label), digits=METRICS[metric].digits),
            Field(metric, f"{label} ahead of", pl.col(f"{metric}_at"), "%", "Part of its peers that it is ahead of"),
            Field(f"{metric}_change", f"change of {label}", pl.col(f"{metric}_change") * 100, "%"),
        ]
    return by_key(*fields, _OVERALL, choice("category", "category", pl.col("category"), rows))


@dataclass(frozen=True, slots=True)
class HeatCell:
    """One metric of a product: its value, beside it the median and the change, and what hovering says."""

    metric: str
    text: str
    beside: str
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
        return Answer("No product is in the bottom quarter of its peers.", "")
    share, dearest = (float(found["spend"].sum()) / spent, found.sort("spend", descending=True).row(0, named=True))
    name = metric_name(metric)
    bold = f"{name} is weak on {figures.rate(share, 0)} of spend."
    rest = (
        f"{figures.counted(len(found), 'product')} in the bottom quarter. The largest, {dearest['sku']}: "
        f"{metric_words(metric, dearest[metric], figures)}, {ahead_words(dearest[f'{metric}_at'], figures)}."
    )
    return Answer(bold, rest)


def product_lines(shown: pl.DataFrame, figures: Figures) -> list[ProductLine]:
    """A page of products."""
    return [
        ProductLine(
            row["sku"],
            row["title"] or "",
            figures.count(row["spend"]),
            tuple(_heat(row, metric, figures) for metric in AD_METRICS),
            figures.count(row["overall_at"]),
            strips.tone_of(row["overall_at"]),
        )
        for row in shown.to_dicts()
    ]


def _heat(row: Mapping[str, Any], metric: str, figures: Figures) -> HeatCell:
    at, value = row[f"{metric}_at"], metric_words(metric, row[metric], figures)
    if row[metric] is None:
        return HeatCell(metric, "–", "", "", True, "no data")
    median, change = row[f"{metric}_typical"], row.get(f"{metric}_change")
    beside = [
        f"median {metric_words(metric, median, figures)}" if median is not None else "no peer figures",
        figures.relative(change, 0) if change is not None else "",
    ]
    if at is None:
        title = "no peer figures" if row[f"{metric}_seen"] is None else "not enough data"
    elif row[f"{metric}_own"]:
        title = f"ahead of {figures.count(at)} % of the account’s own products of the category"
    else:
        title = ahead_words(at, figures)
    hollow = at is None or bool(row[f"{metric}_own"])
    return HeatCell(
        metric, value, " · ".join(filter(None, beside)), strips.tone_of(at), hollow, f"{RATED[metric].label} {title}"
    )


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


@dataclass(frozen=True, slots=True)
class ProductsView:
    """Products among their peers. answer: None without products."""

    answer: Answer | None
    table: TableView
    drawer: product.ProductDrawer | None


def page(ask: Context) -> ProductsView:
    """The view."""
    figures, of = ask.figures, listed(ask, LIST)
    table = table_of(
        ask,
        of,
        product_lines(of.found.shown, figures),
        heads_of(shown_fields(), of.found.sort, figures),
        name="heat",
        things="products",
        here=ask.url("standing.view", name="products"),
        empty="No products match.",
    )
    return ProductsView(
        product_answer(of.rows, figures) if len(of.rows) else None, table, drawer(ask) if ask.scope.open else None
    )


def drawer(ask: Context) -> product.ProductDrawer:
    """The product that is open; NotFound where it has no activity in the window."""
    return product.drawer(ask.facts, ask.scope, ask.scope.open, ask.scope.own_value("metric"), ask.figures)


def _rows(ask: Context) -> pl.DataFrame:
    return standing.compared_products(ask.facts, ask.selection).with_columns(row_id="sku")


LIST: Final = ListSpec(
    _rows, product_fields, ("named",), "-spend", lambda _, rows: product_export(rows), view="products"
)
