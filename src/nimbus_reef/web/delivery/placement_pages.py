"""
Placements as their page shows them: share pairs, conversion against what is needed, the solution
drawn and in words.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from itertools import chain
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement
from nimbus_reef.analysis.acceptance import InPlan, in_plan
from nimbus_reef.analysis.delivery import placements, solutions
from nimbus_reef.analysis.delivery.files import placements_table
from nimbus_reef.analysis.delivery.placements import paid_now
from nimbus_reef.analysis.delivery.solutions import Solved
from nimbus_reef.analysis.judged_tables import P_OVER
from nimbus_reef.analysis.proposals import proposals
from nimbus_reef.analysis.tables import Field, by_key, choice, metric_fields, yes_or_no
from nimbus_reef.analysis.wording import Worded, worded
from nimbus_reef.core import evidence
from nimbus_reef.core.click_prices import ADJUSTABLE
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MICRO, PLACEMENTS, Placement, Verdict, from_micro
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.tiers import RowAction, Value
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.actions import RowActions
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.axes import round_steps
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.lists import ListedRows, ListSpec, listed
from nimbus_reef.web.kit.shares import SharePair, share_pair
from nimbus_reef.web.kit.tables import Head, TableView, heads_of, table_of, words_head
from nimbus_reef.web.kit.verdicts import mark_of

_LINE: Final = 120.0
_WIDE: Final = 540.0


@dataclass(frozen=True, slots=True)
class RangeMark:
    """Conversion as a range on a line of 120 with what is needed: positions, None where not known."""

    low: float | None
    high: float | None
    mean: float | None
    needed: float | None
    tone: str
    solid: bool
    words: str


@dataclass(frozen=True, slots=True)
class PlaceLine:
    """One placement of a group."""

    key: str
    name: str
    pair: SharePair
    spend: str
    sales: str
    clicks: str
    range: RangeMark
    cvr: str
    cpc: str
    rpc: str
    acos: str
    mark: str
    verdict: str
    whose: str
    limited: str


def fields(_: Context, rows: pl.DataFrame) -> Mapping[str, Field]:
    """What placements are filtered and sorted by."""
    limited = pl.col("offsite_limited").cast(pl.String) == "yes"
    return by_key(
        Field("name", "placement", pl.col("placement"), text=True),
        *metric_fields(),
        Field("stake", "wasted", pl.col("stake") / MICRO, "¤", "Likely spend above target per 30 days", digits=0),
        P_OVER,
        choice("placement", "placement", pl.col("placement"), rows),
        choice("verdict", "verdict", pl.col("verdict"), rows),
        Field("whose", "of", pl.col("whose"), text=True),
        yes_or_no("limited", "off-site limited", limited) if "offsite_limited" in rows.columns else None,
    )


_SHOWN: Final = ("name", "spend", "sales", "clicks", "cvr", "cpc", "rpc", "acos")


def table_heads(of: ListedRows, figures: Figures, *, campaigns: bool) -> tuple[Head, ...]:
    """The heads of the table; campaigns: its rows are placements of campaigns."""
    name, spend, sales, clicks, *rest = heads_of({key: of.fields[key] for key in _SHOWN}, of.found.sort, figures)
    likely = words_head(
        "conversion, likely range and needed", "Range: 80 % likely. Upright bar: the conversion its CPC needs"
    )
    limited = (words_head("limited", "Whether the campaign has an off-site limit"),) if campaigns else ()
    shares = words_head("share of spend and of sales")
    return (name, shares, spend, sales, clicks, likely, *rest, words_head("evidence"), *limited)


def groups(rows: pl.DataFrame, figures: Figures) -> dict[str, list[PlaceLine]]:
    """Lines by what they are placements of."""
    listed = rows.to_dicts()
    furthest = max((_reach(row) for row in listed), default=0.0) or 1.0
    by_key: dict[str, list[PlaceLine]] = {}
    for row in listed:
        by_key.setdefault(str(row["whose"]), []).append(_line(row, furthest, figures))
    return by_key


def _posterior(row: Mapping[str, Any]) -> tuple[float, float] | None:
    if row["prior_a"] is None:
        return None
    return row["prior_a"] + row["k"], row["prior_b"] + row["n"] - row["k"]


def _reach(row: Mapping[str, Any]) -> float:
    posterior = _posterior(row)
    high = evidence.interval(*posterior)[1] if posterior else 0.0
    return max(high, min(row["needed_cvr"] or 0.0, 0.6))


def _line(row: Mapping[str, Any], furthest: float, figures: Figures) -> PlaceLine:
    posterior, kind = _posterior(row), mark_of(row, "evidence")
    low = high = mean = None
    if posterior:
        low, high = (_x(value, furthest) for value in evidence.interval(*posterior))
        mean = _x(posterior[0] / sum(posterior), furthest)
    tone = {"above": "loss", "likely": "loss", "within": "gain"}.get(kind, "")
    needed = row["needed_cvr"]
    words = f"needs {figures.rate(needed)}" if needed is not None else ""
    return PlaceLine(
        key=row["row_id"],
        name=PLACEMENTS.get(row["placement"], row["placement"]),
        pair=share_pair(row, figures, ahead=kind == "above" and (row["share_spend"] or 0) > (row["share_sales"] or 0)),
        spend=figures.count(from_micro(row["spend"])),
        sales=figures.count(from_micro(row["sales"])),
        clicks=figures.count(row["clicks"]),
        range=RangeMark(
            low,
            high,
            mean,
            None if needed is None or needed > furthest else _x(needed, furthest),
            tone,
            kind in ("above", "within"),
            words,
        ),
        cvr=figures.percent(row["cvr"]),
        cpc=figures.number(row["cpc"]),
        rpc=figures.number(row["rpc"]),
        acos="no sales" if row["spend"] and not row["sales"] else figures.percent(row["acos"], 0),
        mark=kind,
        verdict=row["verdict"],
        whose=str(row["whose"]),
        limited=_limited(row),
    )


def _limited(row: Mapping[str, Any]) -> str:
    """Whether the campaign limits off-site; empty on other placements."""
    if row["placement"] != Placement.OFF_SITE.value or "offsite_limited" not in row:
        return ""
    return "limited" if row["offsite_limited"] == "yes" else "no"


def _x(value: float, furthest: float) -> float:
    return round(4 + (_LINE - 8) * min(value, furthest) / furthest, 1)


def answer(rows: pl.DataFrame, limits: pl.DataFrame | None, figures: Figures) -> Answer:
    """
    What off-site takes and brings, by all of the account; and what the best placement earns.

    limits: the campaigns in which it would be limited (`to_limit`); None where that is not known yet.
    """
    by_key = {row["placement"]: row for row in rows.to_dicts()}
    off = by_key.get(Placement.OFF_SITE.value)
    on_site = [by_key[place.value] for place in ADJUSTABLE if place.value in by_key and by_key[place.value]["clicks"]]
    best = max(on_site, key=lambda row: row["rpc"] or 0, default=None)
    rest = ""
    if best is not None:
        rest = (
            f"{PLACEMENTS[best['placement']].capitalize()} earns {figures.money(best['rpc'], 2)} a click and pays "
            f"{figures.money(best['cpc'], 2)}."
        )
    if off is None or not off["clicks"]:
        return Answer("No off-site ads in this period.", rest)
    bold = (
        f"Off-site takes {figures.rate(off['share_spend'], 0)} of the spend and brings "
        f"{figures.rate(off['share_sales'], 0)} of the sales."
    )
    return Answer(bold, f"{off_site_words(off, limits, figures)} {rest}")


def off_site_words(off: Mapping[str, Any], limits: pl.DataFrame | None, figures: Figures) -> str:
    """Whether to limit it, with the reason either way."""
    clicks = figures.counted(off["clicks"], "click")
    acos = figures.rate(off["acos"], 0) if off["acos"] is not None else "no sales"
    if off["verdict"] == Verdict.ABOVE.value:
        text = f"{figures.micro(off['stake'])} a month above target after {clicks}. Luck does not explain it."
        if limits is None:
            return text
        return f"{text} {_limits_words(limits, figures)}"
    there = _limits_words(limits, figures) if limits is not None and len(limits) else ""
    if off["verdict"] == Verdict.WITHIN.value and off["own_test"] and off["sales"]:
        return f"Overall it is within target: ACOS {acos} after {clicks}. {there}".strip()
    so_far = acos if off["acos"] is None else f"ACOS {acos}"
    return f"Too early to tell after {clicks} ({so_far}). {there}".strip()


def _limits_words(limits: pl.DataFrame, figures: Figures) -> str:
    """In how many campaigns it is above target, and in how many of them their own clicks show it."""
    if limits.is_empty():
        return "No single campaign is surely above target."
    tested = int(limits["own_test"].sum())
    several = len(limits) != 1
    if tested == len(limits):
        own = "each judged by its own clicks" if several else "judged by its own clicks"
    elif tested:
        own = (
            f"{figures.count(tested)} judged by their own clicks, {figures.count(len(limits) - tested)} by off-site"
            " clicks of other campaigns"
        )
    else:
        own = "judged by off-site clicks of other campaigns"
    return (
        f"It is above target in {figures.counted(len(limits), 'campaign')}, {own}: "
        f"{figures.micro(int(limits['stake'].sum()))} a month."
    )


@dataclass(frozen=True, slots=True)
class SolvedLine:
    """
    A placement in the solution: what a click may cost there, its raise, what it pays now; positions
    along the axis.
    """

    name: str
    x: float
    text: str
    now_x: float | None
    now: str


@dataclass(frozen=True, slots=True)
class SolvedDrawn:
    """The solution as one line, the base bid, from which each placement reaches to its highest."""

    base_x: float
    base: str
    lines: tuple[SolvedLine, ...]
    ticks: tuple[tuple[float, str], ...]
    width: float


def solved_drawn(solved: Solved, figures: Figures) -> SolvedDrawn | None:
    """The picture of a solution; None where there is none."""
    found = solved.solution
    if found is None:
        return None
    paid = {row["placement"]: paid_now(row) for row in solved.rows.to_dicts()}
    highest = {place: found.base * (1 + found.adjustments[place]) for place in ADJUSTABLE}
    top = max([*highest.values(), *(paid.get(place.value) or 0 for place in ADJUSTABLE), found.base]) * 1.15

    def x(value: float) -> float:
        return round(_WIDE * value / top, 1)

    lines = []
    for place in ADJUSTABLE:
        now = paid.get(place.value)
        raise_words = f" = +{figures.rate(found.adjustments[place], 0)}" if found.adjustments[place] else ""
        lines.append(
            SolvedLine(
                PLACEMENTS[place.value],
                x(highest[place]),
                f"{figures.number(highest[place])}{raise_words}",
                x(now) if now is not None else None,
                f"pays {figures.number(now)} now" if now is not None else "no clicks",
            )
        )
    was = f" (now {figures.number(solved.base_now)})" if solved.base_now is not None else ""
    return SolvedDrawn(
        x(found.base),
        f"base bid {figures.money(found.base, 2)}{was}",
        tuple(lines),
        tuple((x(value), figures.number(value)) for value in round_steps(top)),
        _WIDE,
    )


@dataclass(frozen=True, slots=True)
class WorstLine:
    """A campaign by what its placements overspend."""

    name: str
    stake: str
    spend: str
    above: str
    acos: str


def worst_lines(rows: pl.DataFrame, figures: Figures) -> list[WorstLine]:
    """The campaigns whose placements overspend most."""
    return [
        WorstLine(
            row["campaign"],
            figures.micro(row["on_site"]),
            figures.count(from_micro(row["spend"])),
            figures.counted(row["costly"], "placement"),
            figures.percent(ratio(row["spend"], row["sales"]), 0),
        )
        for row in rows.to_dicts()
    ]


GROUPS_A_PAGE: Final = 25
WORST: Final = 12
HERE: Final = "placements"


@dataclass(frozen=True, slots=True)
class SolvedView:
    """A campaign's base bid and adjustments, drawn and in words."""

    id: str
    campaign: str
    drawn: SolvedDrawn | None
    worded: Worded
    target: str
    planned: InPlan


