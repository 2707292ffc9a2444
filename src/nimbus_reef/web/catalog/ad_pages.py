"""Product ads as their page shows them: a SKU in an ad group beside its siblings there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.catalog import ads
from nimbus_reef.analysis.catalog.ads import Without
from nimbus_reef.analysis.catalog.files import ads_table
from nimbus_reef.analysis.judged_tables import P_OVER
from nimbus_reef.analysis.tables import Field, by_key, choice, metric_fields, yes_or_no
from nimbus_reef.core.metrics import METRICS, ratio
from nimbus_reef.core.model import MICRO, Verdict, from_micro
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.tiers import RowAction, Value
from nimbus_reef.core.windows import month_factor
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.catalog.beside import planned_there, product_link
from nimbus_reef.web.kit import luck
from nimbus_reef.web.kit.actions import RowActions
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.lists import ListSpec, listed
from nimbus_reef.web.kit.tables import TableView, heads_of, table_of, words_head
from nimbus_reef.web.kit.verdicts import mark_of, verdict_at_length

COLUMNS: Final = ("stake", "clicks", "orders", "cvr", "beside_cvr", "acos", "beside_acos", "spend")


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What product ads are filtered and sorted by."""
    own: list[Field | None] = [
        Field("name", "product", pl.col("sku"), text=True),
        Field("campaign", "campaign", pl.col("campaign"), text=True),
        Field("stake", "wasted", pl.col("stake") / MICRO, "¤", "Likely spend above target per 30 days", digits=0),
        P_OVER,
        Field(
            "beside_cvr",
            "others’ CVR",
            METRICS["cvr"].expr("beside_") * 100,
            "%",
            "Conversion of the other products in the ad group",
            digits=1,
        ),
        Field(
            "beside_acos",
            "others’ ACOS",
            METRICS["acos"].expr("beside_") * 100,
            "%",
            "ACOS of the other products in the ad group",
            digits=0,
        ),
        Field("siblings", "others", pl.col("siblings"), "", "Other live products in the ad group", digits=0),
        Field(
            "verdict",
            "verdict",
            pl.col("verdict"),
            options=tuple(each.value for each in Verdict),
            definition="By the chance of being above target: ≥ 90 % above, ≥ 75 % likely above, ≤ 25 % within",
        ),
        yes_or_no("running", "live", pl.col("running")),
        yes_or_no("to_pause", "to pause", pl.col("to_pause"), "Proposed to be paused"),
        choice("category", "category", pl.col("category"), rows),
    ]
    return by_key(*metric_fields(), *own)


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
    entries = []
    for row, cells in zip(shown.to_dicts(), values, strict=True):
        texts = tuple(figures.cell(value, known[name].digits or 0) for name, value in zip(COLUMNS, cells, strict=True))
        if row["spend"] and not row["sales"]:
            texts = tuple("no sales" if name == "acos" else text for name, text in zip(COLUMNS, texts, strict=True))
        entries.append(
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
    return entries


def answer(rows: pl.DataFrame, days: int, figures: Figures) -> Answer:
    """What product ads waste beside siblings that sell."""
    bad = rows.filter("to_pause").sort("stake", descending=True)
    if bad.is_empty():
        return Answer("No product ad wastes spend in an ad group where others sell.", "")
    first = bad.row(0, named=True)
    total = int(bad["stake"].sum())
    monthly = month_factor(days)
    spend = from_micro(int(bad["spend"].sum())) * monthly
    return Answer(
        f"{figures.counted(len(bad), 'product ad')} {'wastes' if len(bad) == 1 else 'waste'} {figures.micro(total)}"
        " a month while others in the ad group sell.",
        f"They spend {figures.money(spend)} a month. The largest, {first['sku']} in {first['ad_group']}:"
        f" {figures.counted(first['clicks'], 'click')},"
        f" {figures.counted(first['orders'], 'order') if first['orders'] else 'no order'}, beside"
        f" {figures.counted(first['siblings'], 'other')} with {figures.counted(first['beside_orders'], 'order')}.",
    )


def without_words(without: Without, figures: Figures) -> list[tuple[str, str, str]]:
    """What the ad group comes to with the product and without: (what, with, without)."""

    def acos(sums: Mapping[str, int]) -> str:
        if sums["spend"] and not sums["sales"]:
            return "no sales"
        return figures.rate(ratio(sums["spend"], sums["sales"]), 0)

    def cvr(sums: Mapping[str, int]) -> str:
        return figures.rate(ratio(sums["orders"], sums["clicks"]))

    return [
        ("spend", figures.micro(without.whole["spend"]), figures.micro(without.rest["spend"])),
        ("sales", figures.micro(without.whole["sales"]), figures.micro(without.rest["sales"])),
        ("conversion", cvr(without.whole), cvr(without.rest)),
        ("ACOS", acos(without.whole), acos(without.rest)),
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
    """Product ads, judged."""

    answer: Answer
    table: TableView


def _act(ask: Context, rows: pl.DataFrame, action: RowAction, _: Value, __: bool) -> list[Proposal]:
    return ads.by_hand(ask.facts, ask.selection, rows, action)


LIST: Final = ListSpec(
    lambda ask: ads.listed(ask.facts, ask.selection),
    fields,
    ("sku", "title", "campaign", "ad_group"),
    "-stake",
    lambda _, rows: ads_table(rows),
    view="ads",
    actions=RowActions(ads.BY_HAND, _act, level="product"),
)


def page(ask: Context) -> AdsView:
    """The view."""
    figures, of = ask.figures, listed(ask, LIST)
    shown = {name: of.fields[name] for name in ("name", *COLUMNS)}
    heads = (*heads_of(shown, of.found.sort, figures), words_head("evidence"), words_head("proposal"))
    return AdsView(
        answer(of.rows, ask.days(ads.KIND), figures),
        table_of(
            ask,
            of,
            lines(of.found.shown, of.fields, figures),
            heads,
            here=ask.url("catalog.view", name="ads"),
            name="ads",
            things="product ads",
            picks=ask.writes,
            empty="No product ads match.",
        ),
    )


def drawer(ask: Context, row_id: str) -> Drawer:
    """A product ad, its evidence and its siblings."""
    figures, row = ask.figures, ads.row_of(ask.facts, ask.selection, row_id)
    others = ads.siblings(ask.facts, ask.selection, row)
    (proposal,) = ads.proposals(ask.facts, ask.selection, [row])
    brought = figures.counted(row["orders"], "order") if row["orders"] else "no order"
    home = (str(row["campaign"]), str(row["ad_group"]))
    return Drawer(
        row_id,
        str(row["sku"]),
        " · ".join(home),
        f"{figures.counted(row['clicks'], 'click')} brought {brought} for {figures.micro(row['spend'])}."
        if row["clicks"]
        else "No clicks in this period.",
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
    if not row["clicks"]:
        return "There is nothing to judge yet."
    if row["cohort_cvr"] is None:
        return "The account is too small to compare with."
    due = row["cohort_cvr"] * row["clicks"]
    return f"What its product does elsewhere makes {figures.number(due, 0 if due >= 3 else 1)} of so many clicks."
