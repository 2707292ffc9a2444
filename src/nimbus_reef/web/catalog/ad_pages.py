"""Product ads as their page shows them: a SKU in an ad group beside its siblings there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import tables
from nimbus_reef.analysis.catalog import ads
from nimbus_reef.analysis.catalog.ads import Without
from nimbus_reef.analysis.judged_tables import P_OVER
from nimbus_reef.analysis.tables import Field, metric_fields
from nimbus_reef.core.metrics import METRICS, ratio
from nimbus_reef.core.model import MICRO, Verdict, from_micro
from nimbus_reef.core.windows import month_factor
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.catalog.beside import planned_there, product_link
from nimbus_reef.web.kit import luck
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.tables import TableView, filtered, heads_of, table_of, words_head
from nimbus_reef.web.kit.verdicts import mark_of, verdict_at_length

COLUMNS: Final = ("stake", "clicks", "orders", "cvr", "beside_cvr", "acos", "beside_acos", "spend")


def fields() -> dict[str, Field]:
    """What product ads are filtered and sorted by."""
    metrics = {field.key: field for field in metric_fields()}
    own = [
        Field("name", "product, ad group", pl.col("sku").cast(pl.String)),
        Field(
            "stake",
            "at stake",
            pl.col("stake") / MICRO,
            "¤",
            "overspend per 30 days: what is likely spent above target, luck taken out",
            digits=0,
        ),
        P_OVER,
        Field(
            "beside_cvr",
            "siblings’ CVR",
            METRICS["cvr"].expr("beside_") * 100,
            "%",
            "conversion of the other products of its ad group",
            digits=1,
        ),
        Field(
            "beside_acos",
            "siblings’ ACOS",
            METRICS["acos"].expr("beside_") * 100,
            "%",
            "cost of sale of the other products of its ad group",
            digits=0,
        ),
        Field("siblings", "siblings", pl.col("siblings"), "", "other running products of its ad group", digits=0),
        Field(
            "verdict",
            "verdict",
            pl.col("verdict"),
            options=tuple(each.value for each in Verdict),
            definition="by evidence: chance of being over target ≥ 90 % costly, ≥ 75 % leaning, ≤ 25 % fine",
        ),
    ]
    return metrics | {field.key: field for field in own}


@dataclass(frozen=True, slots=True)
class AdLine:
    """One product ad, ready to show; weight: its stake beside the largest, 0 … 100."""

    key: str
    name: str
    where: str
    mark: str
    cells: tuple[str, ...]
    weight: float
    verdict: str
    proposal: str


def lines(shown: pl.DataFrame, known: Mapping[str, Field], figures: Figures) -> list[AdLine]:
    """A page of product ads."""
    values = shown.select(known[name].expr.cast(pl.Float64).alias(name) for name in COLUMNS).rows()
    largest = max((row[0] or 0 for row in values), default=0) or 1
    made = []
    for row, cells in zip(shown.to_dicts(), values, strict=True):
        texts = tuple(figures.cell(value, known[name].digits or 0) for name, value in zip(COLUMNS, cells, strict=True))
        if row["spend"] and not row["sales"]:
            texts = tuple("no sales" if name == "acos" else text for name, text in zip(COLUMNS, texts, strict=True))
        made.append(
            AdLine(
                row["row_id"],
                str(row["sku"]),
                f"{row['campaign']} · {row['ad_group']}",
                mark_of(row, "evidence"),
                texts,
                round(100 * (cells[0] or 0) / largest, 1),
                verdict_at_length(row),
                "pause" if row["to_pause"] else "" if row["running"] else "paused",
            )
        )
    return made


def answer(rows: pl.DataFrame, days: int, figures: Figures) -> Answer:
    """What product ads waste beside siblings that sell."""
    bad = rows.filter("to_pause").sort("stake", descending=True)
    if bad.is_empty():
        return Answer("No product wastes money beside siblings that sell.", "")
    first = bad.row(0, named=True)
    total = int(bad["stake"].sum())
    monthly = month_factor(days)
    spend = from_micro(int(bad["spend"].sum())) * monthly
    return Answer(
        f"{figures.counted(len(bad), 'product ad')} waste {figures.micro(total)} a month beside siblings that sell.",
        f"They spend {figures.money(spend)} a month. The largest, {first['sku']} in {first['ad_group']}:"
        f" {figures.counted(first['clicks'], 'click')},"
        f" {figures.counted(first['orders'], 'order') if first['orders'] else 'no order'}, beside"
        f" {figures.counted(first['siblings'], 'sibling')} with {figures.counted(first['beside_orders'], 'order')}.",
    )


def without_words(made: Without, figures: Figures) -> list[tuple[str, str, str]]:
    """What the ad group comes to with the product and without: (what, with, without)."""

    def acos(sums: Mapping[str, int]) -> str:
        if sums["spend"] and not sums["sales"]:
            return "no sales"
        return figures.rate(ratio(sums["spend"], sums["sales"]), 0)

    def cvr(sums: Mapping[str, int]) -> str:
        return figures.rate(ratio(sums["orders"], sums["clicks"]))

    return [
        ("spend", figures.micro(made.whole["spend"]), figures.micro(made.rest["spend"])),
        ("sales", figures.micro(made.whole["sales"]), figures.micro(made.rest["sales"])),
        ("conversion", cvr(made.whole), cvr(made.rest)),
        ("ACOS", acos(made.whole), acos(made.rest)),
    ]


def sibling_lines(
    others: Sequence[Mapping[str, Any]], figures: Figures, most: int = 8
) -> list[tuple[str, str, str, str]]:
    """The other products of its ad group: (mark, SKU, what they did, spend)."""
    return [
        (
            mark_of(each, "evidence"),
            str(each["sku"]),
            f"{figures.counted(each['clicks'], 'click')}, {figures.counted(each['orders'], 'order')}"
            + ("" if each["running"] else ", paused"),
            figures.micro(each["spend"]),
        )
        for each in others[:most]
    ]


@dataclass(frozen=True, slots=True)
class AdsView:
    """Product ads, judged: the answer, the fields they can be filtered by, and the table."""

    answer: Answer
    fields: Mapping[str, tables.Field]
    table: TableView


def listed(ask: Context) -> tuple[pl.DataFrame, tables.Listing]:
    """All product ads, and those that the filters leave, in order."""
    rows, known = ads.listed(ask.facts, ask.look), fields()
    return rows, filtered(ask.scope, rows, known, "-stake", "sku", "title", "campaign", "ad_group")


def page(ask: Context) -> AdsView:
    """The view."""
    figures, known = ask.figures, fields()
    rows, found = listed(ask)
    chips = [(chip.label(figures.symbol), chip.text) for chip in tables.parse_filters(ask.scope.where, known)]
    shown = {name: known[name] for name in ("name", *COLUMNS)}
    heads = (*heads_of(shown, found.sort, figures), words_head("evidence"), words_head("proposal"))
    return AdsView(
        answer(rows, ask.days(ads.KIND), figures),
        known,
        table_of(
            found,
            len(rows),
            lines(found.shown, known, figures),
            heads,
            figures,
            here=ask.url("catalog.view", name="ads"),
            name="ads",
            things="product ads",
            picks=True,
            empty="No product ad fits.",
            all="Remove all filters",
            chips=chips,
        ),
    )


def drawer(ask: Context, row_id: str) -> Drawer:
    """A product ad, its evidence and its siblings."""
    figures, row = ask.figures, ads.row_of(ask.facts, ask.look, row_id)
    others = ads.siblings(ask.facts, ask.look, row)
    (proposal,) = ads.proposals(ask.facts, ask.look, [row])
    brought = figures.counted(row["orders"], "order") if row["orders"] else "no order"
    home = (str(row["campaign"]), str(row["ad_group"]))
    return Drawer(
        row_id,
        str(row["sku"]),
        " · ".join(home),
        f"{figures.counted(row['clicks'], 'click')} brought {brought} for {figures.micro(row['spend'])}.",
        _due(row, figures),
        offered(ask, proposal),
        hits=planned_there(ask, {home}) if proposal.package else (),
        links=(
            ("Its targets", ask.scope.elsewhere(ask.url("targeting.table", name="targets"), campaign=home[0])),
            product_link(ask, "The product", str(row["sku"])),
        ),
        siblings=tuple(sibling_lines(others, figures)),
        siblings_more=max(0, len(others) - 8),
        picture=luck.of_judged(row, figures),
        verdict=verdict_at_length(row),
        without=tuple(without_words(ads.without(row, others), figures)) if others else (),
    )


def _due(row: Mapping[str, Any], figures: Figures) -> str:
    if row["cohort_cvr"] is None:
        return "The account is too small to say what is usual."
    due = row["cohort_cvr"] * row["clicks"]
    return f"What its product does elsewhere makes {figures.number(due, 0 if due >= 3 else 1)} of so many clicks."
