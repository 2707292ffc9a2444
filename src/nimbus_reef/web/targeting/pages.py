"""What the Targeting pages say: tables of targets and terms, and the drawer on one row."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

import numpy as np
import polars as pl

from nimbus_reef.core import evidence
from nimbus_reef.core.bids import Reason
from nimbus_reef.core.checks.registry import Subject
from nimbus_reef.core.metrics import difference, with_ratios
from nimbus_reef.core.model import (
    MEASURES,
    MICRO,
    MONEY_MEASURES,
    MatchType,
    SimpleVerdict,
    State,
    Verdict,
    from_micro,
)
from nimbus_reef.core.projection import Projected
from nimbus_reef.core.proposals import Move, Proposal, Row
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs.exports import Table
from nimbus_reef.web import tables
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.tables import Field, Listing

LEANING: Final = frozenset({Verdict.COSTLY.value, Verdict.LEANING.value})
_VERDICTS = tuple(verdict.value for verdict in Verdict)
_POSITIVE_MATCHES = tuple(match.value for match in MatchType if not match.negative)


@dataclass(frozen=True, slots=True)
class View:
    """One of the area's tables."""

    name: str
    title: str
    subject: Subject
    key: str
    thing: str
    things: str
    text_columns: tuple[str, ...]


TARGETS = View(
    "targets", "Targets", Subject.TARGET, "target_id", "target", "targets", ("target", "campaign", "ad_group")
)
TERMS = View(
    "terms", "Search terms", Subject.TERM, "row_id", "search term", "search terms",
    ("term", "campaign", "ad_group"),
)  # fmt: skip
VIEWS: Final = {view.name: view for view in (TARGETS, TERMS)}


def fields(view: View, judge: str) -> dict[str, Field]:
    """What the rows can be filtered and sorted by."""
    stake = "excess" if judge == "simple" else "stake"
    metrics = {field.key: field for field in tables.metric_fields()}
    own = [
        Field("stake", "at stake", pl.col(stake) / 1e6, "¤",
              "overspend per 30 days: " + ("spend − target × sales as observed, luck included" if judge == "simple"
                                           else "what is likely spent above target, luck taken out"), digits=0),
        Field("p_over", "chance over target", pl.col("p_over") * 100, "%",
              "how likely the true cost of sale is over target", digits=0),
        Field("needed_cvr", "needed CVR", pl.col("needed_cvr") * 100, "%",
              "conversion at which this price per click meets the target", digits=1),
        Field("share_of_spend", "share of spend", pl.col("share_of_spend") * 100, "%",
              "of the spend of all rows in scope", digits=1),
        Field("name", view.thing, pl.col(view.text_columns[0])),
        Field("verdict", "verdict", pl.col("verdict"), options=_VERDICTS,
              definition="by evidence: chance of being over target ≥ 90 % costly, ≥ 75 % leaning, ≤ 25 % fine"),
        Field("simple", "simple rule", pl.col("simple_verdict"),
              options=tuple(verdict.value for verdict in SimpleVerdict),
              definition="clicks enough, then ACOS over target or no order"),
        Field("match", "match type", pl.col("match_type"), options=_POSITIVE_MATCHES),
    ]  # fmt: skip
    if view is TARGETS:
        own += [
            Field("bid", "bid", pl.col("bid") / 1e6, "¤", "the bid on the window's last day", digits=2),
            Field(
                "bid_room",
                "CPC ÷ bid",
                pl.col("cpc") / (pl.col("bid") / 1e6),
                "",
                "what a click costs against what is bid for it",
                digits=2,
            ),
            Field("state", "state", pl.col("state"), options=tuple(State)),
        ]
    return metrics | {field.key: field for field in own}


@dataclass(frozen=True, slots=True)
class Head:
    """A column head: its sort link is made by the template from `sort`."""

    key: str
    label: str
    definition: str
    sorted: str
    sort: str


