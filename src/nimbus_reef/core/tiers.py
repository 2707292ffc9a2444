"""
One's own actions on rows, by hand or by rules of which the first that a row meets counts (N32).

What an action cannot do on a row is left out with its reason. A raise of something that never made an order is left out
unless it is asked for by name.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.core import bids
from nimbus_reef.core.bids import BidAdvice, BidLimits, Goal
from nimbus_reef.core.model import State
from nimbus_reef.core.projection import UNKNOWN, bid_moved, stopped
from nimbus_reef.core.reasons import Reason, ReasonKey
from nimbus_reef.core.recommendations import Move, Recommendation, Row, opening_bid
from nimbus_reef.core.response import USUAL, ClickResponse

_HALF_CENT: Final = 0.005


class RowAction(StrEnum):
    """What is done by hand, or by a rule, to a row of a list."""

    PAUSE = "pause"
    ENABLE = "enable"
    BID_BY = "bid by"
    BID_FROM_CPC = "bid from cpc"
    BID_TO = "bid to"
    BID_TO_AIM = "bid to aim"
    NEGATIVE_EXACT = "negative exact"
    NEGATIVE_PHRASE = "negative phrase"
    OWN_TARGET = "target of its own"
    BUDGET_BY = "budget by"
    BUDGET_TO = "budget to"
    BIDDING_FIXED = "bidding fixed"
    BIDDING_DOWN = "bidding down only"
    BIDDING_UP_AND_DOWN = "bidding up and down"
    LIMIT_OFF_SITE = "limit off-site"
    PORTFOLIO = "portfolio"
    DEFAULT_BID_BY = "default bid by"
    DEFAULT_BID_TO = "default bid to"
    BIDS_BY = "bids by"
    BIDS_TO = "bids to"
    BIDS_AS_PROPOSED = "bids as proposed"
    ALL_BIDS_AS_PROPOSED = "all bids as proposed"
    ADJUST_BY = "adjustment by"
    ADJUST_TO = "adjustment to"
    TARGET_ACOS = "target acos"
    CEILING = "ceiling"
    FLOOR = "floor"
    STEP_DOWN = "step_down"
    STEP_UP = "step_up"
    GOAL_SALES = "goal sales"
    GOAL_PROFIT = "goal profit"
    GOAL_LEAVE = "goal leave"
    GOAL_USUAL = "goal usual"


class Takes(StrEnum):
    """
    What is entered with an action: nothing, a change in per cent, an amount, percentage points, a text, a limit or
    rate that nothing entered takes back, or the day until which it holds, if any.
    """

    NOTHING = "nothing"
    SHARE = "share"
    AMOUNT = "amount"
    POINTS = "points"
    TEXT = "text"
    LIMIT = "limit"
    RATE = "rate"
    UNTIL = "until"


TAKES: Final[Mapping[RowAction, Takes]] = {
    **dict.fromkeys(RowAction, Takes.NOTHING),
    **dict.fromkeys(
        (RowAction.BID_BY, RowAction.BID_FROM_CPC, RowAction.BUDGET_BY, RowAction.DEFAULT_BID_BY, RowAction.BIDS_BY),
        Takes.SHARE,
    ),
    **dict.fromkeys((RowAction.BID_TO, RowAction.BUDGET_TO, RowAction.DEFAULT_BID_TO, RowAction.BIDS_TO), Takes.AMOUNT),
    **dict.fromkeys((RowAction.ADJUST_BY, RowAction.ADJUST_TO), Takes.POINTS),
    RowAction.PORTFOLIO: Takes.TEXT,
    RowAction.GOAL_LEAVE: Takes.UNTIL,
    RowAction.CEILING: Takes.LIMIT,
    RowAction.FLOOR: Takes.LIMIT,
    **dict.fromkeys((RowAction.TARGET_ACOS, RowAction.STEP_DOWN, RowAction.STEP_UP), Takes.RATE),
}
Value = float | str | None
"""What was entered with an action: changes as a fraction, amounts in units, points as they are."""
SETS_GOAL: Final[Mapping[RowAction, Goal | None]] = {
    RowAction.GOAL_SALES: Goal.SALES,
    RowAction.GOAL_PROFIT: Goal.PROFIT,
    RowAction.GOAL_LEAVE: Goal.LEAVE,
    RowAction.GOAL_USUAL: None,
}
"""What bids are to bring; None: what those of the account are."""
SETS_LIMITS: Final = (
    RowAction.TARGET_ACOS,
    RowAction.CEILING,
    RowAction.FLOOR,
    RowAction.STEP_DOWN,
    RowAction.STEP_UP,
    *SETS_GOAL,
)
"""What is set here at once, and no change of the marketplace's."""
ON_TARGETS: Final = (
    RowAction.PAUSE,
    RowAction.BID_BY,
    RowAction.BID_FROM_CPC,
    RowAction.BID_TO,
    RowAction.BID_TO_AIM,
    RowAction.ENABLE,
)
ON_TERMS: Final = (RowAction.NEGATIVE_EXACT, RowAction.NEGATIVE_PHRASE, RowAction.OWN_TARGET)


