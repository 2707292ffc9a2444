"""Families as their page shows them: lines, the shift drawn, and what is proposed in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.catalog import ads, families
from nimbus_reef.analysis.catalog.families import ListedFamily
from nimbus_reef.analysis.catalog.files import families_table
from nimbus_reef.analysis.tables import Field, by_key, choice, metric_fields, yes_or_no
from nimbus_reef.core import glossary
from nimbus_reef.core.metrics import TACOS, ratio
from nimbus_reef.core.model import MICRO, from_micro
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.settings import USUAL, Settings
from nimbus_reef.core.tiers import RowAction, Value
from nimbus_reef.core.windows import month_factor, per_month
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.tables import Table
from nimbus_reef.web.catalog.beside import planned_there, product_link
from nimbus_reef.web.kit.actions import RowActions
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.lists import ListedRows, ListSpec, listed
from nimbus_reef.web.kit.shares import SharePair, share_pair
from nimbus_reef.web.kit.tables import Head, TableView, heads_of, table_of, words_head
from nimbus_reef.web.kit.verdicts import mark_of

_SPARK: Final = (74, 22)


@dataclass(frozen=True, slots=True)
class FamilyLine:
    """
    A family or one of its children. shut: its children are not shown; spark: profit by week; losses: points of weeks
    below 0.
    """

    key: str
    open: str
    name: str
    where: str
    child: bool
    pair: SharePair
    spend: str
    sold: str
    tacos: str
    acos: str
    cvr: str
    spark: str
    zero: float | None
    weeks: int
    losses: tuple[tuple[float, float], ...]
    mark: str
    verdict: str
    shift: str


def lines(
    listed_families: Sequence[ListedFamily],
    whole: tuple[int, int],
    weeks: Mapping[str, Sequence[float]],
    days: int,
    figures: Figures,
    *,
    every: bool,
    limits: Settings = USUAL,
) -> list[FamilyLine]:
    """
    Families with their children; of those in which nothing is to be shifted only the family, unless
    every is asked for.
    """
    entries = []
    for family in listed_families:
        entries.append(_family(family, whole, weeks, days, figures, limits))
        if every or family.shift.pauses or family.stake:
            entries += [_child(row, family, weeks, days, figures) for row in family.rows]
    return entries


def fields(ask: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What families are filtered and sorted by, their columns first."""
    days, trade = ask.days(families.KIND), families.trade_held(ask.facts, ask.selection)
    shift = pl.col("moved") * month_factor(days)
    metrics = by_key(*metric_fields())
    shown = by_key(
        Field("name", "family, variation", pl.col("name"), text=True),
        Field("shift", "shift per 30 days", shift, "¤", "Proposed change of its spend", digits=0),
        metrics["spend"],
        Field("sold", "sales, all" if trade else "ad sales", pl.col("sold") / MICRO, "¤", digits=0),
        Field(
            "tacos",
            "TACOS" if trade else "of sales",
            pl.col("tacos") * 100,
            "%",
            glossary.definition(TACOS.label),
            digits=1,
        ),
        metrics["acos"],
        metrics["cvr"],
    )
    others = by_key(
        Field("stake", "on the wrong variation", pl.col("stake") / MICRO * month_factor(days), "¤", digits=0),
        Field("variations", "variations", pl.col("variations"), digits=0),
        yes_or_no("alike", "all above target", pl.col("alike"), "All its variations are above target alike"),
        choice("category", "category", pl.col("category"), rows),
    )
    return shown | {key: field for key, field in metrics.items() if key not in shown} | others


def _file(ask: Context, rows: pl.DataFrame) -> Table:
    """The variations of families."""
    children = families.children(ask.facts, ask.selection)
    return families_table(children.filter(pl.col("family").cast(pl.String).is_in(rows["row_id"].implode())))


FAMILIES_A_PAGE: Final = 40
"""Each stands with its variations."""


def _act(ask: Context, rows: pl.DataFrame, action: RowAction, _: Value, __: bool) -> list[Proposal]:
    """What is done to families is done to their product ads."""
    children = families.children(ask.facts, ask.selection)
    skus = children.filter(pl.col("family").cast(pl.String).is_in(rows["row_id"].to_list()))["sku"].cast(pl.String)
    of = ads.listed(ask.facts, ask.selection).filter(pl.col("sku").cast(pl.String).is_in(skus.to_list()))
    return ads.by_hand(ask.facts, ask.selection, of, action)


LIST: Final = ListSpec(
    lambda ask: families.rows(ask.facts, ask.selection),
    fields,
    ("name", "skus"),
    file=_file,
    view="families",
    page_rows=FAMILIES_A_PAGE,
    actions=RowActions(ads.BY_HAND, _act),
)
_SHOWN: Final = ("name", "shift", "spend", "sold", "tacos", "acos", "cvr")