COLUMN_SETS: Final[Mapping[str, tuple[str, ...]]] = {
    "usual": ("stake", "clicks", "orders", "cvr", "cpc", "rpc", "acos", "spend"),
    "evidence": ("stake", "clicks", "orders", "cvr", "needed_cvr", "p_over", "acos", "spend"),
    "value of a click": ("stake", "clicks", "cpc", "rpc", "aov", "roas", "acos", "spend"),
    "reach": ("impressions", "ctr", "clicks", "share_of_spend", "spend", "sales", "units", "acos"),
}


def heads(
    columns: Sequence[str], sort: str, known: Mapping[str, Field], figures: Figures, verdict_by: str
) -> list[Head]:
    """The heads of the chosen columns, and the verdict's."""
    made = []
    for key in (*columns, verdict_by):
        field = known[key]
        down, up = f"-{key}", key
        order = "descending" if sort == down else "ascending" if sort == up else ""
        unit = figures.symbol if field.unit == "¤" else field.unit
        label = "verdict" if key == verdict_by else f"{field.label} {unit}".strip()
        made.append(Head(key, label, field.definition, order, up if sort == down else down))
    return made


@dataclass(frozen=True, slots=True)
class Cell:
    """One figure of a row; loss where it is one; weight of the bar behind it, 0 … 100, or null."""

    text: str
    loss: bool = False
    weight: float | None = None


@dataclass(frozen=True, slots=True)
class Line:
    """One table row, ready to show."""

    id: str
    name: str
    kind: str
    where: str
    mark: str
    cells: tuple[Cell, ...]
    verdict: str
    note: str


def mark_of(row: Mapping[str, Any], judge: str) -> str:
    """Solid coral, half, hollow or solid lagoon; none where nothing was clicked."""
    if not row["clicks"]:
        return "none"
    if judge == "simple":
        return {"over target": "costly", "no order": "costly", "within target": "fine"}.get(
            row["simple_verdict"], "undecided"
        )
    return {
        Verdict.COSTLY.value: "costly", Verdict.LEANING.value: "leaning", Verdict.FINE.value: "fine",
    }.get(row["verdict"], "undecided")  # fmt: skip


def _verdict_words(row: Mapping[str, Any], judge: str, more: int | None) -> tuple[str, str]:
    if not row["clicks"]:
        return "no clicks", ""
    if judge == "simple":
        return row["simple_verdict"], ""
    verdict = row["verdict"]
    if verdict == Verdict.UNDECIDED.value:
        return verdict, "clicks will not settle it" if more is None else f"+{more} clicks"
    if verdict == Verdict.LEANING.value and row["own_fault"] and more:
        return verdict, f"+{more} clicks"
    if verdict in LEANING and not row["own_fault"]:
        return verdict, "with its product"
    return verdict, ""


def clicks_needed(rows: pl.DataFrame) -> list[int | None]:
    """Per row how many further misses would make it costly; null where that cannot be told."""
    ready = rows.select("n", "k", pl.col("prior_a", "prior_b", "needed_cvr").fill_null(float("nan")))
    n, k = ready["n"].to_numpy(), ready["k"].to_numpy()
    a, b, needed = (ready[name].to_numpy() for name in ("prior_a", "prior_b", "needed_cvr"))
    return evidence.clicks_needed(n, k, a, b, needed)


