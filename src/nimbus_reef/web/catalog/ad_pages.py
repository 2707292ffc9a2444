"""Product ads as their page shows them: a SKU in an ad group beside its siblings there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.catalog.ads import Without
from nimbus_reef.analysis.offers import Offer
from nimbus_reef.analysis.tables import Field, metric_fields
from nimbus_reef.core.evidence import STAKE_DAYS
from nimbus_reef.core.model import MICRO, Verdict, from_micro
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.offered import Worded, effect_words
from nimbus_reef.web.kit.verdicts import mark_of, verdict_at_length

COLUMNS: Final = ("stake", "clicks", "orders", "cvr", "beside_cvr", "acos", "beside_acos", "spend")


def fields() -> dict[str, Field]:
    """What product ads are filtered and sorted by."""
    metrics = {field.key: field for field in metric_fields()}
    beside = pl.col("beside_orders") / pl.col("beside_clicks")
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
        Field(
            "p_over",
            "chance over target",
            pl.col("p_over") * 100,
            "%",
            "how likely the true cost of sale is over target",
            digits=0,
        ),
        Field(
            "beside_cvr",
            "siblings’ CVR",
            pl.when(pl.col("beside_clicks") > 0).then(beside) * 100,
            "%",
            "conversion of the other products of its ad group",
            digits=1,
        ),
        Field(
            "beside_acos",
            "siblings’ ACOS",
            pl.when(pl.col("beside_sales") > 0).then(pl.col("beside_spend") / pl.col("beside_sales")) * 100,
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
    monthly = STAKE_DAYS / days
    spend = from_micro(int(bad["spend"].sum())) * monthly
    return Answer(
        f"{figures.counted(len(bad), 'product ad')} waste {figures.micro(total)} a month beside siblings that sell.",
        f"They spend {figures.money(spend)} a month. The largest, {first['sku']} in {first['ad_group']}:"
        f" {figures.counted(first['clicks'], 'click')},"
        f" {figures.counted(first['orders'], 'order') if first['orders'] else 'no order'}, beside"
        f" {figures.counted(first['siblings'], 'sibling')} with {figures.counted(first['beside_orders'], 'order')}.",
    )


def worded(row: Mapping[str, Any], offer: Offer | None, figures: Figures) -> Worded:
    """What is proposed on a product ad, and why; or why nothing is."""
    clicks = figures.counted(row["clicks"], "click")
    if offer is not None:
        beside = row["beside_orders"] / row["beside_clicks"] if row["beside_clicks"] else None
        orders = figures.counted(row["orders"], "order") if row["orders"] else "no order"
        reasons = (
            f"{clicks}, {orders}: it had its own test",
            f"its siblings in the ad group convert {figures.rate(beside)}, it {figures.rate(row['cvr'])}",
            "its clicks are lost or go to them: both ends are in the range",
        )
        return Worded(
            offer, f"pause {row['sku']} in {row['ad_group']}", reasons, effect_words(offer.projected, figures)
        )
    if not row["running"]:
        return Worded(None, "it is paused already")
    if row["verdict"] != Verdict.COSTLY.value:
        return Worded(None, "nothing to do", (f"its evidence says {row['verdict']}",))
    if not row["own_test"]:
        return Worded(None, "nothing yet", (f"{clicks} are too few for an order at what it needs",))
    why = (
        "no sibling here sells and is within reach of the target: look at the whole ad group, its price and its bids"
        if row["siblings"]
        else "it is the only product of its ad group: pausing it stops the ad group"
    )
    return Worded(None, "no pause by itself", (why,))


def without_words(made: Without, figures: Figures) -> list[tuple[str, str, str]]:
    """What the ad group comes to with the product and without: (what, with, without)."""

    def acos(sums: Mapping[str, int]) -> str:
        if sums["spend"] and not sums["sales"]:
            return "no sales"
        return figures.rate(sums["spend"] / sums["sales"] if sums["sales"] else None, 0)

    def cvr(sums: Mapping[str, int]) -> str:
        return figures.rate(sums["orders"] / sums["clicks"] if sums["clicks"] else None)

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
