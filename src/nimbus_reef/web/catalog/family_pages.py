"""Families as their page shows them: lines, the shift drawn, and what is proposed in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.catalog import families
from nimbus_reef.analysis.catalog.families import ListedFamily
from nimbus_reef.core.metrics import TACOS, ratio
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.settings import USUAL, Settings
from nimbus_reef.core.windows import month_factor, per_month
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.catalog.beside import planned_there, product_link
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.shares import SharePair, share_pair
from nimbus_reef.web.kit.tables import TableView, heads, words_head
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
    losses: tuple[tuple[float, float], ...]
    mark: str
    verdict: str
    shift: str
    tone: str


def lines(
    held: Sequence[ListedFamily],
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
    made = []
    for family in held:
        made.append(_family(family, whole, weeks, days, figures, limits))
        if every or family.shift.pauses or family.stake:
            made += [_child(row, family, weeks, days, figures) for row in family.rows]
    return made


def table_heads(figures: Figures, *, trade: bool) -> Any:
    """The heads of the table."""
    sold = f"sales {figures.symbol}, all" if trade else f"ad sales {figures.symbol}"
    return heads(
        "family, child",
        words_head("share of spend over sales"),
        words_head("evidence"),
        (f"shift {figures.symbol} a month", "what its spend is proposed to gain or give"),
        f"spend {figures.symbol}",
        sold,
        ("TACOS %" if trade else "of sales %", TACOS.definition),
        "ACOS %",
        "CVR %",
        words_head("profit by week", "total sales × margin less ad spend, eight weeks"),
    )


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
    alike = "all children alike: not a matter of the child" if family.alike else ""
    moved = per_month(family.shift.moved, days)
    count = len(family.children)
    return FamilyLine(
        key=family.key,
        open=family.key,
        name=family.name,
        where="one product" if count == 1 else f"{count} children",
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
        tone="",
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
    shift, tone = "", ""
    if abs(moved) >= 1:
        shift, tone = figures.signed(moved), "loss" if moved < 0 else "gain"
    elif row["costly_child"]:
        shift = "kept tested" if not family.shift.why_not else "stays"
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
        tone=tone,
    )


def _spark(values: Sequence[float]) -> dict[str, Any]:
    """A line of profit by week, the zero line and the weeks below it."""
    if len(values) < 2:
        return {"spark": "", "zero": None, "losses": ()}
    low, high = min(0.0, *values), max(0.0, *values)
    wide, tall = _SPARK
    reach = (high - low) or 1.0

    def place(number: int, value: float) -> tuple[float, float]:
        return round(2 + (wide - 4) * number / (len(values) - 1), 1), round(2 + (tall - 4) * (high - value) / reach, 1)

    points = [place(number, value) for number, value in enumerate(values)]
    return {
        "spark": "M" + " L".join(f"{x} {y}" for x, y in points),
        "zero": place(0, 0.0)[1],
        "losses": tuple(point for point, value in zip(points, values, strict=True) if value < 0),
    }


def answer(held: Sequence[ListedFamily], days: int, figures: Figures) -> Answer:
    """What goes to the wrong child, and where most."""
    monthly = month_factor(days)
    wrong = [family for family in held if family.stake]
    alike = [family for family in held if family.alike]
    also = (
        f" In {figures.counted(len(alike), 'family', 'families')} all children cost too much alike: that is not a"
        " matter of the child."
        if alike
        else ""
    )
    if all(len(family.children) == 1 for family in held):
        return Answer(
            "No two of these products are known to be of one family.",
            "The catalog tells families, by the parent of each product.",
        )
    if not wrong:
        return Answer("Spend follows what sells in every family.", also.strip())
    first = wrong[0]
    worst = max((row for row in first.rows if row["costly_child"]), key=lambda row: row["excess"])
    total = sum(family.stake for family in wrong)
    several = "families spend" if len(held) != 1 else "family spends"
    return Answer(
        f"{figures.micro(total * monthly)} a month goes to the wrong child.",
        f"Of {figures.count(len(held))} {several.split()[0]}, {figures.count(len(wrong))} spend against what sells;"
        f" {first.name} most: {worst['sku']} takes {figures.rate(worst['share_spend'], 0)} of the spend and makes"
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
    made, at, at_then = [], 0.0, 0.0
    for sku, spend in now.items():
        width = wide * spend / whole if whole else 0.0
        after = wide * then.get(sku, spend) / whole if whole else 0.0
        tone = "loss" if sku in costly else "gain" if after > width + 0.5 else ""
        made.append(
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
    return made


FAMILIES_A_PAGE: Final = 40


@dataclass(frozen=True, slots=True)
class FamiliesView:
    """Families. every: all of them are shown; trade: whether sales of all trade are known."""

    answer: Answer
    every: bool
    trade: bool
    table: TableView


def page(ask: Context) -> FamiliesView:
    """The view."""
    facts, look, scope = ask.facts, ask.look, ask.scope
    held = families.listed(facts, look)
    every = scope.choice("show", ("shifts", "all")) == "all"
    of = max(1, -(-len(held) // FAMILIES_A_PAGE))
    page = min(scope.page, of)
    shown = held[(page - 1) * FAMILIES_A_PAGE : page * FAMILIES_A_PAGE]
    trade, days, figures = families.trade_held(facts, look), ask.days(families.KIND), ask.figures
    whole = (sum(each.spend for each in held), sum(each.sold for each in held))
    weeks = families.profit_by_week(facts, look)
    return FamiliesView(
        answer(held, days, figures),
        every,
        trade,
        TableView(
            here=ask.url("catalog.view", name="families"),
            name="families",
            heads=table_heads(figures, trade=trade),
            groups={"": lines(shown, whole, weeks, days, figures, every=every, limits=ask.account.settings)},
            page=page,
            pages=of,
            empty="No product had ads in this period.",
            shown=figures.count(len(held)),
            of=figures.count(len(held)),
            things="families",
            picks=True,
        ),
    )


def drawer(ask: Context, key: str) -> Drawer:
    """A family, and the pauses that shift its money."""
    figures, found = ask.figures, families.family(ask.facts, ask.look, key)
    said = ", ".join(
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
        f"{said}." if said else "No child takes far more of the spend than it sells.",
        offered(ask, families.proposal(ask.look, found, ask.days(families.KIND))),
        hits=planned_there(ask, {(ad.campaign, ad.ad_group) for ad in found.shift.pauses}),
        links=tuple(product_link(ask, row["sku"], str(row["sku"])) for row in found.rows[:3]),
        shift=shift_drawn(found, figures) if found.shift.pauses else None,
    )


def _in_family(found: ListedFamily, figures: Figures) -> str:
    """How many products it has, and how many of them are advertised."""
    advertised = found.children.filter(pl.col("impressions") > 0)
    said = figures.counted(len(found.children), "product")
    return said if len(advertised) == len(found.children) else f"{said}, {figures.count(len(advertised))} with ads"