def lines(
    view: View,
    shown: pl.DataFrame,
    columns: Sequence[str],
    known: Mapping[str, Field],
    judge: str,
    figures: Figures,
) -> list[Line]:
    """The rows of one page. Weight bars share one scale, the page's largest stake."""
    by = "excess" if judge == "simple" else "stake"
    largest = max([*shown[by].to_list(), 1])
    needed = clicks_needed(shown) if len(shown) else []
    values = shown.select(known[key].expr.alias(key) for key in columns).rows()
    made = []
    for row, figures_of_row, more in zip(shown.to_dicts(), values, needed, strict=True):
        verdict, note = _verdict_words(row, judge, more)
        cells = [
            _cell(key, value, known[key], row, 100 * row[by] / largest, figures)
            for key, value in zip(columns, figures_of_row, strict=True)
        ]
        made.append(
            Line(
                id=row["row_id"],
                name=row[view.text_columns[0]],
                kind=row["match_type"] if view is TARGETS else "",
                where=("" if view is TARGETS else f"{_brought_by(row)} · ")
                + f"{row['campaign']} · {row['ad_group']}",
                mark=mark_of(row, judge),
                cells=tuple(cells),
                verdict=verdict,
                note=note,
            )
        )
    return made


def _cell(
    key: str, value: float | None, field: Field, row: Mapping[str, Any], weight: float, figures: Figures
) -> Cell:
    if key == "stake":
        return Cell(figures.cell(value, 0), weight=round(weight, 1))
    if key == "acos":
        if row["no_sales"]:
            return Cell("no sales", loss=True)
        return Cell(figures.cell(value, 0), loss=row["acos"] is not None and row["acos"] > row["target_acos"])
    return Cell(figures.cell(value, field.digits or 0))


def _brought_by(row: Mapping[str, Any]) -> str:
    others = row["targets"] - 1
    return f"from {row['target']}{f' +{others}' if others else ''}"


@dataclass(frozen=True, slots=True)
class Totals:
    """What the filtered rows come to."""

    count: str
    of: str
    spend: str
    spend_share: str
    sales: str
    acos: str
    acos_change: str
    acos_worse: bool | None
    stake: str
    stake_share: str


def totals(
    listed: Listing, everything: pl.DataFrame, then: pl.DataFrame | None, days: int, judge: str,
    figures: Figures,
) -> Totals:  # fmt: skip
    """Sums of all filtered rows, never only of the page; ACOS against the same rows then."""
    rows = listed.rows
    now = with_ratios(rows.select(pl.col("spend", "sales").sum()), ["acos"]).to_dicts()[0]
    by = "excess" if judge == "simple" else "stake"
    counted = rows if judge == "simple" else rows.filter(evidence.flagged())
    stake = int(counted[by].sum())
    all_spend = int(everything["spend"].sum())
    monthly_sales = int(everything["sales"].sum()) * evidence.STAKE_DAYS / days
    before = None
    if then is not None:
        before = with_ratios(then.select(pl.col("spend", "sales").sum()), ["acos"])["acos"][0]
    moved = difference(now["acos"], before).absolute
    return Totals(
        count=figures.count(len(rows)),
        of=figures.count(len(everything)),
        spend=figures.micro(now["spend"]),
        spend_share=figures.rate(now["spend"] / all_spend if all_spend else None, 0),
        sales=figures.micro(now["sales"]),
        acos="no sales" if now["no_sales"] else figures.rate(now["acos"]),
        acos_change="" if moved is None else f"{figures.number(moved * 100, 1)} pt",
        acos_worse=None if moved is None else moved > 0,
        stake=figures.micro(stake),
        stake_share=figures.rate(from_micro(stake) / from_micro(monthly_sales) if monthly_sales else None),
    )


# --- the drawer -------------------------------------------------------------------


def core_row(row: Mapping[str, Any], days: int) -> Row:
    """A judged row of a frame as the core's proposals take it, money in units."""
    has_prior = row["prior_a"] is not None
    more = None
    if has_prior and row["needed_cvr"] is not None:
        more = evidence.clicks_needed(
            np.array([row["n"]]), np.array([row["k"]]), np.array([row["prior_a"]]),
            np.array([row["prior_b"]]), np.array([row["needed_cvr"]]),
        )[0]  # fmt: skip
    return Row(
        days=days, clicks=row["clicks"], orders=row["orders"], spend=from_micro(row["spend"]),
        sales=from_micro(row["sales"]), a=(row["prior_a"] or 0) + row["k"] if has_prior else 1.0,
        b=row["prior_b"] + row["n"] - row["k"] if has_prior else 1.0,
        aov=from_micro(row["shrunk_aov"] or 0), target_acos=row["target_acos"],
        verdict=Verdict(row["verdict"]), own_test=row["own_test"], own_fault=row["own_fault"],
        more_clicks=more,
    )  # fmt: skip


