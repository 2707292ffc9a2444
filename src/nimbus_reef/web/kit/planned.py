"""Planned changes in words: old → new with reasons, their projection, and all of them together in a strip."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.core import plan, projection
from nimbus_reef.core.changes import ChangeState, Entity, kind_of, named, word_of
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import State, from_micro
from nimbus_reef.core.promises import Promise, PromiseKind, projected
from nimbus_reef.core.windows import month_factor
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import plans
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.kit.opened import OPENED
from nimbus_reef.web.params import Scope


@dataclass(frozen=True, slots=True)
class PlanStrip:
    """The line at the bottom of every page. unknown: how many changes have an effect that no report tells."""

    count: int
    spend: str
    sales: str
    acos: str
    unknown: int


def own_shares(planned: Sequence[Planned], shares: pl.DataFrame) -> dict[int, float]:
    """By change id, the part of a negative's money that nothing planned before it stops: see `core.plan.own_shares`."""
    paused = [int(each.promise.row_id) for each in planned if _pauses(each)]
    negatives = {each.id: _terms_of(each) for each in planned if _keeps_away(each)}
    return plan.own_shares(paused, negatives, shares)


def _terms_of(negative: Planned) -> list[str]:
    """Row ids of the search terms that a negative keeps away: one, or those that hold its words."""
    return list(negative.promise.terms or [negative.promise.row_id])


def overlaps(planned: Sequence[Planned]) -> bool:
    """True when a pause or a phrase and a negative are both planned: they may stop the same money."""
    negatives = [each for each in planned if _keeps_away(each)]
    wide = any(_pauses(each) for each in planned) or any(each.promise.terms for each in negatives)
    return wide and bool(negatives)


def _stops(each: Planned) -> bool:
    change = each.change
    return (change.entity, change.field, change.new_value) == (Entity.TARGET, "state", State.PAUSED)


def _pauses(each: Planned) -> bool:
    """Stops a whole target."""
    return _stops(each) and each.promise.view == "targets"


def _keeps_away(each: Planned) -> bool:
    """Stops search terms: a negative, or the pause of a term's own exact keyword."""
    return each.change.entity is Entity.NEGATIVE or (_stops(each) and each.promise.view == "terms")


def account_strip(facts: Facts, scope: Scope, figures: Figures) -> PlanStrip:
    """The waiting changes of an account together. Kept until the plan changes."""
    account = scope.account

    def make() -> PlanStrip:
        planned = plans.planned(facts.store, account.id)
        month = _month(facts, scope) if planned else (0.0, 0.0)
        shared = scope.newest is not None and overlaps(planned)
        own = own_shares(planned, target_frames.term_shares(facts, account.id, scope.window)) if shared else {}
        return strip(planned, month, figures, own)

    return facts.kept("strip", account.id, make, plans.generation(facts.store, account.id), scope.window, figures)


def _month(facts: Facts, scope: Scope) -> tuple[float, float]:
    """Spend and sales of all targets in scope per 30 days, in units."""
    if scope.newest is None:
        return 0.0, 0.0
    source = facts.target_source(scope.account.id, scope.window).kind
    days = facts.by_day(scope.account.id, source, scope.window, ("spend", "sales"))
    spend, sales = (from_micro(int(days[name].sum())) for name in ("spend", "sales"))
    monthly = month_factor(facts.monthly_days(scope.account.id, source, scope.window))
    return spend * monthly, sales * monthly


def strip(
    planned: Sequence[Planned], month: tuple[float, float], figures: Figures, own: Mapping[int, float]
) -> PlanStrip:
    """
    All waiting changes together, the same money once.

    month: the account's spend and sales per 30 days. own: see `own_shares`.
    """
    parts = {
        each.id: projection.part_of(projected(each.change, each.promise), own.get(each.id, 1.0)) for each in planned
    }
    elsewhere = plan.counted_elsewhere(_cuts(planned, parts))
    together = projection.total(part for number, part in parts.items() if number not in elsewhere)
    spend, sales = month
    acos = ""
    if planned and together.known and sales > 0 and sales + together.sales.middle > 0:
        after = ratio(spend + together.spend.middle, sales + together.sales.middle)
        acos = f"{figures.percent(ratio(spend, sales))} → {figures.rate(after)}"
    unknown = sum(not part.known for part in parts.values())
    entries = (figures.span(together.spend), figures.span(together.sales)) if together.known else ("unknown", "unknown")
    return PlanStrip(len(planned), *entries, acos, unknown)


_VIEWS: Final = {
    Entity.TARGET: plan.MoneyView.TARGETS,
    Entity.NEGATIVE: plan.MoneyView.TARGETS,
    Entity.PRODUCT_AD: plan.MoneyView.ADS,
    Entity.PLACEMENT: plan.MoneyView.PLACEMENTS,
}