class NoSale(StrEnum):
    """What a rule on the cost of sale makes of rows that spent and sold nothing, whose cost of sale has no end."""

    ASK = ""
    ABOVE = "above"
    OUT = "out"


def first_met(conditions: Sequence[pl.Expr]) -> pl.Expr:
    """The place of the first condition that a row meets, null for none."""
    found = pl.lit(None, pl.Int64)
    for place in reversed(range(len(conditions))):
        found = pl.when(conditions[place].fill_null(False)).then(pl.lit(place, pl.Int64)).otherwise(found)
    return found.alias("tier")


def on_target(
    row: Row,
    action: RowAction,
    value: float | None,
    *,
    bid: float | None,
    state: str,
    limits: BidLimits,
    raises: bool,
    response: ClickResponse = USUAL,
) -> Recommendation:
    """
    An action on a target. value: the change of a bid as a fraction, or the bid in units; bid: its present one, None
    where it is not known; raises: also where it never made an order; response: how clicks answer bids.
    """
    if action is RowAction.PAUSE:
        if state == State.PAUSED:
            return _nothing(ReasonKey.IS_PAUSED)
        return Recommendation(Move.PAUSE, (Reason(ReasonKey.OWN_ACTION),), stopped(row.basis))
    if action is RowAction.ENABLE:
        return (
            _nothing(ReasonKey.IS_ENABLED)
            if state == State.ENABLED
            else Recommendation(Move.ENABLE, (Reason(ReasonKey.OWN_ACTION),), UNKNOWN)
        )
    if bid is None:
        return _nothing(ReasonKey.NO_BID_KNOWN)
    if action in (RowAction.BID_TO_AIM, RowAction.BID_FROM_CPC) and not row.spend:
        return _nothing(ReasonKey.NO_CLICKS)
    worth = bids.value_per_click(row.cvr, row.aov)
    wanted = {
        RowAction.BID_BY: lambda: bid * (1 + (value or 0.0)),
        RowAction.BID_FROM_CPC: lambda: row.spend / row.clicks * (1 + (value or 0.0)),
        RowAction.BID_TO: lambda: value or bid,
        RowAction.BID_TO_AIM: lambda: row.target_acos * worth,
    }[action]()
    proposed = round(min(max(wanted, limits.floor), limits.ceiling), 2)
    if abs(proposed - bid) < _HALF_CENT:
        return _nothing(ReasonKey.BID_IS_THERE)
    if proposed > bid and not row.orders and not raises:
        return _nothing(ReasonKey.RAISE_WITHOUT_ORDER)
    reasons = [Reason(ReasonKey.OWN_ACTION)]
    if proposed > wanted + _HALF_CENT:
        reasons.append(Reason(ReasonKey.FLOOR, (limits.floor,)))
    if proposed < wanted - _HALF_CENT:
        reasons.append(Reason(ReasonKey.CEILING, (limits.ceiling,)))
    entries = tuple(reasons)
    return Recommendation(
        Move.BID, entries, bid_moved(row.basis, bid, proposed, response), BidAdvice(bid, proposed, wanted, entries)
    )


def on_term(
    row: Row, action: RowAction, limits: BidLimits, *, own_exact: bool = False, ratio: float = 1.0
) -> Recommendation:
    """
    An action on a search term: kept away, exactly or as a phrase, or bought by a target of its own near what its clicks
    cost.
    own_exact: an exact target of just these words brought it: what would keep it away pauses that. ratio: what is bid
    for each unit paid where it was bought.
    """
    if action is RowAction.OWN_TARGET:
        if not row.spend or not row.aov:
            return _nothing(ReasonKey.NO_WORTH)
        if own_exact:
            return _nothing(ReasonKey.HAS_OWN_TARGET)
        advice = opening_bid(row, limits, ratio)
        return Recommendation(Move.PROMOTE, (Reason(ReasonKey.OWN_ACTION), *advice.reasons), UNKNOWN, advice)
    if own_exact:
        return Recommendation(
            Move.PAUSE, (Reason(ReasonKey.OWN_ACTION), Reason(ReasonKey.OWN_EXACT)), stopped(row.basis)
        )
    match = "negative_phrase" if action is RowAction.NEGATIVE_PHRASE else ""
    return Recommendation(Move.NEGATIVE, (Reason(ReasonKey.OWN_ACTION),), stopped(row.basis), match=match)


def _nothing(why: ReasonKey) -> Recommendation:
    return Recommendation(Move.NONE, (Reason(why),))