def sentence(row: Mapping[str, Any], figures: Figures) -> tuple[str, str]:
    """The verdict in a sentence: the bold fact, and what it is measured by."""
    clicks, orders = row["clicks"], row["orders"]
    brought = figures.counted(orders, "order") if orders else "no order"
    fact = f"{figures.counted(clicks, 'click')} brought {brought}."
    if not clicks:
        return "No clicks in these days.", "There is nothing to judge yet."
    if row["prior_a"] is None:
        return fact, (
            "The account is too small to say what is usual: it takes 300 clicks and 5 orders "
            "in the window before luck can be told from fact."
        )
    usual = row["prior_a"] / (row["prior_a"] + row["prior_b"])
    if not orders:
        chance = evidence.miss_chance(clicks, usual)
        measure = (
            f"Its company converts {figures.rate(usual)}: a miss this long happens "
            f"{figures.one_in(chance)} {'times' if chance > 0.5 else 'by luck'}."
        )
        if chance > 0.5:
            measure = f"Its company converts {figures.rate(usual)}: so few clicks miss {figures.rate(chance, 0)} of the time."
    else:
        measure = f"Its company would have made about {figures.number(usual * clicks, 0 if usual * clicks >= 3 else 1)}."
    return fact, f"{measure} {_need_words(row, figures)}"


def _need_words(row: Mapping[str, Any], figures: Figures) -> str:
    needed, p_over = row["needed_cvr"], row["p_over"]
    if needed is None or p_over is None:
        return "Nothing of its kind has sold yet, so what an order is worth is unknown."
    must = (
        f"To meet {figures.aim(row['target_acos'])} at {figures.money(row['cpc'], 2)} a click "
        f"it must convert {figures.rate(needed)}"
    )
    if p_over >= 0.5:
        return f"{must}; the chance that it does is {figures.one_in(1 - p_over)}."
    return f"{must}; the chance that it falls short is {figures.one_in(p_over)}."


def company(row: Mapping[str, Any], figures: Figures) -> str:
    """The prior in a sentence."""
    if row["prior_a"] is None:
        return ""
    group = {
        "ad_group_id": f"of its ad group, {row['ad_group']}",
        "main_product": f"of ad groups led by {row['main_product']}",
        "family": "of its product family",
        "category": f"in {row['category']}",
        "account": "of the whole account",
    }[row["prior_level"]]
    return (
        f"Its company: the {figures.count(row['group_rows'])} rows {group}, "
        f"{figures.counted(row['group_n'], 'click')} and {figures.counted(row['group_k'], 'order')} together."
    )


