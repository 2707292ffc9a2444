"""
Placements as their page shows them: share pairs, conversion against what is needed, the solution
drawn and in words.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import movement
from nimbus_reef.analysis.acceptance import InPlan, in_plan
from nimbus_reef.analysis.delivery import placements, solutions
from nimbus_reef.analysis.delivery.placements import paid_now
from nimbus_reef.analysis.delivery.solutions import Solved
from nimbus_reef.analysis.proposals import proposals
from nimbus_reef.analysis.wording import PLACEMENTS, Worded, worded
from nimbus_reef.core import evidence
from nimbus_reef.core.click_prices import ADJUSTABLE
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import Placement, Verdict, from_micro
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.axes import round_steps
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.drawers import Drawer, offered
from nimbus_reef.web.kit.shares import SharePair, share_pair
from nimbus_reef.web.kit.tables import TableView, heads, words_head
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


LIMITED: Final[Mapping[str, str]] = {"all": "all", "yes": "off-site limited", "no": "off-site not limited"}
"""Filters of campaigns by whether off-site is limited."""


def table_heads(figures: Figures, *, campaigns: bool) -> Any:
    """The heads of the table; campaigns: its rows are placements of campaigns."""
    limited = (words_head("limited", "whether the campaign is kept from off-site"),) if campaigns else ()
    return heads(
        "placement",
        words_head("share of spend over sales"),
        f"spend {figures.symbol}",
        f"ad sales {figures.symbol}",
        "clicks",
        words_head(
            "conversion, likely range, needed",
            "the range is likely four times in five; the upright bar is what its price per click needs",
        ),
        "CVR %",
        f"CPC {figures.symbol}",
        (f"RPC {figures.symbol}", "sales ÷ clicks"),
        "ACOS %",
        words_head("evidence"),
        *limited,
    )


def groups(rows: pl.DataFrame, figures: Figures) -> dict[str, list[PlaceLine]]:
    """Lines by what they are placements of."""
    listed = rows.to_dicts()
    furthest = max((_reach(row) for row in listed), default=0.0) or 1.0
    made: dict[str, list[PlaceLine]] = {}
    for row in listed:
        made.setdefault(str(row["whose"]), []).append(_line(row, furthest, figures))
    return made


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
    tone = {"costly": "loss", "leaning": "loss", "fine": "gain"}.get(kind, "")
    needed = row["needed_cvr"]
    words = f"needs {figures.rate(needed)}" if needed is not None else ""
    return PlaceLine(
        key=row["row_id"],
        name=PLACEMENTS.get(row["placement"], row["placement"]),
        pair=share_pair(row, figures, ahead=kind == "costly" and (row["share_spend"] or 0) > (row["share_sales"] or 0)),
        spend=figures.count(from_micro(row["spend"])),
        sales=figures.count(from_micro(row["sales"])),
        clicks=figures.count(row["clicks"]),
        range=RangeMark(
            low,
            high,
            mean,
            None if needed is None or needed > furthest else _x(needed, furthest),
            tone,
            kind in ("costly", "fine"),
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
    told = {row["placement"]: row for row in rows.to_dicts()}
    off = told.get(Placement.OFF_SITE.value)
    on_site = [told[place.value] for place in ADJUSTABLE if place.value in told and told[place.value]["clicks"]]
    best = max(on_site, key=lambda row: row["rpc"] or 0, default=None)
    rest = ""
    if best is not None:
        rest = (
            f"{PLACEMENTS[best['placement']].capitalize()} earns {figures.money(best['rpc'], 2)} a click and pays "
            f"{figures.money(best['cpc'], 2)}."
        )
    if off is None or not off["clicks"]:
        return Answer("Nothing was shown off-site in these days.", rest)
    bold = (
        f"Off-site takes {figures.rate(off['share_spend'], 0)} of the spend and brings "
        f"{figures.rate(off['share_sales'], 0)} of the sales."
    )
    return Answer(bold, f"{off_site_words(off, limits, figures)} {rest}")


def off_site_words(off: Mapping[str, Any], limits: pl.DataFrame | None, figures: Figures) -> str:
    """Whether to limit it, with the reason either way."""
    clicks = figures.counted(off["clicks"], "click")
    acos = figures.rate(off["acos"], 0) if off["acos"] is not None else "no sales"
    if off["verdict"] == Verdict.COSTLY.value:
        said = f"{figures.micro(off['stake'])} a month above target after {clicks}: no matter of luck."
        if limits is None:
            return said
        return f"{said} {_limits_words(limits, figures)}"
    there = _limits_words(limits, figures) if limits is not None and len(limits) else ""
    if off["verdict"] == Verdict.FINE.value and off["own_test"] and off["sales"]:
        return f"It pays as a whole: ACOS {acos} after {clicks}. {there}".strip()
    so_far = acos if off["acos"] is None else f"ACOS {acos}"
    return f"{clicks} are too few to tell whether it pays ({so_far}). {there}".strip()


def _limits_words(limits: pl.DataFrame, figures: Figures) -> str:
    """In how many campaigns it is above target, and in how many of them their own clicks show it."""
    if limits.is_empty():
        return "No single campaign is above target for sure."
    tested = int(limits["own_test"].sum())
    several = len(limits) != 1
    if tested == len(limits):
        own = "each by its own clicks" if several else "by its own clicks"
    elif tested:
        own = (
            f"{figures.count(tested)} by their own clicks, {figures.count(len(limits) - tested)} by what off-site"
            " clicks do elsewhere"
        )
    else:
        own = (
            "by what off-site clicks do elsewhere: its own are too few"
            if not several
            else "by what off-site clicks do elsewhere: their own are too few"
        )
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
    costly: str
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
    limited: str
    limited_choices: tuple[tuple[str, str], ...]
    answer: Answer
    table: TableView
    campaigns: CampaignsView | None


def groupings(ask: Context) -> tuple[str, ...]:
    """What placements can be grouped by."""
    return (*placements.GROUPS, *movement.name_parts(ask.account))


def rows(ask: Context) -> pl.DataFrame:
    """Placements in the grouping and with the limit that are chosen."""
    by = ask.scope.choice("by", groupings(ask))
    return placements.narrowed(placements.judged(ask.facts, ask.look, by), _limits_chosen(ask, by))


def _limits_chosen(ask: Context, by: str) -> str:
    return ask.scope.choice("limited", tuple(LIMITED)) if by == "campaign" else ""


def page(ask: Context) -> PlacementsView:
    """The view."""
    facts, look, figures = ask.facts, ask.look, ask.figures
    by, held = ask.scope.choice("by", groupings(ask)), rows(ask)
    limited = _limits_chosen(ask, by)
    named = held["whose"].cast(pl.String).unique(maintain_order=True)
    of = max(1, -(-len(named) // GROUPS_A_PAGE))
    page = min(ask.scope.page, of)
    shown = named.slice((page - 1) * GROUPS_A_PAGE, GROUPS_A_PAGE)
    now = by == "campaign" or ask.scope.said("whose") or placements.judged_soon(facts, look)
    told = campaigns(ask) if now else None
    lines = groups(held.filter(pl.col("whose").cast(pl.String).is_in(shown.implode())), figures)
    return PlacementsView(
        by,
        groupings(ask),
        limited,
        tuple(LIMITED.items()),
        told.answer if told else answer(placements.judged(facts, look, "account"), None, figures),
        TableView(
            here=ask.url("delivery.view", name=HERE),
            name="placements",
            heads=table_heads(figures, campaigns=by == "campaign"),
            groups=lines if len(lines) > 1 or by != "account" else {"": next(iter(lines.values()), [])},
            page=page,
            pages=of,
            empty="No placement matches." if limited else "No placement data in this period.",
            opens=by == "campaign",
            picks=by == "campaign",
        ),
        told,
    )


def campaigns(ask: Context) -> CampaignsView:
    """What is told of single campaigns."""
    facts, look, figures = ask.facts, ask.look, ask.figures
    limits = placements.to_limit(facts, look)
    worst = placements.worst(facts, look).filter(pl.col("on_site") > 0).head(WORST)
    chosen = ask.scope.said("whose") or (worst["campaign"][0] if len(worst) else "")
    if chosen:
        placements.of_campaign(facts, look, chosen)
    known = chosen and solutions.solved_known(facts, look, chosen, ask.planned_changes())
    return CampaignsView(
        answer(placements.judged(facts, look, "account"), limits, figures),
        len(limits),
        worst_lines(worst, figures),
        solved(ask, chosen) if known else None,
        chosen,
    )


def solved(ask: Context, campaign: str) -> SolvedView:
    """A campaign's solution."""
    planned = ask.planned()
    found = solutions.solved(ask.facts, ask.look, campaign, [each.change for each in planned])
    proposal = solutions.proposal(ask.facts, ask.look, found)
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
    figures, row = ask.figures, placements.row_of(ask.facts, ask.look, row_id)
    brought = figures.counted(row["orders"], "order") if row["orders"] else "no order"
    converts = (
        f"At {figures.money(row['cpc'], 2)} a click it must convert {figures.rate(row['needed_cvr'])}; it converts"
        f" {figures.rate(row['cvr'])}."
    )
    campaign = str(row["campaign"])
    (proposal,) = proposals(ask.facts, ask.look, "placements", [row_id], ask.planned_changes())
    return Drawer(
        row_id,
        PLACEMENTS.get(row["placement"], row["placement"]),
        campaign,
        f"{figures.counted(row['clicks'], 'click')} brought {brought} for {figures.micro(row['spend'])}.",
        converts if row["clicks"] else "",
        offered(ask, proposal),
        links=(
            (
                "Its base bid and adjustments, drawn",
                ask.scope.choose(ask.url("delivery.view", name=HERE), whose=campaign),
            ),
            (
                "What a click can cost, hour by hour",
                ask.scope.choose(ask.url("delivery.view", name="boosts"), whose=campaign),
            ),
            ("Its targets", ask.scope.elsewhere(ask.url("targeting.table", name="targets"), campaign=campaign)),
        ),
    )
