"""
One's own rules: on the rows that meet a condition, an action of one's own; the first rule that fits counts (N32).

What an action cannot do on a row is left out with its reason. A raise of something that never made an order is left out
unless it is asked for by name.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.core import bids
from nimbus_reef.core.bids import BidAdvice, BidLimits
from nimbus_reef.core.model import State
from nimbus_reef.core.projection import UNKNOWN, bid_moved, stopped
from nimbus_reef.core.reasons import Reason, ReasonKey
from nimbus_reef.core.recommendations import Move, Recommendation, Row, opening_bid

_HALF_CENT: Final = 0.005
NO_ORDER: Final = "no order"
ALWAYS: Final = ""
COST_OF_SALE: Final = "acos"


class RowAction(StrEnum):
    """What is done to a row."""

    PAUSE = "pause"
    ENABLE = "enable"
    BID_BY = "bid by"
    BID_TO = "bid to"
    BID_TO_AIM = "bid to aim"
    NEGATIVE_EXACT = "negative exact"
    NEGATIVE_PHRASE = "negative phrase"
    OWN_TARGET = "target of its own"


ON_TARGETS: Final = (RowAction.PAUSE, RowAction.BID_BY, RowAction.BID_TO, RowAction.BID_TO_AIM, RowAction.ENABLE)
ON_TERMS: Final = (RowAction.NEGATIVE_EXACT, RowAction.NEGATIVE_PHRASE, RowAction.OWN_TARGET)
NEEDS_VALUE: Final = (RowAction.BID_BY, RowAction.BID_TO)


class NoSale(StrEnum):
    """What a rule on the cost of sale makes of rows that spent and sold nothing, whose cost of sale has no end."""

    ASK = ""
    ABOVE = "above"
    OUT = "out"


@dataclass(frozen=True, slots=True)
class Tier:
    """
    A rule: rows whose metric lies between least and most (both included, None for open), and what is done on them.
    metric: the key of a field, ALWAYS or NO_ORDER; value: the change of a bid as a fraction, or the bid in units.
    no_sale: of a rule on ACOS without an upper end, whether rows without a sale count; they do not while that is not
    said.
    """

    metric: str
    least: float | None
    most: float | None
    action: RowAction
    value: float | None = None
    no_sale: NoSale = NoSale.ASK

    @property
    def endless(self) -> bool:
        """Whether it would hold rows whose cost of sale has no end."""
        return self.metric == COST_OF_SALE and self.most is None


def tier_of(tiers: Sequence[Tier], fields: dict[str, pl.Expr]) -> pl.Expr:
    """
    The place of the first rule that a row meets, null for none. fields: what metrics are worth, in the unit they are
    typed in.
    """
    found = pl.lit(None, pl.Int64)
    for place in reversed(range(len(tiers))):
        found = pl.when(_meets(tiers[place], fields)).then(pl.lit(place, pl.Int64)).otherwise(found)
    return found.alias("tier")


def _meets(tier: Tier, fields: dict[str, pl.Expr]) -> pl.Expr:
    if tier.metric == ALWAYS:
        return pl.lit(True)
    if tier.metric == NO_ORDER:
        return pl.col("orders") == 0
    value = fields[tier.metric]
    within = value.is_not_null()
    if tier.least is not None:
        within &= value >= tier.least - 1e-9
    if tier.most is not None:
        within &= value <= tier.most + 1e-9
    if tier.endless and tier.no_sale is not NoSale.ABOVE:
        within &= pl.col("sales") > 0
    return within.fill_null(False)


def on_target(
    row: Row, action: RowAction, value: float | None, *, bid: float | None, state: str, limits: BidLimits, raises: bool
) -> Recommendation:
    """
    An action on a target. bid: its present one, None where it is not known; raises: also where it
    never made an order.
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
    if action is RowAction.BID_TO_AIM and not row.spend:
        return _nothing(ReasonKey.NO_CLICKS)
    worth = bids.value_per_click(row.cvr, row.aov)
    wanted = {
        RowAction.BID_BY: lambda: bid * (1 + (value or 0.0)),
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
        Move.BID, entries, bid_moved(row.basis, bid, proposed), BidAdvice(bid, proposed, wanted, entries)
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