def reason_words(reason: Reason, figures: Figures) -> str:
    """A limit or ground of a proposal, with its figures."""
    value = reason.figures
    words = {
        "aim": lambda: f"aim is {figures.money(value[0], 2)}: a click earns {figures.money(value[1], 2)}, "
        f"{figures.rate(value[2], 0)} of it may be paid, and bids here are {figures.number(value[3])} × the price paid",
        "step_down": lambda: f"stopped at the step limit, −{figures.rate(value[0], 0)} at a time",
        "step_up": lambda: f"stopped at the step limit, +{figures.rate(value[0], 0)} at a time",
        "floor": lambda: f"stopped at the account's floor, {figures.money(value[0], 2)}",
        "ceiling": lambda: f"stopped at the account's ceiling, {figures.money(value[0], 2)}",
        "no_raise": lambda: "no raise: it is not shown to be fine",
        "best_bid": lambda: f"no further than 10 % past {figures.money(value[0], 2)}, the highest bid at which it worked",
        "stays": lambda: f"the bid of {figures.money(value[0], 2)} is right as it is",
        "own_test": lambda: f"{figures.count(value[0])} clicks were enough for an order at the rate it needs",
        "own_fault": lambda: f"it converts below its own company: {figures.rate(value[0])} to expect of it",
        "undecided": lambda: f"about {figures.count(value[0])} more clicks without an order would settle it"
        if value else "clicks alone will not settle it",
        "too_small": lambda: "the account has too few clicks and orders to tell luck from fact",
        "no_bid_known": lambda: "its bid is not known: load the targets report to get one proposed",
        "has_orders": lambda: f"it made {figures.counted(value[0], 'order')}: lower the bid of the target that brings it rather than block it",
        "no_own_test": lambda: f"{figures.count(value[0])} clicks are too few for an order at the rate it needs",
        "its_product": lambda: f"it converts like its company ({figures.rate(value[0])}): the product, its price or its bids are wrong, not the term",
        "names_product": lambda: "its words are what an advertised product here is called: a negative would keep its buyers away",
        "within_target": lambda: "it is within target",
        "wins": lambda: f"{figures.counted(value[0], 'order')} at {figures.rate(value[1])} ACOS, and no live exact target of these words advertises the product",
        "opening_bid": lambda: f"bid to open with is {figures.money(value[0], 2)}: a click earns {figures.money(value[1], 2)}, {figures.rate(value[2], 0)} of it may be paid",
        "orders_elsewhere": lambda: f"mind: the same term made {figures.counted(value[0], 'order')} in a sibling ad group",
    }  # fmt: skip
    return words[reason.key]()


@dataclass(frozen=True, slots=True)
class Offer:
    """The proposal as shown."""

    headline: str
    effect: str
    reasons: tuple[str, ...]
    acceptable: bool


def effect_words(projected: Projected, figures: Figures) -> str:
    """Spend and sales a month, as a range."""
    return f"{figures.span(projected.spend)} spend, {figures.span(projected.sales)} sales a month"


def offer(proposal: Proposal, bid: float | None, figures: Figures, home: tuple[str, str] = ("", "")) -> Offer:
    """A proposal in words. home: campaign and ad group where a term gets a target of its own."""
    reasons = tuple(reason_words(reason, figures) for reason in proposal.reasons)
    if proposal.move is Move.NONE:
        return Offer("leave it for now", "", reasons, False)
    headline = {
        Move.PAUSE: "pause it",
        Move.NEGATIVE: "negative exact in this ad group",
        Move.BID: f"bid {figures.number(bid)} → {figures.number(proposal.new_bid)}",
        Move.PROMOTE: f"exact target at {figures.number(proposal.new_bid)} in {home[1]}",
    }[proposal.move]
    if proposal.move is Move.PROMOTE:
        effect = f"In {home[0]}; elsewhere in the account a negative keeps it from being bought twice."
        return Offer(headline, effect, reasons, True)
    return Offer(headline, effect_words(proposal.projected, figures), reasons, True)


@dataclass(frozen=True, slots=True)
class Elsewhere:
    """Where else a row's money shows up, or what an action would also hit."""

    label: str
    note: str
    amount: str


def _clicks_and_orders(row: Mapping[str, Any], figures: Figures) -> str:
    return f"{figures.counted(row['clicks'], 'click')}, {figures.counted(row['orders'], 'order')}"


def elsewhere_terms(terms: pl.DataFrame, figures: Figures, most: int = 4) -> list[Elsewhere]:
    """The terms a target paid for, dearest first."""
    return [
        Elsewhere(f"term “{row['term']}”", _clicks_and_orders(row, figures), figures.micro(row["spend"]))
        for row in terms.head(most).to_dicts()
        if row["spend"]
    ]