def table_heads(of: ListedRows, figures: Figures) -> tuple[Head, ...]:
    """The heads of the table."""
    name, *rest = heads_of({key: of.fields[key] for key in _SHOWN}, of.found.sort, figures)
    pictures = (
        words_head("share of spend and of sales"),
        words_head("profit by week", "Total sales × margin − ad spend, eight weeks"),
        words_head("verdict"),
    )
    return (name, *pictures, *rest)


def _family(
    family: ListedFamily,
    whole: tuple[int, int],
    weeks: Mapping[str, Sequence[float]],
    days: int,
    figures: Figures,
    limits: Settings,
) -> FamilyLine:
    own = {"share_spend": ratio(family.spend, whole[0]), "share_sales": ratio(family.sold, whole[1])}
    profit = [weeks[sku] for sku in family.children["sku"] if sku in weeks]
    clicks, orders = (int(family.children[name].sum()) for name in ("clicks", "orders"))
    alike = "all variations alike" if family.alike else ""
    moved = per_month(family.shift.moved, days)
    count = len(family.children)
    return FamilyLine(
        key=family.key,
        open=family.key,
        name=family.name,
        where="one product" if count == 1 else f"{count} variations",
        child=False,
        pair=share_pair(own, figures, ahead=_ahead(own, limits)),
        spend=figures.count(from_micro(family.spend)),
        sold=figures.count(from_micro(family.sold)),
        tacos=figures.percent(ratio(family.spend, family.sold)),
        acos=_acos(family.spend, family.sales, figures),
        cvr=figures.percent(ratio(orders, clicks)),
        **_spark([sum(values) for values in zip(*profit, strict=True)] if profit else []),
        mark="",
        verdict=alike,
        shift=figures.count(moved) if moved >= 1 else "–",
    )


def _ahead(row: Mapping[str, Any], limits: Settings) -> bool:
    """Spend runs well ahead of sales, by the account's limits."""
    spend, sales = row["share_spend"], row["share_sales"]
    return (
        spend is not None and sales is not None and sales < limits.child_index * spend and spend >= limits.child_share
    )


def _acos(spend: int, sales: int, figures: Figures) -> str:
    return "no sales" if spend and not sales else figures.percent(ratio(spend, sales), 0)


def _child(
    row: Mapping[str, Any], family: ListedFamily, weeks: Mapping[str, Sequence[float]], days: int, figures: Figures
) -> FamilyLine:
    after = family.shift.after.get(row["sku"], from_micro(row["spend"]))
    moved = per_month(after - from_micro(row["spend"]), days)
    shift = ""
    if abs(moved) >= 1:
        shift = figures.signed(moved)
    elif row["costly_child"]:
        shift = "keeps testing" if not family.shift.why_not else "unchanged"
    return FamilyLine(
        key=f"{family.key}/{row['sku']}",
        open=family.key,
        name=row["sku"],
        where=row["title"] or "",
        child=True,
        pair=share_pair(row, figures, ahead=bool(row["costly_child"])),
        spend=figures.count(from_micro(row["spend"])),
        sold=figures.count(from_micro(row["sold"])),
        tacos=figures.percent(ratio(row["spend"], row["sold"])),
        acos=_acos(row["spend"], row["sales"], figures),
        cvr=figures.percent(row["cvr"]),
        **_spark(weeks.get(row["sku"], [])),
        mark=mark_of(row, "evidence"),
        verdict=row["verdict"],
        shift=shift,
    )


def _spark(values: Sequence[float]) -> dict[str, Any]:
    """A line of profit by week, the zero line and the weeks below it."""
    if len(values) < 2:
        return {"spark": "", "zero": None, "losses": (), "weeks": len(values)}
    low, high = min(0.0, *values), max(0.0, *values)
    wide, tall = _SPARK
    reach = (high - low) or 1.0

    def place(number: int, value: float) -> tuple[float, float]:
        return round(2 + (wide - 4) * number / (len(values) - 1), 1), round(2 + (tall - 4) * (high - value) / reach, 1)

    points = [place(number, value) for number, value in enumerate(values)]
    return {
        "spark": "M" + " L".join(f"{x} {y}" for x, y in points),
        "zero": place(0, 0.0)[1],
        "weeks": len(values),
        "losses": tuple(point for point, value in zip(points, values, strict=True) if value < 0),
    }


