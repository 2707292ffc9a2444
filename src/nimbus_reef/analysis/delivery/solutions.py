"""The base bid and the adjustments of a campaign, solved together: one package, computed with what the plan holds."""

from __future__ import annotations

import math
from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import bid_advice, bid_response
from nimbus_reef.analysis.delivery import placements, plan_prices
from nimbus_reef.analysis.judged import AT_ONCE, Judged, is_judged, judged_targets
from nimbus_reef.analysis.judged_proposals import core_row, judged, limits_of, monthly_days, recommended
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core import click_prices
from nimbus_reef.core import placements as rules
from nimbus_reef.core.boosts import WEEK
from nimbus_reef.core.changes import Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.checks.delivery import COSTLY_PLACEMENTS
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import Bidding, Placement, State, Verdict
from nimbus_reef.core.placements import PlacementSums, Solution
from nimbus_reef.core.projection import NOTHING, Projected, Range, bid_moved
from nimbus_reef.core.promises import Promise
from nimbus_reef.core.proposals import EntityKey, Package, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.windows import month_factor
from nimbus_reef.store.reading import setting_frames
from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class Solved:
    """
    A campaign's placements solved: its rows, target, solution (None where it sold nothing), the base bid now and after
    this round of steps (None without known bids), acos now, after and its range, how many targets it moves, the changes
    (none where nothing moves) and what all of them do in 30 days.
    """

    campaign: str
    rows: pl.DataFrame
    target_acos: float
    solution: Solution | None
    base_now: float | None
    base_next: float | None
    acos_now: float | None
    acos_after: float | None
    acos_range: tuple[float, float] | None
    moved: int
    bidding: str
    package: Package = ()
    effect: Projected = NOTHING


def solved(facts: Facts, selection: Selection, campaign: str, planned: Sequence[Change] = ()) -> Solved:
    """
    The base bid and adjustments for a campaign, and every target's new bid; NotFound where it has no placements. Kept.

    planned: what the plan holds: bids in it are what the solution starts from, and what it pauses has no part in it.
    """
    own = _beside(campaign, planned)
    key = _solved_key(selection, campaign, own)
    return facts.kept("solved placements", selection.account.id, lambda: _solved(facts, selection, campaign, own), *key)


def solved_known(facts: Facts, selection: Selection, campaign: str, planned: Sequence[Change] = ()) -> bool:
    """Whether that costs next to nothing: it was done, or the targets that it asks for are judged already and few."""
    key = _solved_key(selection, campaign, _beside(campaign, planned))
    if facts.known("solved placements", selection.account.id, *key) is not None:
        return True
    return is_judged(facts, selection, Judged.TARGETS) and len(judged_targets(facts, selection)) < AT_ONCE


def _beside(campaign: str, planned: Sequence[Change]) -> tuple[Change, ...]:
    """What the plan holds of a campaign beside a solution of it, as far as it moves a price."""
    return tuple(
        each
        for each in planned
        if each.campaign == campaign and each.finding != COSTLY_PLACEMENTS.key and click_prices.touches_price(each)
    )


def _solved_key(selection: Selection, campaign: str, planned: tuple[Change, ...]) -> tuple[Hashable, ...]:
    return *bid_advice.advice_key(selection), campaign, planned


def _solved(facts: Facts, selection: Selection, campaign: str, planned: tuple[Change, ...]) -> Solved:
    whole = selection.whole
    rows = placements.of_campaign(facts, selection, campaign)
    days = facts.monthly_days(selection.account.id, placements.KIND, selection.window)
    listed = rows.to_dicts()
    every = [placements.place_sums(row) for row in listed]
    places = rules.remaining(every, *_parts_left(facts, whole, campaign, planned))
    target = float(listed[0]["target_acos"])
    found = rules.solve(places, target, selection.account.settings.base_share)
    spend, sales = sum(each.spend for each in every), sum(each.sales for each in every)
    now = ratio(spend, sales)
    bidding = str(listed[0]["bidding"] or "")
    if found is None:
        return Solved(campaign, rows, target, None, None, None, now, None, None, 0, bidding)
    if rules.is_right(places, found):
        return Solved(campaign, rows, target, found, None, None, now, None, None, 0, bidding)
    raised = _adjustments(campaign, listed, found)
    bids = _bids(facts, whole, campaign, found, planned, [each for each, _ in raised])
    old, new = _weighed(bids)
    moved_by = new / old if old and new else found.ratio
    response = bid_response.learned(facts, selection)
    change_of_all, after, around = rules.outcome(places, moved_by, found.adjustments, days, response)
    changes = [
        *(
            (each, _promised(selection, place, listed, places, found, moved_by, days, response))
            for each, place in raised
        ),
        *((each.change, each.promise) for each in bids if each.change.new_value != each.change.old_value),
    ]
    return Solved(
        campaign,
        rows,
        target,
        found,
        old,
        new,
        now,
        after,
        around,
        sum(each.change.new_value != each.change.old_value for each in bids),
        bidding,
        tuple(changes),
        change_of_all if changes else NOTHING,
    )