def _cuts(planned: Sequence[Planned], parts: Mapping[int, projection.Projected]) -> list[plan.Cut]:
    """
    What lowers spend, by the view of the campaign it was found in. The bids of a solution are those of their targets,
    and its adjustments promise what they add to these bids, so neither is another view of the same spend.
    """
    found = []
    for each in planned:
        if each.change.entity is Entity.PLACEMENT and each.change.package:
            continue
        is_placement = each.promise.view == "placements" and each.change.entity is not Entity.TARGET
        view = plan.MoneyView.PLACEMENTS if is_placement else _VIEWS.get(each.change.entity)
        spend = parts[each.id].spend.middle
        if view is not None and spend < 0:
            found.append(plan.Cut(each.id, each.change.campaign, each.change.ad_group, view, -spend))
    return found


@dataclass(frozen=True, slots=True)
class PlanLine:
    """
    One change, ready to show. opens: endpoint, view, key and row of what it rests on; text: its value is words;
    package: how many changes are taken out together with it, itself included, 0 for one alone; held_to: by what it will
    be judged; left: how it stands since it left; made: what it makes besides itself: change, thing and value of each.
    """

    key: int
    row: int
    what: str
    where: str
    action: str
    old: str
    new: str
    editable: bool
    text: bool
    effect_spend: str
    effect_sales: str
    reason: str
    reason_rest: str
    problem: str
    opens: tuple[str, str, str, str]
    package: int
    held_to: str = ""
    left: str = ""
    contents: tuple[tuple[str, str, str], ...] = ()


def _opens(each: Planned) -> tuple[str, str, str, str]:
    """Endpoint, view, key and row that a change opens."""
    endpoint, key = OPENED[each.promise.view]
    return endpoint, each.promise.view, key, each.promise.row_id


def made_under(planned: Sequence[Planned]) -> dict[int, list[Planned]]:
    """What belongs to a row that makes something, by that row: a new campaign with all that is in it is one tree."""
    by_row = {each.change.row: each for each in planned}
    found: dict[int, list[Planned]] = {}
    for each in planned:
        root = each
        while root.change.parent and root.change.parent in by_row:
            root = by_row[root.change.parent]
        if root is not each:
            found.setdefault(root.change.row, []).append(each)
    return found


def lines(
    shown: Sequence[Planned],
    figures: Figures,
    planned: Sequence[Planned] | None = None,
    under: Mapping[int, Sequence[Planned]] | None = None,
) -> dict[str, list[PlanLine]]:
    """
    The changes by campaign, in the order they were accepted; planned: all, where not all are shown; under: see
    `made_under`.
    """
    wrong = {
        problem.row: f"{problem.column} {problem.reason}"
        for problem in plan.problems([p.change for p in planned or shown])
    }
    sizes = Counter(each.change.package for each in planned or shown)
    grouped: dict[str, list[PlanLine]] = {}
    for each in shown:
        change, effect, kind = each.change, projected(each.change, each.promise), kind_of(each.change)
        what, where = named(change)
        negative = change.entity is Entity.NEGATIVE
        grouped.setdefault(change.campaign, []).append(
            PlanLine(
                key=each.id,
                row=change.row,
                what=what,
                where=where,
                action=word_of(change),
                old=change.old_value or ("not there" if negative else ""),
                new=change.match_type.replace("_", " ") if negative else change.new_value,
                editable=bool(kind and kind.editable),
                text=bool(kind and not kind.holds.is_number),
                effect_spend=figures.span(effect.spend) if effect.known else "unknown",
                effect_sales=figures.span(effect.sales) if effect.known else "unknown",
                reason=_first_reason(change.reason),
                reason_rest=change.reason if _first_reason(change.reason) != change.reason else "",
                problem=wrong.get(change.row, ""),
                opens=_opens(each),
                package=sizes[change.package] if change.package else 0,
                held_to=_held_to(each.promise),
                left=_LEFT.get(each.state, ""),
                contents=tuple(_made(one) for one in (under or {}).get(change.row, ())),
            )
        )
    return grouped


_LEFT: Final = {ChangeState.SENT: "sent, no answer yet", ChangeState.FAILED: "failed when it was sent"}


def _first_reason(text: str) -> str:
    """The first of the reasons, which says why; the others say how far and by what."""
    return re.split(r"(?<=[.;]) ", text, maxsplit=1)[0].rstrip(";")


def _made(each: Planned) -> tuple[str, str, str]:
    what, _ = named(each.change)
    return word_of(each.change), what, each.change.new_value


def _held_to(promise: Promise) -> str:
    if promise.kind is PromiseKind.NOTHING:
        return ""
    first, last = promise.after
    return f"Measured {first} to {last} days later by {promise.kind.value}, against {promise.against.value}"
