"""What the plan says: changes old → new with reasons, their projection, the strip."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from typing import Any

import polars as pl

from nimbus_reef.core import plan, projection
from nimbus_reef.core.plan import Entity
from nimbus_reef.core.projection import Projected, Range
from nimbus_reef.store.plans import Planned
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.tables import PAGE_ROWS


def projected_of(planned: Planned) -> Projected:
    """The projection of a change: as accepted, or anew when a bid was edited since."""
    basis = planned.basis
    change = planned.change
    if change.entity is Entity.TARGET and change.field == "bid":
        try:
            old, new = float(change.old_value), float(change.new_value)
        except ValueError:
            return projection.NOTHING
        return projection.bid_moved(_basis(basis), old, new)
    stored = basis["projected"]
    return Projected(Range(*stored["spend"]), Range(*stored["sales"]))


def _basis(basis: Any) -> projection.Basis:
    first, last = (date.fromisoformat(text) for text in basis["window"])
    return projection.Basis(
        (last - first).days + 1, basis["clicks"], basis["spend"], basis["sales"],
        basis["a"], basis["b"], basis["aov"],
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Strip:
    """The line at the bottom of every page."""

    count: int
    spend: str
    sales: str
    acos: str


def own_shares(planned: Sequence[Planned], shares: pl.DataFrame) -> dict[int, float]:
    """
    By change id, the part of a negative's money that nothing planned before it stops already.

    shares: what each target spent on each term: ad_group_id, normal_id, target_id, spend.
    A term under a paused target, or kept away by an earlier negative, counts there. Negatives
    whose money is all their own are left out.
    """
    paused = [int(each.basis["row_id"]) for each in planned if _pauses(each)]
    negatives = {each.id: _terms_of(each) for each in planned if each.change.entity is Entity.NEGATIVE}
    wanted = {row_id for rows in negatives.values() for row_id in rows}
    sums = (
        shares.with_columns(
            row_id=pl.concat_str("ad_group_id", "normal_id", separator="-"),
            stopped=pl.when(pl.col("target_id").is_in(paused)).then("spend").otherwise(0),
        )
        .filter(pl.col("row_id").is_in(list(wanted)))
        .group_by("row_id")
        .agg(pl.col("spend", "stopped").sum())
    )
    whole = {row_id: (spend, spend - stopped) for row_id, spend, stopped in sums.rows()}
    left = {row_id: free for row_id, (_, free) in whole.items()}
    own = {}
    for change_id, rows in negatives.items():
        spend = sum(whole[row_id][0] for row_id in rows if row_id in whole)
        free = sum(left.pop(row_id, 0) for row_id in rows)
        if free < spend:
            own[change_id] = free / spend
    return own


def _terms_of(negative: Planned) -> list[str]:
    """Row ids of the search terms that a negative keeps away: one, or those that hold its words."""
    return list(negative.basis.get("terms") or [negative.basis["row_id"]])


def overlaps(planned: Sequence[Planned]) -> bool:
    """True when a pause or a phrase and a negative are both planned: they may stop the same money."""
    negatives = [each for each in planned if each.change.entity is Entity.NEGATIVE]
    wide = any(_pauses(each) for each in planned) or any(each.basis.get("terms") for each in negatives)
    return wide and bool(negatives)


def _pauses(each: Planned) -> bool:
    return each.change.entity is Entity.TARGET and each.change.field == "state"


def strip(
    planned: Sequence[Planned], month: tuple[float, float], figures: Figures, own: Mapping[int, float]
) -> Strip:
    """
    All waiting changes together, the same money once.

    month: the account's spend and sales per 30 days. own: see `own_shares`.
    """
    together = projection.total(
        projection.part_of(projected_of(each), own.get(each.id, 1.0)) for each in planned
    )
    spend, sales = month
    acos = ""
    if planned and sales > 0 and sales + together.sales.middle > 0:
        after = (spend + together.spend.middle) / (sales + together.sales.middle)
        acos = f"{figures.percent(spend / sales)} → {figures.rate(after)}"
    return Strip(len(planned), figures.span(together.spend), figures.span(together.sales), acos)


@dataclass(frozen=True, slots=True)
class PlanLine:
    """One change, ready to show."""

    id: int
    row: int
    what: str
    where: str
    action: str
    old: str
    new: str
    editable: bool
    effect_spend: str
    effect_sales: str
    reason: str
    problem: str
    open_view: str
    open_row: str


_ACTIONS = {
    ("target", "bid"): "bid",
    ("target", "state"): "state",
    ("negative", "state"): "new negative",
}


@dataclass(frozen=True, slots=True)
class Page:
    """The changes of one page, and how many pages and campaigns there are."""

    planned: Sequence[Planned]
    number: int
    of: int
    campaigns: int


def page_of(planned: Sequence[Planned], number: int) -> Page:
    """A page of the plan, its changes by campaign; the last where there are not so many."""
    order = {name: place for place, name in enumerate(dict.fromkeys(p.change.campaign for p in planned))}
    by_campaign = sorted(planned, key=lambda each: order[each.change.campaign])
    pages = max(1, -(-len(planned) // PAGE_ROWS))
    number = min(number, pages)
    return Page(by_campaign[(number - 1) * PAGE_ROWS : number * PAGE_ROWS], number, pages, len(order))


def lines(
    shown: Sequence[Planned], figures: Figures, planned: Sequence[Planned] | None = None
) -> dict[str, list[PlanLine]]:
    """The changes by campaign, in the order they were accepted; planned: all, where not all are shown."""
    wrong = {
        problem.row: f"{problem.column} {problem.reason}"
        for problem in plan.problems([p.change for p in planned or shown])
    }
    grouped: dict[str, list[PlanLine]] = {}
    for each in shown:
        change, effect = each.change, projected_of(each)
        negative = change.entity is Entity.NEGATIVE
        grouped.setdefault(change.campaign, []).append(
            PlanLine(
                id=each.id, row=change.row, what=change.target,
                where=change.ad_group if negative else f"{change.match_type} · {change.ad_group}",
                action=_ACTIONS.get((change.entity.value, change.field), change.field),
                old=change.old_value or ("not there" if negative else ""),
                new=change.match_type.replace("_", " ") if negative else change.new_value,
                editable=change.field == "bid",
                effect_spend=figures.span(effect.spend), effect_sales=figures.span(effect.sales),
                reason=change.reason, problem=wrong.get(change.row, ""),
                open_view=str(each.basis.get("view", "targets")), open_row=str(each.basis.get("row_id", "")),
            )
        )  # fmt: skip
    return grouped