def _parts_left(
    facts: Facts, selection: Selection, campaign: str, planned: Sequence[Change]
) -> tuple[float, float, float]:
    """The parts of a campaign's clicks, spend and sales of targets that the plan does not pause."""
    now = plan_prices.campaigns_of(facts, selection, [campaign]).get(campaign)
    if not planned or now is None:
        return 1.0, 1.0, 1.0
    then = click_prices.after(now, planned)
    paused = [key for key, each in now.targets.items() if each.live and not then.targets[key].live]
    rows = judged_targets(facts, selection).filter(pl.col("campaign").cast(pl.String) == campaign)
    names = pl.DataFrame(paused, schema=dict.fromkeys(("ad_group", "target", "match_type"), pl.String), orient="row")
    gone = rows.with_columns(pl.col(names.columns).cast(pl.String)).join(names, on=names.columns, how="semi")
    sums = [(int(gone[name].sum()), int(rows[name].sum())) for name in ("clicks", "spend", "sales")]
    clicks, spend, sales = (1 - part / of if of else 1.0 for part, of in sums)
    return clicks, spend, sales


def proposal(facts: Facts, selection: Selection, found: Solved) -> Proposal:
    """A campaign's base bid and adjustments, or why they stay."""
    subject = EntityKey(Subject.CAMPAIGN, found.campaign)
    solution = found.solution
    if solution is None:
        why = (Reason(ReasonKey.SOLD_NOTHING),)
        return Proposal(subject, found.campaign, Headline(HeadlineKey.NO_SOLUTION), reasons=why)
    reasons = (
        Reason(ReasonKey.SETS_BASE, (solution.sets_base.value, solution.base_share)),
        Reason(ReasonKey.COSTS_WHAT_IT_MAY, (found.target_acos,)),
        *_about_base(found, solution),
        *_about_highest(facts, selection, found),
    )
    if not found.package:
        return Proposal(subject, found.campaign, Headline(HeadlineKey.STAYS), reasons=reasons)
    raised = tuple(each for place, value in solution.adjustments.items() if value for each in (place.value, value))
    return Proposal(
        subject,
        found.campaign,
        Headline(HeadlineKey.SOLVE, (found.base_now, found.base_next, found.moved, *raised)),
        found.package,
        reasons,
        effect=found.effect,
        name=found.campaign,
    )


_NEAR: Final = 0.1
"""Bids that are within this part of the base are taken to be there."""


def _about_base(found: Solved, solution: Solution) -> list[Reason]:
    entries = []
    if found.base_next is not None and abs(found.base_next - solution.base) > _NEAR * solution.base:
        above = found.base_next > solution.base
        entries.append(Reason(ReasonKey.MORE_ROUNDS if above else ReasonKey.BELOW_BASE, (solution.base,)))
    if found.acos_after is not None and found.acos_range is not None:
        entries.append(Reason(ReasonKey.ACOS_LIKELY, (found.acos_now, *found.acos_range)))
    return entries


def _about_highest(facts: Facts, selection: Selection, found: Solved) -> list[Reason]:
    """What a click can cost at most where the marketplace raises bids by itself."""
    if not found.package or found.bidding != Bidding.UP_AND_DOWN.value:
        return []
    now = plan_prices.campaigns_of(facts, selection, [found.campaign])[found.campaign]
    then = click_prices.after(now, [each for each, _ in found.package])
    highest = max(max(click_prices.highest_bids(then, weekday)[Placement.TOP_OF_SEARCH]) for weekday in WEEK)
    return [Reason(ReasonKey.DYNAMIC_RAISING, (highest,))]


@dataclass(frozen=True, slots=True)
class _Bid:
    """One target's bid under a solution; clicks: what it weighs."""

    change: Change
    promise: Promise
    old: float
    new: float
    clicks: int


