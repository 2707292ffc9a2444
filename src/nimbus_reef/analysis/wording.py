"""Proposals in words, in one place: what is to be done, on what, why, and what is likely to come of it."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date
from string import Formatter
from typing import Any, Final

from nimbus_reef.core.boosts import BID, BoostHour
from nimbus_reef.core.changes import Change, named
from nimbus_reef.core.click_prices import Rise
from nimbus_reef.core.metrics import Metric, Unit, ratio
from nimbus_reef.core.model import PLACEMENTS, Verdict
from nimbus_reef.core.peers import POINTS, RATED
from nimbus_reef.core.projection import Projected
from nimbus_reef.core.proposals import Package, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason, ReasonKey
from nimbus_reef.core.response import WIDTH, ClickResponse
from nimbus_reef.formats.figures import Figures

LONGEST_REASON: Final = 1024


@dataclass(frozen=True, slots=True)
class Worded:
    """
    A proposal in words. name, where: what it is on; headline: what is to be done; reasons: why, a sentence each;
    effect: what is likely to come of it; reason: all of why in one line, as the change sheet has it.
    """

    proposal: Proposal
    name: str
    where: str
    headline: str
    reasons: tuple[str, ...]
    effect: str
    reason: str
    sources: Mapping[int, str]

    @property
    def package(self) -> Package:
        """Its changes with their reasons, as the plan takes them."""
        return [
            (replace(change, reason=self.sources.get(place, self.reason)[:LONGEST_REASON]), promise)
            for place, (change, promise) in enumerate(self.proposal.package)
        ]


def worded(proposal: Proposal, figures: Figures) -> Worded:
    """A proposal in words."""
    name, where = _named(proposal, figures)
    reasons = tuple(reason_words(each, figures) for each in proposal.reasons)
    if proposal.fact is not None:
        fact = reason_words(proposal.fact, figures)
        # A first reason that begins with the fact says it already.
        said = bool(reasons) and reasons[0].startswith(fact)
        texts = [*([] if said else [fact]), *(["; ".join(reasons)] if reasons else [])]
    else:
        texts = list(reasons)
    return Worded(
        proposal,
        name,
        where,
        headline_words(proposal.headline, figures),
        reasons,
        effect_words(proposal.effect, figures) if proposal.package else "",
        # Where lines end is the page's business.
        " ".join(map(_sentence, texts)).replace("\u2060", ""),
        {place: reason_words(why, figures) for place, why in proposal.sources},
    )


def _sentence(text: str) -> str:
    """A reason as a sentence: names keep their own first letter."""
    first = text.split(maxsplit=1)[0] if text else ""
    begun = text[:1].upper() + text[1:] if first.isalpha() else text
    return begun if begun.endswith(".") else f"{begun}."


def _named(proposal: Proposal, figures: Figures) -> tuple[str, str]:
    """What a proposal is on, and where that stands."""
    if proposal.context is not None:
        return proposal.name, reason_words(proposal.context, figures)
    if not proposal.package:
        return proposal.row_id, ""
    first = proposal.package[0][0]
    name, place = named(first)
    where = " · ".join(part for part in (first.campaign, place) if part and part != name)
    return name if len(proposal.package) == 1 else proposal.name or first.campaign, where


def mark(proposal: Proposal) -> str:
    """How what it is on is marked: by its verdict, none where nothing was clicked or nothing is judged."""
    evidence = proposal.evidence
    return mark_of(evidence.verdict, evidence.clicks) if evidence else "none"


def mark_of(verdict: str, clicks: int) -> str:
    """Solid coral, half, hollow or solid lagoon; none where nothing was clicked."""
    marks = {Verdict.ABOVE.value: "above", Verdict.LIKELY_ABOVE.value: "likely", Verdict.WITHIN.value: "within"}
    return marks.get(verdict, "early") if clicks else "none"


def effect_words(projected: Projected, figures: Figures) -> str:
    """What is likely to come of it in 30 days; empty where nothing comes of it."""
    if not projected.known:
        return "Effect unknown: the reports do not show it."
    ranges = (projected.spend, projected.sales)
    if not any(value for each in ranges for value in (each.low, each.middle, each.high)):
        return ""
    spend, sales = (figures.span(each) for each in ranges)
    still = abs(projected.spend.low) < 1 and abs(projected.spend.high) < 1
    return f"Per 30 days: spend {'unchanged' if still else spend}, sales {sales}."


def change_words(change: Change) -> str:
    """One change in a few words."""
    name, place = named(change)
    if change.entity.value == "negative":
        return f"{change.match_type.replace('_', ' ')}: {change.target} in {change.ad_group or change.campaign}"
    text = f"{name} ({place})" if place else name
    return f"{text}: {change.field.replace('_', ' ')} {value_words(change)}"


def value_words(change: Change) -> str:
    """What a change sets, and from what."""
    return f"{change.old_value} → {change.new_value}" if change.old_value else change.new_value


# --- what is to be done --------------------------------------------------------------------------------------------


def headline_words(headline: Headline, figures: Figures) -> str:
    """What is to be done, in a few words."""
    result = _HEADLINES[headline.key]
    return result if isinstance(result, str) else result(headline.figures, figures)


_Told = Callable[[tuple[Any, ...], Figures], str]


def _pauses(value: tuple[Any, ...], figures: Figures) -> str:
    pairs = zip(value[::2], value[1::2], strict=True)
    return "pause " + ", ".join(f"{sku} in {figures.counted(count, 'ad group')}" for sku, count in pairs)


def _added(value: tuple[Any, ...], _: Figures) -> str:
    sku, *places = value
    more = f" and {len(places) - 3} more" if len(places) > 3 else ""
    return f"add {sku} to {', '.join(places[:3])}{more}"


def _promoted(value: tuple[Any, ...], figures: Figures) -> str:
    bid, campaign, ad_group, new, kept = value
    source = ", negative exact where it was bought" if kept else ""
    return f"exact target at {figures.number(bid)} in {home_words(campaign, ad_group, new)}{source}"


def home_words(campaign: str, ad_group: str, new: int) -> str:
    """Where a new target goes."""
    return f"a new ad group of {campaign}" if new else f"{campaign} · {ad_group}"


def _solved(value: tuple[Any, ...], figures: Figures) -> str:
    base, then, moved, *raised = value
    bids = "the base bid" if base is None or then is None else f"base {figures.number(base)} → {figures.number(then)}"
    raises = ", ".join(
        f"{PLACEMENTS[place]} +{figures.rate(share, 0)}" for place, share in zip(raised[::2], raised[1::2], strict=True)
    )
    return f"{bids} on {figures.counted(moved, 'target')}" + (f", {raises}" if raises else "")


def _never_spend(count: int, figures: Figures) -> str:
    never = "that never uses its budget" if count == 1 else "that never use their budgets"
    return f"{figures.counted(count, 'campaign')} {never}"


def _or_none(value: Any) -> str:
    """A value of a setting as it is read."""
    return str(value).replace("_", " ") or "none"


def _budgets(value: tuple[Any, ...], figures: Figures) -> str:
    money, gives, takes = value
    source = _never_spend(gives, figures) if gives else "a larger total"
    dry = f"{figures.counted(takes, 'campaign')} that run{'s' if takes == 1 else ''} out of budget"
    return f"move {figures.money(money, 2)} a day from {source} to {dry}"


_HEADLINES: Final[Mapping[HeadlineKey, str | _Told]] = {
    HeadlineKey.ADD_AD: _added,
    HeadlineKey.BID: lambda value, figures: f"bid {figures.number(value[0])} → {figures.number(value[1])}",
    HeadlineKey.BUDGET: lambda value, figures: (
        f"daily budget {figures.number(value[0], 2)} → {figures.number(value[1], 2)}"
    ),
    HeadlineKey.BID_LOWER_AT_SOURCE: "lower the bid of the targets behind it",
    HeadlineKey.BOOST: "boost",
    HeadlineKey.BUY: lambda value, figures: f"add it as an exact keyword at {figures.money(value[0], 2)}",
    HeadlineKey.BUY_GROUP: lambda value, figures: (
        f"new campaign with {figures.counted(value[0], 'exact keyword')}, {figures.money(value[1], 2)} a day"
    ),
    HeadlineKey.CATCH_ALL: lambda value, figures: (
        f"One automatic campaign, {figures.counted(value[0], 'product')}, each in its own ad group"
    ),
    HeadlineKey.ENABLE: "enable",
    HeadlineKey.IS_LIMITED: "already limited",
    HeadlineKey.IS_PAUSED: "already paused",
    HeadlineKey.KEEP_ONE: lambda value, figures: f"keep it in {value[0]}, pause {figures.count(value[1])}",
    HeadlineKey.LEAVE: "no change yet",
    HeadlineKey.LEAVE_OFF_SITE: "leave it",
    HeadlineKey.LIMIT_OFF_SITE: "limit off-site",
    HeadlineKey.LOOK_AT_PAGE: "check the page",
    HeadlineKey.MOVE_BUDGETS: _budgets,
    HeadlineKey.NEGATIVE: lambda value, _: str(value[0]).replace("_", " "),
    HeadlineKey.NOTHING: "nothing to do",
    HeadlineKey.NOTHING_TO_MEND: "nothing to fix",
    HeadlineKey.NOTHING_TO_MOVE: "no budget to move",
    HeadlineKey.NOTHING_TO_SHIFT: "no spend to shift",
    HeadlineKey.NOTHING_YET: "nothing yet",
    HeadlineKey.NO_AD_GROUP: "its ad group is unknown",
    HeadlineKey.NO_PAUSE: "no pause on its own",
    HeadlineKey.NO_SOLUTION: "no solution",
    HeadlineKey.PAUSE: "pause",
    HeadlineKey.PAUSE_AD: lambda value, _: f"pause {value[0]} in {value[1]}",
    HeadlineKey.PAUSE_ADS: _pauses,
    HeadlineKey.PAUSE_ALL: lambda value, figures: f"pause all {figures.count(value[0])}",
    HeadlineKey.PROMOTE: _promoted,
    HeadlineKey.RENAME: lambda value, _: f"call it {value[0]}",
    HeadlineKey.RESTORE_PAGE: "restore the page, or pause its ads until it is back",
    HeadlineKey.SET: lambda value, _: f"{value[0]} {_or_none(value[1])} → {_or_none(value[2])}",
    HeadlineKey.SOLVE: _solved,
    HeadlineKey.STAYS: "bids and adjustments are right",
    HeadlineKey.TAKE_BUDGETS: lambda value, figures: (
        f"take {figures.money(value[0], 2)} a day from {_never_spend(value[1], figures)}"
    ),
}


# --- why -----------------------------------------------------------------------------------------------------------


def reason_words(reason: Reason, figures: Figures) -> str:
    """A reason with its figures."""
    result = _REASONS[reason.key]
    return result if isinstance(result, str) else result(reason.figures, figures)


def _aim(value: tuple[Any, ...], figures: Figures) -> str:
    worth, share, may_cost, aim, ratio, end, adjusted, bid, margin, response = value
    first = f"a click brings {figures.money(worth, 2)} in sales. "
    if margin is None:
        first += f"At {figures.rate(share, 0)} it may cost {figures.money(may_cost, 2)}"
    else:
        first += (
            f"Profit peaks at {figures.rate(share, 0)} (margin {figures.rate(margin, 0)}, clicks follow your bids by"
            f" {figures.number(response)}): it may cost {figures.money(may_cost, 2)}"
        )
    paid = {
        "most": "You bid more than twice what you pay, counted as twice",
        "least": "You bid less than half of what you pay, counted as half",
    }.get(end, f"You bid {figures.number(ratio)} for each {figures.number(1.0)} you pay")
    with_adjustments = ", your adjustments included" if adjusted else ""
    second = f"{paid}{with_adjustments}, so the aim is {figures.money(aim, 2)}"
    half = f". This is half of the way from {figures.money(bid, 2)}" if bid is not None else ""
    return f"{first}. {second}{half}"


def response_words(response: ClickResponse, figures: Figures) -> str:
    """How clicks and their price answer bids, and whose answer that is."""
    around = figures.number(WIDTH * response.spread)
    follow = (
        f"clicks follow bids by {figures.number(response.e)} (± {around}), their price by {figures.number(response.p)}"
    )
    if not response.is_own:
        return f"{follow}: the usual answer of clicks, not yet your own"
    return f"{follow}: your own answer, from {figures.counted(response.changes, 'change')}"


def _loses(value: tuple[Any, ...], figures: Figures) -> str:
    chance, margin = value
    at = "at target ACOS" if margin is None else f"at its margin of {figures.rate(margin, 0)}"
    return f"{figures.rate(math.floor(chance * 100) / 100, 0)} sure that it loses money {at}"


def _no_bid_left(value: tuple[Any, ...], figures: Figures) -> str:
    clicks, orders, may_cost, price = value
    return (
        f"{figures.counted(clicks, 'click')} brought {_orders(orders, figures)}. A click may cost"
        f" {figures.money(may_cost, 2)} and costs {figures.money(price, 2)}"
    )


def _orders(count: float, figures: Figures) -> str:
    return figures.counted(count, "order") if count else "no order"


def _near(value: tuple[Any, ...], figures: Figures) -> str:
    end = "most" if value[1] >= 1 else "least"
    return (
        f"close to the {figures.money(value[0], 2)} its clicks cost now, at {end} {figures.rate(value[1], 0)} of that"
    )


def _off_site(value: tuple[Any, ...], figures: Figures) -> str:
    clicks, orders, spend = value
    return f"{figures.counted(clicks, 'click')} off-site brought {_orders(orders, figures)} for {figures.money(spend)}"


def _child(value: tuple[Any, ...], figures: Figures) -> str:
    sku, spend, sales, clicks = value
    return (
        f"{sku} takes {figures.rate(spend, 0)} of the family’s spend and makes {figures.rate(sales, 0)} of its sales,"
        f" after {figures.counted(clicks, 'click')}"
    )


def _shift(value: tuple[Any, ...], figures: Figures) -> str:
    money, *proven = value
    have = "has" if len(proven) == 1 else "have"
    return f"{figures.money(money)} a month moves: {', '.join(proven)} {have} the evidence to take more"


def _beside(value: tuple[Any, ...], _: Figures) -> str:
    stand = "stands" if len(value) == 1 else "stand"
    return f"{', '.join(value)} {stand} in the same ad groups and will get part of it too"


def _boost(value: tuple[Any, ...], figures: Figures) -> str:
    what, highest, weekdays, first, last, condition, start, end = value
    days = boost_days([int(day) for day in weekdays.split()], first, last, condition)
    if highest is None:
        return f"{days}, {start}–{end} h"
    then = (
        f"a click can then cost up to {figures.money(highest, 2)}"
        if what == BID
        else f"the budget can then rise to {figures.money(highest, 2)} a day"
    )
    return f"{days}, {start}–{end} h; {then}"


WEEKDAYS: Final = {1: "Mon", 2: "Tue", 3: "Wed", 4: "Thu", 5: "Fri", 6: "Sat", 7: "Sun"}
"""ISO weekdays in short."""
DAYS: Final = {
    "": "every day",
    "1 2 3 4 5": "Monday to Friday",
    "6 7": "the weekend",
    **{str(number): name for number, name in WEEKDAYS.items()},
}
"""The weekdays that a boost is offered for."""


def weekday_words(weekdays: Sequence[int]) -> str:
    """Weekdays in words."""
    return DAYS.get(" ".join(map(str, weekdays))) or ", ".join(WEEKDAYS[day] for day in weekdays)


def boost_days(weekdays: Sequence[int], first: str, last: str, condition: str) -> str:
    """On which days a boost is in force, in words."""
    dated = first or last
    parts = [weekday_words(weekdays)] if weekdays or not dated else []
    if dated:
        parts.append(f"{first or 'now'} to {last or 'further notice'}")
    if condition:
        parts.append(f"while {condition}")
    return ", ".join(parts)


def _brought_by(value: tuple[Any, ...], _: Figures) -> str:
    target, others, campaign, ad_group = value
    return f"from {target}{f' +{others}' if others else ''} · {campaign} · {ad_group}"


def _phrase_parts(value: tuple[Any, ...], figures: Figures) -> str:
    sku, account, own, result, *telling = value
    base = (
        f"{sku} is new here, so it starts from the account’s {figures.rate(account)}"
        if own is None
        else f"{sku} converts {figures.rate(account * own)} (account {figures.rate(account)} × {figures.number(own)})"
    )
    named = [
        f"{name} unknown" if factor is None else f"{name} × {figures.number(factor)}"
        for name, factor in zip(telling[::2], telling[1::2], strict=True)
    ]
    return f"{base}{', ' if named else ''}{', '.join(named)}: {figures.rate(result)}"


def _phrase_brings(value: tuple[Any, ...], figures: Figures) -> str:
    offered, bare, clicks, gain = value
    without = "" if bare is None else f" ({figures.money(bare, 2)} before its adjustments)"
    return (
        f"a bid of {figures.money(offered, 2)}{without} brings about {figures.counted(round(clicks), 'click')} and"
        f" {figures.money(gain)} profit in 28 days"
    )


def due_words(due: float, figures: Figures) -> str:
    """How many orders were due: whole ones where they are many."""
    return figures.number(due, 0 if due >= 10 else 1)


def rates_words(low: float, high: float, figures: Figures) -> str:
    """From one rate to another; one where both are written alike."""
    first, last = figures.percent(low, 0), figures.percent(high, 0)
    return figures.rate(high, 0) if first == last else f"{first} to {figures.rate(high, 0)}"


_KEPT: Final[Mapping[str, str]] = {"evidence": "lowest expected ACOS", "oldest": "the oldest"}
_REASONS: Final[Mapping[ReasonKey, str | _Told]] = {
    ReasonKey.ACOS_LIKELY: lambda value, figures: (
        f"ACOS {'no sales' if value[0] is None else figures.rate(value[0], 0)} →"
        f" {rates_words(value[1], value[2], figures)} is likely, off-site included"
    ),
    ReasonKey.AD_ALONE: "only product of its ad group: pausing it stops the ad group",
    ReasonKey.AD_BESIDE: lambda value, figures: (
        f"the other products of the ad group convert {figures.rate(value[0])}, this one {figures.rate(value[1])}"
    ),
    ReasonKey.AD_CLICKS_MOVE: "the range covers both cases: its clicks are lost, or go to the others",
    ReasonKey.AD_FEW_CLICKS: lambda value, figures: (
        f"{figures.counted(value[0], 'click')} are too few to expect an order at the conversion it needs"
    ),
    ReasonKey.AD_NO_SIBLING: ("no other product here sells near target. Check the whole ad group, its prices and bids"),
    ReasonKey.AD_TEST: lambda value, figures: (
        f"{figures.counted(value[0], 'click')}, {_orders(value[1], figures)}: enough to judge it by itself"
    ),
    ReasonKey.AIM: _aim,
    ReasonKey.ABOVE_MARGIN: lambda value, figures: (
        f"the target is above the margin of {figures.rate(value[0], 0)}: each sale at the target loses money"
    ),
    ReasonKey.DOUBLED: "at most twice the bid in one step",
    ReasonKey.FEW_CLICKS: lambda value, figures: (
        f"{figures.counted(value[0], 'click')} only: mostly the conversion of similar targets, {figures.rate(value[1])}"
    ),
    ReasonKey.JUST_MOVED: lambda value, figures: (
        f"its bid was changed {figures.counted(value[0], 'day')} before the end of the period. It waits 10 days"
    ),
    ReasonKey.LEFT: "you asked to leave its bid",
    ReasonKey.LOSES: _loses,
    ReasonKey.NOT_LIVE: "it is paused or has ended",
    ReasonKey.NO_BID_LEFT: _no_bid_left,
    ReasonKey.NO_CLICKS_YET: lambda value, figures: (
        f"no clicks yet: it counts as similar targets do, {figures.rate(value[0])}"
    ),
    ReasonKey.NO_TRAFFIC: lambda value, figures: (
        f"no impressions in {figures.counted(value[0], 'day')} although it is live. The bid rises step by step, up to"
        " what a click is worth"
    ),
    ReasonKey.NEVER_SOLD: lambda value, figures: (
        f"{figures.counted(value[0], 'click')} in all loaded reports and no order: check its product first"
    ),
    ReasonKey.OWN_BRAND_STAYS: "it is your own brand: buyers look for it anyway, so its bid is not raised",
    ReasonKey.OWN_CONVERSION: lambda value, figures: (
        f"it converts {figures.rate(value[0])} itself, similar targets {figures.rate(value[1])}"
    ),
    ReasonKey.PAGE_BROKE: "the page of its product lost something or converts less. The raise waits",
    ReasonKey.PRICE_IS_RIGHT: lambda value, figures: f"a click costs {figures.money(value[0], 2)}, which is right",
    ReasonKey.RAISE_WAITS: "its campaign runs out of budget before the day ends. The raise waits",
    ReasonKey.SALES_LOST: lambda value, figures: (
        f"its {figures.counted(value[0], 'order')} for {figures.money(value[1])} are likely lost"
    ),
    ReasonKey.SPEND_HELD: "its raise waits: all raises together would add too much spend",
    ReasonKey.SPEND_LIMIT: lambda value, figures: (
        f"raises are limited to {figures.rate(value[0], 0)} of their step: all bids together add at most"
        f" {figures.rate(value[1], 0)} spend"
    ),
    ReasonKey.STILL_EARNS: "it may still earn at its margin. Lower the bids behind it instead",
    ReasonKey.BELOW_BASE: lambda value, figures: (
        f"proposed bids below the base of {figures.money(value[0], 2)} stay as proposed"
    ),
    ReasonKey.BEST_BID: lambda value, figures: (
        f"it once met its target at a bid of {figures.money(value[0], 2)}, with 3 orders or more in 14 days."
        " That can be luck"
    ),
    ReasonKey.BID_IS_THERE: "the bid is right",
    ReasonKey.BOOST_AT: _boost,
    ReasonKey.BOUGHT_TIMES: lambda value, _: f"“{value[0]}” is bought {value[1]} times for {value[2]}",
    ReasonKey.BREAKS_PATTERN: lambda value, _: f"“{value[0]}” breaks the pattern {value[1]}",
    ReasonKey.BROUGHT_BY: _brought_by,
    ReasonKey.BUDGETS_ASK_MORE: lambda value, figures: (
        f"{figures.money(value[0], 2)} a day is not possible: below {figures.money(value[1], 2)} it would cut"
        " budgets that are fully used"
    ),
    ReasonKey.BUDGETS_CUT_OFF: lambda value, figures: (
        f"{figures.counted(value[0], 'campaign')} within target {'gets' if value[0] == 1 else 'get'} what"
        " is missing on a day out of budget, best ACOS first"
    ),
    ReasonKey.BUDGETS_GIVE: "campaigns that give budget keep enough for 19 of 20 days",
    ReasonKey.BUDGETS_NOT_NEEDED: lambda value, figures: (
        f"{figures.money(value[0], 2)} a day of that total is not needed"
    ),
    ReasonKey.CAN_LIMIT: "you can still limit it",
    ReasonKey.CATALOG_UNTOLD: "eligibility comes from the catalog report",
    ReasonKey.CEILING: lambda value, figures: (
        f"limited by the highest bid of the account, {figures.money(value[0], 2)}"
    ),
    ReasonKey.CHEAP_CLICKS: lambda value, figures: (
        f"{figures.counted(value[0], 'click')} of the last 90 days cost at most {figures.money(value[1], 2)} each and"
        f" converted {figures.rate(value[2])}"
    ),
    ReasonKey.CHILD_KEEPS: lambda value, figures: (
        f"{figures.money(value[1])} a month stays on {value[0]}, to keep testing it"
    ),
    ReasonKey.CHILD_SHARES: _child,
    ReasonKey.CLICKS_BROUGHT: lambda value, figures: (
        f"{figures.counted(value[0], 'click')} brought {_orders(value[1], figures)}"
    ),
    ReasonKey.COSTS_WHAT_IT_MAY: lambda value, figures: (
        f"with this base bid and its adjustments every placement meets {figures.aim(value[0])}"
    ),
    ReasonKey.DYNAMIC_RAISING: lambda value, figures: (
        f"dynamic bidding is on: a click can cost up to {figures.money(value[0], 2)} at top of search"
    ),
    ReasonKey.EVIDENCE_SAYS: lambda value, _: f"verdict: {value[0]}",
    ReasonKey.EXPECTED_MONTH: lambda value, figures: (
        f"expected a month: {figures.counted(value[0], 'click')}, {figures.counted(value[1], 'order')}, ACOS"
        f" {figures.rate(value[2], 0)}"
    ),
    ReasonKey.FLOOR: lambda value, figures: f"limited by the lowest bid of the account, {figures.money(value[0], 2)}",
    ReasonKey.HAS_ORDERS: lambda value, figures: (
        f"it made {figures.counted(value[0], 'order')}: lower the bid of its target instead of blocking it"
    ),
    ReasonKey.HAS_OWN_TARGET: "an exact keyword already covers it",
    ReasonKey.HOURS_UNTOLD: "Out-of-budget days need the hourly report by day.",
    ReasonKey.IN_AD_GROUP: lambda value, _: f"{value[0]} · {value[1]}",
    ReasonKey.IN_TERMS: lambda value, figures: (
        f"in {figures.count(value[0])} terms, {figures.count(value[1])} without an order"
    ),
    ReasonKey.IS_ENABLED: "already enabled",
    ReasonKey.USUAL_ANSWER: "clicks at this bid rest on the usual answer of clicks to bids, not yet your own",
    ReasonKey.WAITS: "they are not judged yet",
    ReasonKey.IS_PAUSED: "already paused",
    ReasonKey.ITS_PRODUCT: lambda value, figures: (
        f"it converts like similar search terms ({figures.rate(value[0])}). Check the product, its price and its bids"
    ),
    ReasonKey.ITS_WORDS: "the verdict comes from its words. Check the word, not this search alone",
    ReasonKey.KEPT_FROM_SOURCE: lambda value, _: (
        f"“{value[0]}” gets an exact target in {home_words(*value[1:])}. This negative stops it from being"
        " bought here too."
    ),
    ReasonKey.KEPT_IN: lambda value, _: f"kept in {value[0]}: {_KEPT[value[1]]}",
    ReasonKey.MORE_ROUNDS: lambda value, figures: (
        f"bids change step by step: a base of {figures.money(value[0], 2)} takes more than one round"
    ),
    ReasonKey.NAMES_PRODUCT: ("its words are the name of a product advertised here. A negative would block its buyers"),
    ReasonKey.NEEDS_CONVERSION: lambda value, figures: (
        f"at {figures.money(value[0], 2)} a click it needs {figures.rate(value[1])} conversion to meet"
        f" {figures.aim(value[2])}"
    ),
    ReasonKey.NEVER_SHUT_OUT: "your settings protect a word in it",
    ReasonKey.NEWER_SKU: lambda value, _: f"newer SKU of {value[0]}, which is in that ad group",
    ReasonKey.NONE_PAYS: lambda value, figures: (
        f"none is within target: {figures.counted(value[0], 'order')} for {figures.money(value[1])}"
    ),
    ReasonKey.NOT_WITHIN_TARGET: "the campaigns out of budget are not within target. Lower their bids first",
    ReasonKey.NO_AD_GROUP: "no other variation makes orders: use the catch-all",
    ReasonKey.NO_BID_KNOWN: "its bid is unknown. Load the targets report",
    ReasonKey.NO_BUDGET_DRY: "no campaign is out of budget",
    ReasonKey.NO_BUDGET_LEFT: "no campaign leaves enough budget unused. Enter a larger total",
    ReasonKey.NO_CLICKS: "no paid clicks yet",
    ReasonKey.NO_CLICKS_IN_WINDOW: "No clicks in this period",
    ReasonKey.NO_COSTLY_CHILD: "No variation takes more of the spend than of the sales.",
    ReasonKey.NO_DESTINATION: "no manual campaign advertises the product that sold",
    ReasonKey.NO_OWN_TEST: lambda value, figures: (
        f"{figures.count(value[0])} clicks are too few to expect an order at the conversion it needs"
    ),
    ReasonKey.NONE_WOULD_PAY: "none of the selected phrases would pay, or all are in the plan",
    ReasonKey.NO_PRODUCT_LEFT: "no product left",
    ReasonKey.NO_PROVEN_SIBLING: "No other variation has the evidence to take more.",
    ReasonKey.NO_RAISE: "no raise: it is above target in this period",
    ReasonKey.NO_SIBLING_TAKES_MORE: (
        "None of its ads runs next to a variation that can take more, or too little would be left."
    ),
    ReasonKey.NO_WORTH: "the worth of its clicks is unknown",
    ReasonKey.OFF_SITE_BY_OTHERS: ("too few clicks of its own: judged by off-site clicks of other campaigns"),
    ReasonKey.OFF_SITE_DID: _off_site,
    ReasonKey.OFF_SITE_NEEDS: lambda value, figures: (
        f"they need {figures.rate(value[0])} conversion at their price. The odds: {figures.one_in(value[1])}"
    ),
    ReasonKey.OPENING_BID: lambda value, figures: (
        f"first bid {figures.money(value[0], 2)}: a click earns {figures.money(value[1], 2)}, the target is"
        f" {figures.rate(value[2], 0)}"
    ),
    ReasonKey.OPENING_NEAR: _near,
    ReasonKey.ORDERS_ELSEWHERE: lambda value, figures: (
        f"note: the same search term made {figures.counted(value[0], 'order')} in another ad group"
    ),
    ReasonKey.OTHERS_MADE: lambda value, figures: (
        f"the others made {figures.counted(value[0], 'order')} for {figures.money(value[1])}; the same searches reach"
        " the keyword that stays"
    ),
    ReasonKey.OWN_ACTION: "chosen by hand",
    ReasonKey.OWN_BRAND: "it is one of your own brand words",
    ReasonKey.OWN_EXACT: ("an exact keyword of the same words brings it. Pause that keyword instead"),
    ReasonKey.OWN_FAULT: lambda value, figures: (
        f"it converts below similar search terms: {figures.rate(value[0])} expected"
    ),
    ReasonKey.OWN_RULE: lambda value, _: str(value[0]),
    ReasonKey.OWN_TEST: lambda value, figures: (
        f"{figures.count(value[0])} clicks were enough for an order at the conversion it needs"
    ),
    ReasonKey.PHRASE_BRINGS: _phrase_brings,
    ReasonKey.PHRASE_FREE: lambda value, figures: (
        f"without ads {figures.counted(value[0], 'click')} brought {_orders(value[1], figures)}"
        f" ({due_words(value[2], figures)} expected), which makes it {figures.rate(value[3])}"
    ),
    ReasonKey.PHRASE_HELD: lambda value, _: f"not proposed: {value[0]}",
    ReasonKey.PHRASES_TOGETHER: lambda value, figures: (
        f"together about {figures.counted(round(value[0]), 'click')}, {figures.money(value[1])} spend and"
        f" {figures.money(value[2])} profit in 28 days. The first verdict comes after {figures.count(value[3])} days"
    ),
    ReasonKey.PHRASE_PARTS: _phrase_parts,
    ReasonKey.PHRASE_PAYS: lambda value, figures: (
        f"at the usual {figures.money(value[0], 2)} a click it pays with {figures.rate(value[1], 0)}"
    ),
    ReasonKey.PLACES: lambda value, figures: f"in the {figures.counted(value[0], 'ad group')} that paid for it",
    ReasonKey.PLACES_SPARED: lambda value, figures: (
        f"not in {figures.counted(value[0], 'ad group')} where a product has that name"
    ),
    ReasonKey.RAISE_WITHOUT_ORDER: ("no raise without an order. Raise it by hand if you want"),
    ReasonKey.SELLS_UNADVERTISED: lambda value, figures: (
        f"it sells {figures.money(value[0])} a month and is in no ad group"
    ),
    ReasonKey.SETS_BASE: lambda value, figures: (
        f"{PLACEMENTS[value[0]]} sets the base bid: the lowest worth of a click among placements with at least"
        f" {figures.rate(value[1], 0)} of the clicks"
    ),
    ReasonKey.TAKEN_BACK: lambda value, figures: f"takes back row {value[0]}, which was carried out",
    ReasonKey.SET_BACK: lambda value, figures: (
        f"set back to what it was before {figures.day(date.fromisoformat(value[0]))}"
        if value[0]
        else "set back to what it was"
    ),
    ReasonKey.SHIFT_BESIDE: _beside,
    ReasonKey.SHIFT_TO: _shift,
    ReasonKey.SIBLINGS_THERE: "its family makes most orders there",
    ReasonKey.SIBLING_ABOVE_TARGET: (
        "Next to its ads runs a variation above target that would get part of the spend. Pause that one first."
    ),
    ReasonKey.SOLD_NOTHING: "the campaign sold nothing, so the worth of a click is unknown",
    ReasonKey.STAYS: lambda value, figures: f"the bid of {figures.money(value[0], 2)} is right",
    ReasonKey.STEP_DOWN: lambda value, figures: f"limited to one step, −{figures.rate(value[0], 0)} at a time",
    ReasonKey.STEP_UP: lambda value, figures: f"limited to one step, +{figures.rate(value[0], 0)} at a time",
    ReasonKey.TO_MEND: lambda value, _: str(value[0]),
    ReasonKey.TINY_GAIN: "another bid would bring a few cents a month",
    ReasonKey.TOO_SMALL: "the account has too few clicks and orders to judge",
    ReasonKey.UNDECIDED: lambda value, figures: (
        f"about {figures.count(value[0])} more clicks without an order settle it"
        if value
        else "clicks alone will not settle it"
    ),
    ReasonKey.UNKNOWN_RETURN: "effect unknown: the account has no clicks this cheap",
    ReasonKey.WAITS: lambda value, _: f"it is not judged yet: {value[0]}",
    ReasonKey.WINS: lambda value, figures: (
        f"{figures.counted(value[0], 'order')} at {figures.rate(value[1])} ACOS; the product has no live exact"
        " target for these words"
    ),
    ReasonKey.WITHIN_TARGET: "it is within target",
    ReasonKey.WORD_FACTOR: lambda value, figures: (
        f"{figures.rate(value[0], 0)} of the expected orders came; it needs {figures.rate(value[1], 0)} to pay"
        " for its clicks"
    ),
    ReasonKey.WORD_FEW: lambda value, figures: (
        f"only in {figures.counted(value[0], 'search')}: too few for a phrase negative"
    ),
    ReasonKey.WORD_HITS: lambda value, figures: (
        f"note: it also stops {figures.counted(value[0], 'good term')} with {figures.counted(value[1], 'order')}"
    ),
    ReasonKey.WORD_LOWER: lambda value, figures: (
        f"it still brings {figures.rate(value[0], 0)} of the orders it needs. Lower the bids behind it instead of"
        " blocking it"
    ),
    ReasonKey.WORD_ORDERS: lambda value, figures: (
        f"{figures.counted(value[0], 'click')}, {figures.counted(value[1], 'order')},"
        f" {due_words(value[2], figures)} expected"
    ),
    ReasonKey.WORD_UNSURE: lambda value, figures: (
        f"{figures.rate(value[0], 0)} sure that it does not pay for its clicks; 90 % needed"
    ),
}

_WHY_NOTHING: Final[Mapping[ReasonKey, str]] = {
    ReasonKey.CEILING: "they are at their highest bid",
    ReasonKey.WAITS: "they are not judged yet",
    ReasonKey.FLOOR: "they are at their lowest bid",
    ReasonKey.JUST_MOVED: "their bid was changed less than 10 days ago",
    ReasonKey.LEFT: "you asked to leave their bids",
    ReasonKey.NOT_LIVE: "they are paused or have ended",
    ReasonKey.OWN_BRAND_STAYS: "they are your own brand, which is not raised",
    ReasonKey.PAGE_BROKE: "the page of their product broke, so raises wait",
    ReasonKey.PRICE_IS_RIGHT: "their clicks cost what they may",
    ReasonKey.RAISE_WAITS: "their campaign runs out of budget",
    ReasonKey.SPEND_HELD: "their raises wait: all together would add too much spend",
    ReasonKey.STILL_EARNS: "they may still earn at their margin: lower the bids behind them",
    ReasonKey.AD_ALONE: "no evidence for a pause",
    ReasonKey.BID_IS_THERE: "their bid is right",
    ReasonKey.CANNOT_SET_BACK: "they cannot be set back, or the present value is unknown",
    ReasonKey.HAS_ORDERS: "they made orders: lower the bids of their targets",
    ReasonKey.HAS_OWN_TARGET: "an exact keyword already covers them",
    ReasonKey.IS_ENABLED: "already enabled",
    ReasonKey.IS_PAUSED: "already paused",
    ReasonKey.ITS_PRODUCT: "they convert like similar search terms",
    ReasonKey.NAMES_PRODUCT: "their words are the name of an advertised product",
    ReasonKey.NEVER_SHUT_OUT: "your settings protect a word in them",
    ReasonKey.NO_BID_KNOWN: "their bid is unknown. Load the targets report",
    ReasonKey.NO_CLICKS: "no paid clicks yet",
    ReasonKey.NO_DESTINATION: "no manual campaign advertises the product that sold",
    ReasonKey.NO_OWN_TEST: "too few clicks to expect an order",
    ReasonKey.NO_RAISE: "they are above target in this period, so no raise is proposed",
    ReasonKey.NO_WORTH: "the worth of their clicks is unknown",
    ReasonKey.OWN_BRAND: "they are the brand’s own",
    ReasonKey.RAISE_WITHOUT_ORDER: "no raise without an order",
    ReasonKey.STANDS_THERE: "already there",
    ReasonKey.STAYS: "their bid is right",
    ReasonKey.TINY_GAIN: "other bids would bring a few cents a month",
    ReasonKey.TOO_SMALL: "the account has too few clicks and orders",
    ReasonKey.UNDECIDED: "too early to tell",
    ReasonKey.WITHIN_TARGET: "they are within target",
    ReasonKey.WORD_FEW: "in too few searches for a phrase negative",
    ReasonKey.WORD_LOWER: "they still bring orders. Open one and lower the bids behind it",
    ReasonKey.WORD_UNSURE: "not sure enough yet that they do not pay for their clicks",
}
"""Why nothing is proposed on several rows, by the key of the reason."""
_NOTHING: Final[Mapping[HeadlineKey, str]] = {
    HeadlineKey.IS_PAUSED: "no evidence for a pause",
    HeadlineKey.NOTHING: "no evidence for a pause",
    HeadlineKey.NOTHING_YET: "no evidence for a pause",
    HeadlineKey.NO_PAUSE: "no evidence for a pause",
    HeadlineKey.NO_AD_GROUP: "no ad group of another variation is known",
    HeadlineKey.NOTHING_TO_SHIFT: "no variation can take more spend",
    HeadlineKey.NOTHING_TO_MOVE: "no budget can be moved",
    HeadlineKey.IS_LIMITED: "off-site is already limited, or not above target",
    HeadlineKey.LEAVE_OFF_SITE: "off-site is already limited, or not above target",
    HeadlineKey.NO_SOLUTION: "bids and adjustments are right, or the campaign sold nothing",
    HeadlineKey.STAYS: "bids and adjustments are right, or the campaign sold nothing",
}
"""The same where the headline says it all."""


def why_nothing(proposal: Proposal) -> str:
    """Why nothing is proposed on several such things."""
    if (text := _NOTHING.get(proposal.headline.key)) is not None:
        return text
    return _WHY_NOTHING.get(proposal.why, "see their evidence") if proposal.why else ""


# --- sentences of checks -------------------------------------------------------------------------------------------


class _Sentence(Formatter):
    """Fills a sentence: behind the colon of a column stands how it is written, as `Figures` has it, with its words."""

    def __init__(self, figures: Figures) -> None:
        self.figures = figures

    def format_field(self, value: Any, format_spec: str) -> Any:
        """A column as its part of the sentence."""
        how, _, more = format_spec.partition(" ")
        if how == "counted":
            return self.figures.counted(value, more)
        if how == "lost":
            return lost_words(value)
        if how == "metric":
            return metric_words(more, value, self.figures)
        if how == "ahead":
            return place_words(value, self.figures)
        if not how:
            return str(value)
        figures = getattr(self.figures, how)
        return figures(value, int(more)) if more else figures(value)


def filled(sentence: str, row: Mapping[str, Any], figures: Figures) -> str:
    """
    A sentence with the columns of a row: "{clicks:counted click}, {spend:micro} spent, ACOS {acos:rate 0}". acos:
    worked out of spend and sales where the row has none.
    """
    acos = ratio(row.get("spend", 0), row.get("sales"))
    return _Sentence(figures).vformat(sentence, (), {**row, "acos": acos})


def level(metric: Metric, value: float | None, figures: Figures) -> str:
    """A metric of a whole window, in its unit."""
    if value is None:
        return "–"
    if metric.unit is Unit.RATE:
        return figures.rate(value, 2 if metric.key == "ctr" else 1)
    if metric.unit is Unit.MONEY:
        return figures.money(value, 2 if metric.is_ratio else 0)
    return figures.number(value, 2) if metric.unit is Unit.FACTOR else figures.count(value)


def metric_words(metric: str, value: float | None, figures: Figures) -> str:
    """A metric as it is written in running text."""
    if RATED[metric].unit is Unit.MONEY:
        return figures.money(value, 2)
    return figures.rate(value, 2 if metric == "ctr" else 1)


def ahead_words(percentile: float, figures: Figures) -> str:
    """How many peers one is ahead of."""
    return f"{place_words(percentile, figures)} of peers"


def place_words(percentile: float, figures: Figures) -> str:
    """The same where peers are spoken of: beyond the feed's outermost quantiles only that is known."""
    if percentile <= POINTS[0]:
        return f"behind {100 - POINTS[0]} %"
    return f"ahead of {figures.count(min(percentile, POINTS[-1]))} %"


