"""
What a click is worth, the bid that follows, and every limit that held it back.

Formulas: "Bids" in docs/calculations.md. Money here is in units of currency.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimbus_reef.core.metrics import met_target
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.reasons import Reason, ReasonKey

RATIO_CLIP = (0.5, 2.0)
STEP_DOWN = 0.30
STEP_UP = 0.20
OPENING = (0.5, 1.5)
PAST_BEST = 1.10
BLOCK_DAYS = 14
MOST_BLOCKS = 6
BLOCK_ORDERS = 3
_HALF_CENT = 0.005


@dataclass(frozen=True, slots=True)
class BidLimits:
    """
    Bid limits of the account: floor, ceiling, largest step. opening_least, opening_most: limits of an opening bid, in
    parts of what its clicks cost.
    """

    floor: float = 0.02
    ceiling: float = 10.0
    step_down: float = STEP_DOWN
    step_up: float = STEP_UP
    opening_least: float = OPENING[0]
    opening_most: float = OPENING[1]


STANDARD_LIMITS = BidLimits()


@dataclass(frozen=True, slots=True)
class BidAdvice:
    """The proposed bid (equal to the present one when it should stay) and its reasons."""

    bid: float
    proposed: float
    aim: float
    reasons: tuple[Reason, ...]

    @property
    def moves(self) -> bool:
        """True when the proposal differs by at least a cent."""
        return abs(self.proposed - self.bid) >= _HALF_CENT


@dataclass(frozen=True, slots=True)
class PastBlock:
    """Fourteen days of one target: click-weighted bid, clicks, orders, spend, sales."""

    bid: float
    orders: int
    spend: float
    sales: float


@dataclass(frozen=True, slots=True)
class Day:
    """One day of one target; bid None where no settings are known."""

    clicks: int
    orders: int
    spend: float
    sales: float
    bid: float | None


def blocks(days: Sequence[Day]) -> list[PastBlock]:
    """The six newest 14-day blocks counted back from the last day given, whole ones only, newest first."""
    found = []
    for end in range(len(days), max(BLOCK_DAYS - 1, len(days) - MOST_BLOCKS * BLOCK_DAYS), -BLOCK_DAYS):
        part = days[end - BLOCK_DAYS : end]
        weighted = [(day.bid, day.clicks) for day in part if day.bid is not None and day.clicks]
        if not weighted:
            continue
        clicks = sum(count for _, count in weighted)
        found.append(
            PastBlock(
                bid=sum(bid * count for bid, count in weighted) / clicks,
                orders=sum(day.orders for day in part),
                spend=sum(day.spend for day in part),
                sales=sum(day.sales for day in part),
            )
        )
    return found


def best_working_bid(history: Sequence[PastBlock], target_acos: float) -> float | None:
    """The highest bid of a block that met the target with at least 3 orders."""
    worked = [
        block.bid
        for block in history
        if block.orders >= BLOCK_ORDERS and met_target(block.spend, block.sales, target_acos)
    ]
    return max(worked, default=None)


def value_per_click(expected_cvr: float, aov: float) -> float:
    """V = E[CVR] · AOV, what one click earns in sales."""
    return expected_cvr * aov


def bid_ratio(bid: float, cpc: float) -> float:
    """r: what is bid for each unit paid for a click, clipped 0.5…2."""
    return min(max(bid / cpc, RATIO_CLIP[0]), RATIO_CLIP[1])


def opening(
    *, value: float, target_acos: float, cpc: float, ratio: float, limits: BidLimits = STANDARD_LIMITS
) -> BidAdvice:
    """
    The opening bid of a promoted term, close to what its clicks cost so far, and its reasons.

    A few lucky clicks show a high worth; opening near today's price finds out at today's cost.

    Parameters
    ----------
    value : money a click
        What a click brings.
    target_acos : fraction
    cpc : money a click
        What its clicks cost where it was bought.
    ratio : number
        What is bid there for each unit paid.
    limits : BidLimits
        At most `opening_most` (1.5) times and at least `opening_least` (half) of today's price.

    Returns
    -------
    BidAdvice
        Money in the unit of `cpc`.

    References
    ----------
    docs/calculations.md, “Bids”.
    """
    paid = cpc * ratio
    aim = target_acos * value * ratio
    near = min(max(aim, limits.opening_least * paid), limits.opening_most * paid)
    bid = round(min(max(near, limits.floor), limits.ceiling), 2)
    reasons = [Reason(ReasonKey.OPENING_BID, (bid, value, target_acos))]
    if near != aim:
        reasons.append(
            Reason(ReasonKey.OPENING_NEAR, (cpc, limits.opening_most if near < aim else limits.opening_least))
        )
    if bid != round(near, 2):
        reasons.append(Reason(ReasonKey.FLOOR if bid > near else ReasonKey.CEILING, (bid,)))
    return BidAdvice(bid, bid, aim, tuple(reasons))


def advise(
    *,
    bid: float,
    cpc: float,
    value: float,
    target_acos: float,
    verdict: Verdict,
    best_bid: float | None = None,
    limits: BidLimits = STANDARD_LIMITS,
) -> BidAdvice:
    """
    The bid at which a click costs what it may, limited one step at a time.

    aim = target × v × (bid/CPC, clipped to 0.5 … 2). No raise while the row is costly or leaning, none past the
    best-working bid × 1.10.

    Parameters
    ----------
    bid : money a click
        In force.
    cpc : money a click
        What its clicks cost, above 0: without a click nothing is moved.
    value : money a click
        v, what a click brings.
    target_acos : fraction
    verdict : Verdict
    best_bid : money a click, optional
        The one that worked best so far.
    limits : BidLimits

    Returns
    -------
    BidAdvice
        In the same unit.

    References
    ----------
    docs/calculations.md, “Bids”.
    """
    ratio = bid_ratio(bid, cpc)
    aim = target_acos * value * ratio
    reasons = [Reason(ReasonKey.AIM, (aim, value, target_acos, ratio))]
    proposed = aim
    if proposed > bid:
        proposed = _raise(bid, aim, verdict, best_bid, limits, reasons)
    elif proposed < bid * (1 - limits.step_down):
        proposed = bid * (1 - limits.step_down)
        reasons.append(Reason(ReasonKey.STEP_DOWN, (limits.step_down,)))
    if proposed < limits.floor:
        proposed = limits.floor
        reasons.append(Reason(ReasonKey.FLOOR, (limits.floor,)))
    if proposed > limits.ceiling:
        proposed = limits.ceiling
        reasons.append(Reason(ReasonKey.CEILING, (limits.ceiling,)))
    proposed = round(proposed, 2)
    if abs(proposed - bid) < _HALF_CENT:
        reasons.append(Reason(ReasonKey.STAYS, (bid,)))
        proposed = bid
    return BidAdvice(bid, proposed, aim, tuple(reasons))


def _raise(
    bid: float, aim: float, verdict: Verdict, best_bid: float | None, limits: BidLimits, reasons: list[Reason]
) -> float:
    if verdict is not Verdict.WITHIN:
        reasons.append(Reason(ReasonKey.NO_RAISE, ()))
        return bid
    proposed = aim
    if proposed > bid * (1 + limits.step_up):
        proposed = bid * (1 + limits.step_up)
        reasons.append(Reason(ReasonKey.STEP_UP, (limits.step_up,)))
    if best_bid is not None and proposed > best_bid * PAST_BEST:
        proposed = max(bid, best_bid * PAST_BEST)
        reasons.append(Reason(ReasonKey.BEST_BID, (best_bid,)))
    return proposed