def _bids(
    facts: Facts,
    selection: Selection,
    campaign: str,
    found: Solution,
    planned: Sequence[Change],
    raised: Sequence[Change],
) -> list[_Bid]:
    """
    Every live target with a known bid: its proposed bid, or that of the plan, × M × base ÷ (RPC × target). What is
    judged above target costs nowhere more a click with these adjustments than it does today, be it a target or a
    placement.
    """
    now = plan_prices.campaigns_of(facts, selection, [campaign]).get(campaign)
    rows = judged(facts, selection, Subject.TARGET).filter(
        pl.col("campaign").cast(pl.String) == campaign,
        pl.col("bid").is_not_null(),
        pl.col("state").cast(pl.String).fill_null(State.ENABLED.value) == State.ENABLED.value,
    )
    if now is None:
        return []
    then = click_prices.after(now, [*planned, *raised])
    before = click_prices.after(now, planned)
    entries = []
    # Nor does the dearest click of all in a placement that is above target.
    highest = (
        click_prices.most(now, then, click_prices.dearest_bid(now), now.above_target) if now.above_target else None
    )
    days = monthly_days(facts, selection, Subject.TARGET)
    for judged_row in recommended(facts, selection, Subject.TARGET, rows):
        row, bid = judged_row.row, judged_row.bid
        limits = limits_of(selection.account, row)
        assert bid is not None
        key = (str(row["ad_group"]), str(row["target"]), str(row["match_type"]))
        target_bid = before.targets.get(key)
        if target_bid is None or not target_bid.live:
            continue
        proposed = judged_row.recommendation.new_bid or bid
        aimed = target_bid.bid if target_bid.bid != now.targets[key].bid else proposed
        new = round(min(max(aimed * found.ratio, limits.floor), limits.ceiling), 2)
        dearest = limits.ceiling if highest is None else highest
        if row["verdict"] == Verdict.ABOVE.value:
            dearest = min(dearest, click_prices.most(now, then, bid))
        new = min(new, math.floor(dearest * 100 + 1e-6) / 100)
        of: dict[str, Any] = {"ad_group": key[0], "target": key[1], "match_type": key[2]}
        moved = change(Entity.TARGET, "bid", campaign, f"{new:.2f}", f"{bid:.2f}", COSTLY_PLACEMENTS.key, **of)
        effect = bid_moved(core_row(row, days).basis, bid, new, judged_row.response)
        made = promise(selection, row, "targets", row["row_id"], effect, judged_row.response)
        entries.append(_Bid(moved, made, bid, new, row["clicks"]))
    return entries


def _weighed(bids: list[_Bid]) -> tuple[float | None, float | None]:
    """The campaign's bid as its clicks meet it, now and then; None without a known bid."""
    if not bids:
        return None, None
    clicks = [each.clicks for each in bids]
    weights = clicks if any(clicks) else [1] * len(bids)
    old, new = (
        sum(bid * weight for bid, weight in zip(values, weights, strict=True)) / sum(weights)
        for values in ([each.old for each in bids], [each.new for each in bids])
    )
    return old, new


def _adjustments(campaign: str, rows: Sequence[dict[str, Any]], found: Solution) -> list[tuple[Change, Placement]]:
    """The adjustments that change."""
    entries = []
    for placement, adjustment in found.adjustments.items():
        old = round(rows[0][setting_frames.ADJUSTMENTS[placement]] or 0)
        new = round(adjustment * 100)
        if new != old:
            entries.append(
                (
                    change(
                        Entity.PLACEMENT,
                        "adjustment",
                        campaign,
                        str(new),
                        str(old),
                        COSTLY_PLACEMENTS.key,
                        placement=placement.value,
                    ),
                    placement,
                )
            )
    return entries


def _promised(
    selection: Selection,
    placement: Placement,
    rows: Sequence[dict[str, Any]],
    places: Sequence[PlacementSums],
    found: Solution,
    ratio: float,
    days: int,
    response: ClickResponse,
) -> Promise:
    """What another adjustment promises beyond the bids, which have promises of their own."""
    settings = rows[0]
    by_key = {row["placement"]: (row, place) for row, place in zip(rows, places, strict=True)}
    row, place = by_key.get(placement.value, (None, None))
    projected = _beyond_bids(place, ratio, found.adjustments[placement], days, response) if place else NOTHING
    basis = row or {**NO_BASIS, "target_acos": settings["target_acos"]}
    return promise(selection, basis, "placements", f"{settings['campaign_id']}:{placement.value}", projected)


def _beyond_bids(
    place: PlacementSums, ratio: float, adjustment: float, days: int, response: ClickResponse
) -> Projected:
    """What another adjustment does to a placement once the bids have moved."""
    monthly = month_factor(days)
    raised = (1 + adjustment) / (1 + place.adjustment)
    spend = [
        place.spend * monthly * ((ratio * raised) ** (response.p + power) - ratio ** (response.p + power))
        for power in response.powers
    ]
    sales = [place.expected_sales * monthly * ((ratio * raised) ** power - ratio**power) for power in response.powers]
    spends, sold = (Range(min(values), values[1], max(values)) for values in (spend, sales))
    return Projected(spends, sold)
