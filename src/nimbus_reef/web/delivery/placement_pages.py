"""
Placements as their page shows them: share pairs, conversion against what is needed, the solution
drawn and in words.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis.delivery.placements import paid_now
from nimbus_reef.analysis.delivery.solutions import Solved
from nimbus_reef.analysis.offers import Offer
from nimbus_reef.core import evidence
from nimbus_reef.core.click_prices import ADJUSTABLE
from nimbus_reef.core.model import Bidding, Placement, Verdict, from_micro
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.axes import round_steps
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.offered import SharePair, Worded, effect_words, heads, share_pair, words_head
from nimbus_reef.web.kit.verdicts import mark_of

_LINE: Final = 120.0
_NEAR: Final = 0.1
"""Bids that are within this part of the base are taken to be there."""
_WIDE: Final = 540.0
NAMES: Final[Mapping[str, str]] = {
    Placement.TOP_OF_SEARCH.value: "top of search",
    Placement.ELSEWHERE_IN_SEARCH.value: "elsewhere in search",
    Placement.PRODUCT_PAGE.value: "product page",
    Placement.OFF_SITE.value: "off-site",
}


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
        name=NAMES.get(row["placement"], row["placement"]),
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
            f"{NAMES[best['placement']].capitalize()} earns {figures.money(best['rpc'], 2)} a click and pays "
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


def limit_worded(row: Mapping[str, Any], offer: Offer | None, figures: Figures) -> Worded:
    """
    Limiting a campaign's off-site traffic: proposed where it is above target, possible wherever it
    is not limited yet.
    """
    did = (
        f"{figures.counted(row['clicks'], 'click')} off-site brought "
        f"{figures.counted(row['orders'], 'order') if row['orders'] else 'no order'} for {figures.micro(row['spend'])}"
    )
    if offer is None:
        return Worded(None, "it is limited already", (did,))
    effect = effect_words(offer.projected, figures)
    if row["verdict"] == Verdict.COSTLY.value:
        needs = (
            f"they must convert {figures.rate(row['needed_cvr'])} at their price; that they do is"
            f" {figures.one_in(1 - row['p_over'])}"
        )
        tested = () if row["own_test"] else (_BY_OTHERS,)
        return Worded(offer, "limit off-site", (did, needs, *tested), effect)
    why = "it is within target" if row["verdict"] == Verdict.FINE.value else f"its evidence says {row['verdict']}"
    return Worded(offer, "leave it", (did, why, "you can limit it all the same"), effect, proposed=False)


_BY_OTHERS: Final = "its own clicks are too few for an order; what off-site clicks do in other campaigns decides"


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
                NAMES[place.value],
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


def solved_worded(solved: Solved, highest: float | None, figures: Figures) -> Worded:
    """The solution in words."""
    found, offer = solved.solution, solved.offer
    if found is None:
        return Worded(None, "no solution", ("the campaign sold nothing: no placement says what a click is worth",))
    raises = ", ".join(
        f"{NAMES[place.value]} +{figures.rate(value, 0)}" for place, value in found.adjustments.items() if value
    )
    bids = "the base bid"
    if solved.base_now is not None and solved.base_next is not None:
        bids = f"base {figures.number(solved.base_now)} → {figures.number(solved.base_next)}"
    headline = f"{bids} on {figures.counted(solved.moved, 'target')}" + (f", {raises}" if raises else "")
    reasons = [
        (
            f"{NAMES[found.sets_base.value]} sets the base: the lowest worth of a click among placements with at least "
            f"{figures.rate(found.base_share, 0)} of the clicks"
        ),
        (
            "at that base with its raises a click in every placement costs what it may at"
            f" {figures.aim(solved.target_acos)}"
        ),
    ]
    if solved.base_next is not None and abs(solved.base_next - found.base) > _NEAR * found.base:
        reasons.append(
            f"bids move a step at a time: the base of {figures.money(found.base, 2)} takes more rounds"
            if solved.base_next > found.base
            else (
                f"proposed bids are below the base of {figures.money(found.base, 2)}: each target keeps what it"
                " proposes"
            )
        )
    if solved.acos_after is not None and solved.acos_range is not None:
        low, high = solved.acos_range
        before = figures.rate(solved.acos_now, 0) if solved.acos_now is not None else "no sales"
        reasons.append(
            f"ACOS {before} → {figures.percent(low, 0)} to {figures.rate(high, 0)} is likely, off-site included"
        )
    if solved.bidding == Bidding.UP_AND_DOWN.value and highest is not None:
        reasons.append(f"dynamic raising is on: a click can cost up to {figures.money(highest, 2)} at the top")
    if offer is None:
        return Worded(None, "bids and adjustments are right as they are", tuple(reasons))
    effect = effect_words(offer.projected, figures)
    return Worded(offer, headline, tuple(reasons), effect, name=solved.campaign)


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
            figures.percent(row["spend"] / row["sales"] if row["sales"] else None, 0),
        )
        for row in rows.to_dicts()
    ]