def elsewhere_targets(keys: pl.DataFrame, figures: Figures, most: int = 4) -> list[Elsewhere]:
    """The targets that brought a term."""
    return [
        Elsewhere(
            f"target “{row['target']}” {row['match_type']}",
            _clicks_and_orders(row, figures), figures.micro(row["spend"]),
        )
        for row in keys.sort("spend", descending=True).head(most).to_dicts()
    ]  # fmt: skip


def products_hit(products: pl.DataFrame, figures: Figures, most: int = 4) -> list[Elsewhere]:
    """The ad group's products, which a pause or negative takes the term from as well."""
    return [
        Elsewhere(
            row["sku"],
            f"{figures.counted(row['orders'], 'order')} from this ad group",
            figures.micro(row["sales"]),
        )
        for row in products.sort(["sales", "sku"], descending=[True, False]).head(most).to_dicts()
    ]


def reason_line(fact: str, offered: Offer) -> str:
    """The reason that goes into the change sheet."""
    return " ".join([fact, "; ".join(offered.reasons) + "." if offered.reasons else ""]).strip()


def break_even_words(known: tuple[str, float] | None, figures: Figures) -> str:
    """The ACOS at which the main product earns nothing."""
    return f"{known[0]} breaks even at {figures.aim(known[1])} ACOS." if known else ""


@dataclass(frozen=True, slots=True)
class Behind:
    """The report rows behind a figure, their sums, and the files."""

    rows: tuple[tuple[str, ...], ...]
    sums: tuple[str, ...]
    files: str


def behind(rows: pl.DataFrame, figures: Figures) -> Behind:
    """One line per report row: day, measures, file, day of loading; and what they add up to."""

    def written(row: Mapping[str, Any]) -> tuple[str, ...]:
        return tuple(
            figures.number(from_micro(row[name])) if name in MONEY_MEASURES else figures.count(row[name])
            for name in MEASURES
        )

    sums = rows.select(pl.col(MEASURES).sum()).to_dicts()[0]
    return Behind(
        tuple(
            (row["day"].isoformat(), *written(row), row["file_name"], f"{row['loaded_at']:%Y-%m-%d %H:%M}")
            for row in rows.to_dicts()
        ),
        written(sums),
        figures.counted(rows["batch_id"].n_unique(), "file"),
    )


def accepted_words(accepted: int, planned: int, nothing: int, figures: Figures) -> str:
    """What accepting many rows at once did."""
    said = [f"{figures.counted(accepted, 'change')} accepted into the plan"]
    if planned:
        said.append(f"{figures.count(planned)} were in it already")
    if nothing:
        said.append(f"on {figures.count(nothing)} there is nothing to propose")
    return "; ".join(said) + "."


_RATES: Final = ("ctr", "cvr", "acos", "needed_cvr", "p_over")
_AMOUNTS: Final = ("cpc", "aov", "rpc", "spend", "sales", "stake", "excess", "bid")


def table_to_export(view: View, rows: pl.DataFrame, window: Window) -> Table:
    """Every column that the table can show, money in units, rates as fractions."""
    names = dict.fromkeys(["campaign", "ad_group", "target", "match_type", view.text_columns[0]])
    plain = ["impressions", "clicks", "orders", "units", "ctr", "cvr", "cpc", "aov", "rpc", "acos",
             "needed_cvr", "p_over", "own_test", "own_fault", "verdict", "simple_verdict"]  # fmt: skip
    settings = ["state", pl.col("bid") / MICRO] if view is TARGETS else []
    money = [pl.col(column) / MICRO for column in ("spend", "sales", "stake", "excess")]
    return Table(
        f"{view.name}-{window.first}-{window.last}",
        rows.select(*names, *plain, *settings, *money),
        dict.fromkeys(_RATES, "0.0%") | dict.fromkeys(_AMOUNTS, "0.00"),
    )