@dataclass(frozen=True, slots=True)
class CampaignsView:
    """
    What is told of single campaigns: how many are to be kept from off-site, which overspend most, the solution of one;
    solving: the campaign whose solution is shown, or follows.
    """

    answer: Answer
    limits: int
    worst: list[WorstLine]
    solved: SolvedView | None
    solving: str


@dataclass(frozen=True, slots=True)
class PlacementsView:
    """Placements. campaigns: what is told of single ones, None where it follows, since targets have to be judged."""

    by: str
    groupings: tuple[str, ...]
    answer: Answer
    table: TableView
    campaigns: CampaignsView | None


def groupings(ask: Context) -> tuple[str, ...]:
    """What placements can be grouped by."""
    return (*placements.GROUPS, *movement.name_parts(ask.facts, ask.account))


def _rows(ask: Context) -> pl.DataFrame:
    """Placements in the grouping that is chosen."""
    return placements.judged(ask.facts, ask.selection, ask.scope.choice("by", groupings(ask)))


def _act(ask: Context, rows: pl.DataFrame, action: RowAction, value: Value, _: bool) -> list[Proposal]:
    return placements.by_hand(ask.selection, rows, action, value)


LIST: Final = ListSpec(
    _rows,
    fields,
    ("whose", "placement"),
    file=lambda _, rows: placements_table(rows),
    view="placements",
    actions=RowActions(placements.ADJUSTED, _act, {"by": "campaign"}),
)