_LOST: Final[Mapping[str, str]] = {
    "eligible": "ineligible for ads",
    "in_stock": "out of stock",
    "main_offer": "another seller holds the main offer",
    "rich_content": "rich content gone",
    "brand_section": "brand section gone",
}
_LOST_COUNTS: Final[Mapping[str, str]] = {"images": "pictures", "bullets": "bullets", "rating": "rating"}


def lost_words(lost: Sequence[Mapping[str, str]]) -> str:
    """Losses of a product page, most severe first; each: field, old, new."""
    return ", ".join(_lost(each) for each in lost)


def _lost(each: Mapping[str, str]) -> str:
    field = each["field"]
    if field == "title":
        return f"title without “{each['old']}”"
    if field in _LOST_COUNTS:
        return f"{_LOST_COUNTS[field]} {each['old']} → {each['new']}"
    return _LOST[field]


# --- prices of a click ---------------------------------------------------------------------------------------------

REMEDY: Final = "Pause it or lower its bid first, then accept this."
_AT: Final = {
    "top_of_search": "at top of search",
    "elsewhere_in_search": "in the rest of search",
    "product_page": "on product pages",
    "off_site": "off-site",
}
_WEEKDAYS: Final = ("Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays")


def rise_words(rise: Rise, figures: Figures) -> str:
    """A price that would rise, with both figures."""
    whose = f"“{rise.target}”" if rise.target else "a click"
    then = figures.money(rise.after, 2)
    today = f"today at most {figures.money(rise.before, 2)}" if rise.before else "today it does not run"
    judged = "and is above target" if rise.target else "and this placement is above target"
    return f"{whose} {_AT[rise.placement.value]}{_when(rise.moment)} would cost up to {then} a click; {today} {judged}"


def together_words(rise: Rise, figures: Figures) -> str:
    """A price that adjustments or boosts and a bid raise together, each computed without the other."""
    return (
        f"“{rise.target}” {_AT[rise.placement.value]}{_when(rise.moment)} goes from at most"
        f" {figures.money(rise.before, 2)} to {figures.money(rise.after, 2)} a click. Its bid and the adjustment or"
        " boost were planned separately"
    )


def _when(moment: BoostHour | None) -> str:
    if moment is None:
        return ""
    day = f" ({moment.day})" if moment.day else ""
    return f" on {_WEEKDAYS[moment.weekday - 1]} from {moment.hour} h{day}"