def answer(listed_families: Sequence[ListedFamily], days: int, figures: Figures) -> Answer:
    """What goes to the wrong child, and where most."""
    monthly = month_factor(days)
    wrong = [family for family in listed_families if family.stake]
    alike = [family for family in listed_families if family.alike]
    also = (
        f" In {figures.counted(len(alike), 'family', 'families')} all variations are above target alike. Shifting"
        " spend between them does not help."
        if alike
        else ""
    )
    if all(len(family.children) == 1 for family in listed_families):
        return Answer("No families known.", "Families come from the parent of each product in the catalog.")
    if not wrong:
        return Answer("In every family spend follows sales.", also.strip())
    first = wrong[0]
    worst = max((row for row in first.rows if row["costly_child"]), key=lambda row: row["excess"])
    total = sum(family.stake for family in wrong)
    several = "families spend" if len(listed_families) != 1 else "family spends"
    return Answer(
        f"{figures.micro(total * monthly)} a month goes to the wrong variation.",
        f"{figures.count(len(wrong))} of {figures.count(len(listed_families))} {several.split()[0]} spend most on"
        f" the wrong variation. {first.name}:"
        f" {worst['sku']} takes {figures.rate(worst['share_spend'], 0)} of the spend and makes"
        f" {figures.rate(worst['share_sales'], 0)} of the sales.{also}",
    )


@dataclass(frozen=True, slots=True)
class ShiftPart:
    """A child's part of the family's spend: where it begins and how wide it is now, and then; 0 … 304."""

    name: str
    x: float
    width: float
    then_x: float
    then_width: float
    tone: str
    title: str


def shift_drawn(family: ListedFamily, figures: Figures, wide: float = 304.0) -> list[ShiftPart]:
    """Two stacked bars, now above proposed."""
    rows = family.rows
    now = {row["sku"]: from_micro(row["spend"]) for row in rows}
    then = family.shift.after
    whole = sum(now.values())
    costly = {row["sku"] for row in rows if row["costly_child"]}
    entries, at, at_then = [], 0.0, 0.0
    for sku, spend in now.items():
        width = wide * spend / whole if whole else 0.0
        after = wide * then.get(sku, spend) / whole if whole else 0.0
        tone = "loss" if sku in costly else "gain" if after > width + 0.5 else ""
        entries.append(
            ShiftPart(
                sku,
                round(at, 1),
                round(width, 1),
                round(at_then, 1),
                round(after, 1),
                tone,
                f"{sku}: {figures.money(spend)} now, {figures.money(then.get(sku, spend))} proposed",
            )
        )
        at, at_then = at + width, at_then + after
    return entries


@dataclass(frozen=True, slots=True)
class FamiliesView:
    """Families. every: all of them are shown; trade: whether sales of all trade are known."""

    answer: Answer
    every: bool
    trade: bool
    table: TableView


def page(ask: Context) -> FamiliesView:
    """The view."""
    facts, selection, scope = ask.facts, ask.selection, ask.scope
    listed_families, of = families.listed(facts, selection), listed(ask, LIST)
    every = scope.choice("show", ("shifts", "all")) == "all"
    by_name = {each.key: each for each in listed_families}
    shown = [by_name[key] for key in of.found.shown["row_id"]]
    trade, days, figures = families.trade_held(facts, selection), ask.days(families.KIND), ask.figures
    whole = (sum(each.spend for each in listed_families), sum(each.sold for each in listed_families))
    weeks = families.profit_by_week(facts, selection)
    return FamiliesView(
        answer(listed_families, days, figures),
        every,
        trade,
        table_of(
            ask,
            of,
            lines(shown, whole, weeks, days, figures, every=every, limits=ask.account.settings),
            table_heads(of, figures),
            here=ask.url("catalog.view", name="families"),
            name="families",
            empty="No product had ads in this period." if of.rows.is_empty() else "No families match.",
            things="families",
            picks=ask.writes,
        ),
    )


def drawer(ask: Context, key: str) -> Drawer:
    """A family, and the pauses that shift its money."""
    figures, found = ask.figures, families.family(ask.facts, ask.selection, key)
    text = ", ".join(
        f"{row['sku']} takes {figures.rate(row['share_spend'], 0)} of the spend and makes"
        f" {figures.rate(row['share_sales'], 0)} of the sales"
        for row in found.rows
        if row["costly_child"]
    )
    return Drawer(
        key,
        found.name,
        _in_family(found, figures),
        f"{figures.micro(found.spend)} spent, {figures.micro(found.sold)} sold in all.",
        f"{text}." if text else "No variation takes far more of the spend than of the sales.",
        offered(ask, families.proposal(ask.selection, found, ask.days(families.KIND))),
        hits=planned_there(ask, {(ad.campaign, ad.ad_group) for ad in found.shift.pauses}),
        links=tuple(product_link(ask, row["sku"], str(row["sku"])) for row in found.rows[:3]),
        shift=shift_drawn(found, figures) if found.shift.pauses else None,
    )


def _in_family(found: ListedFamily, figures: Figures) -> str:
    """How many products it has, and how many of them are advertised."""
    advertised = found.children.filter(pl.col("impressions") > 0)
    text = figures.counted(len(found.children), "product")
    return text if len(advertised) == len(found.children) else f"{text}, {figures.count(len(advertised))} with ads"