def page(ask: Context) -> PlacementsView:
    """The view."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    by, of = ask.scope.choice("by", groupings(ask)), listed(ask, LIST)
    lines, page, pages = _shown(ask, of)
    now = by == "campaign" or ask.scope.own_value("whose") or placements.judged_soon(facts, selection)
    campaigns_view = campaigns(ask) if now else None
    return PlacementsView(
        by,
        groupings(ask),
        campaigns_view.answer
        if campaigns_view
        else answer(placements.judged(facts, selection, "account"), None, figures),
        replace(
            table_of(
                ask,
                of,
                (),
                table_heads(of, figures, campaigns=by == "campaign"),
                here=ask.url("delivery.view", name=HERE),
                name="placements",
                things="placements",
                groups=lines,
                empty="No placement data in this period." if of.rows.is_empty() else "No placements match.",
                opens=by == "campaign",
                picks=by == "campaign",
            ),
            page=page,
            pages=pages,
        ),
        campaigns_view,
    )


def _shown(ask: Context, of: ListedRows) -> tuple[dict[str, list[PlaceLine]], int, int]:
    """The lines of a page, under what they are placements of unless they are in an order of one's own; page, pages."""
    found = of.found
    if found.sort:
        return {"": list(chain.from_iterable(groups(found.shown, ask.figures).values()))}, found.page, found.pages
    named = found.rows["whose"].cast(pl.String).unique(maintain_order=True)
    pages = max(1, -(-len(named) // GROUPS_A_PAGE))
    page = min(ask.scope.page, pages)
    here = named.slice((page - 1) * GROUPS_A_PAGE, GROUPS_A_PAGE)
    lines = groups(found.rows.filter(pl.col("whose").cast(pl.String).is_in(here.implode())), ask.figures)
    alone = len(lines) < 2 and ask.scope.choice("by", groupings(ask)) == "account"
    return {"": list(chain.from_iterable(lines.values()))} if alone else lines, page, pages


def campaigns(ask: Context) -> CampaignsView:
    """What is told of single campaigns."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    limits = placements.to_limit(facts, selection)
    worst = placements.worst(facts, selection).filter(pl.col("on_site") > 0).head(WORST)
    chosen = ask.scope.own_value("whose") or (worst["campaign"][0] if len(worst) else "")
    if chosen:
        placements.of_campaign(facts, selection, chosen)
    known = chosen and solutions.solved_known(facts, selection, chosen, ask.planned_changes())
    return CampaignsView(
        answer(placements.judged(facts, selection, "account"), limits, figures),
        len(limits),
        worst_lines(worst, figures),
        solved(ask, chosen) if known else None,
        chosen,
    )


def solved(ask: Context, campaign: str) -> SolvedView:
    """A campaign's solution."""
    planned = ask.planned()
    found = solutions.solved(ask.facts, ask.selection, campaign, [each.change for each in planned])
    proposal = solutions.proposal(ask.facts, ask.selection, found)
    return SolvedView(
        campaign,
        campaign,
        solved_drawn(found, ask.figures),
        worded(proposal, ask.figures),
        ask.figures.aim(found.target_acos),
        in_plan(planned, proposal),
    )


def drawer(ask: Context, row_id: str) -> Drawer:
    """A placement of a campaign, and what is proposed on it."""
    figures, row = ask.figures, placements.row_of(ask.facts, ask.selection, row_id)
    brought = figures.counted(row["orders"], "order") if row["orders"] else "no order"
    converts = (
        f"At {figures.money(row['cpc'], 2)} a click it needs {figures.rate(row['needed_cvr'])} conversion. It converts"
        f" {figures.rate(row['cvr'])}."
    )
    campaign = str(row["campaign"])
    (proposal,) = proposals(ask.facts, ask.selection, "placements", [row_id], ask.planned_changes())
    return Drawer(
        row_id,
        PLACEMENTS.get(row["placement"], row["placement"]),
        campaign,
        f"{figures.counted(row['clicks'], 'click')} brought {brought} for {figures.micro(row['spend'])}.",
        converts if row["clicks"] else "",
        offered(ask, proposal),
        links=(
            ("Its base bid and adjustments", ask.scope.choose(ask.url("delivery.view", name=HERE), whose=campaign)),
            (
                "Highest cost of a click, by hour",
                ask.scope.choose(ask.url("delivery.view", name="boosts"), whose=campaign),
            ),
            ("Its targets", ask.scope.elsewhere(ask.url("targeting.table", name="targets"), campaign=campaign)),
        ),
    )
