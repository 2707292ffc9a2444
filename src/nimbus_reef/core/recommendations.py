"""What to do about one judged row: pause, another bid, a negative, or nothing yet, and why."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

from nimbus_reef.core import bids, words
from nimbus_reef.core.bids import (
    STANDARD_LIMITS,
    STANDARD_RULE,
    BidAdvice,
    BidLimits,
    BidMove,
    BidRule,
    Held,
    TargetAdvice,
)
from nimbus_reef.core.costly_words import WordAdvice
from nimbus_reef.core.model import Verdict
from nimbus_reef.core.projection import NOTHING, UNKNOWN, Basis, Projected, bid_moved, part_of, stopped
from nimbus_reef.core.reasons import Reason, ReasonKey
from nimbus_reef.core.response import USUAL, ClickResponse


class Move(StrEnum):
    """What a proposal does."""

    NONE = "none"
    PAUSE = "pause"
    ENABLE = "enable"
    BID = "bid"
    NEGATIVE = "negative"
    PROMOTE = "promote"


@dataclass(frozen=True, slots=True)
class Row:
    """One judged row, money in units of currency; a, b the posterior of its conversion."""

    days: int
    clicks: int
    orders: int
    spend: float
    sales: float
    a: float
    b: float
    aov: float
    target_acos: float
    verdict: Verdict
    own_test: bool
    own_fault: bool
    more_clicks: int | None
    by_words: bool = False

    @property
    def cvr(self) -> float:
        """The conversion to expect of it."""
        return self.a / (self.a + self.b)

    @property
    def basis(self) -> Basis:
        """What a projection starts from."""
        return Basis(self.days, self.clicks, self.spend, self.sales, self.a, self.b, self.aov)


@dataclass(frozen=True, slots=True)
class Recommendation:
    """
    What to do about a judged row, with reasons; `advice` where it is about a bid, `new_bid` where it moves one. match:
    of a negative, where it is not the usual one.
    """

    move: Move
    reasons: tuple[Reason, ...]
    projected: Projected = NOTHING
    advice: BidAdvice | None = None
    match: str = ""

    @property
    def new_bid(self) -> float | None:
        """The bid proposed, None unless one is to be set."""
        return self.advice.proposed if self.move in (Move.BID, Move.PROMOTE) and self.advice else None


@dataclass(frozen=True, slots=True)
class AdProduct:
    """A product advertised in an ad group, and what its title is made of."""

    sku: str
    title: str
    spend: float
    core: frozenset[str]


def sold_by(term: str, products: Sequence[AdProduct]) -> AdProduct | None:
    """
    The product of an ad group that a search most likely bought: the one whose title holds most of its words, of equals
    the one with most spend, then the smaller SKU; None where the ad group's products are not known.
    """
    asked = set(words.words(term))
    return max(
        sorted(products, key=lambda each: each.sku),
        key=lambda each: (len(asked & set(words.words(each.title))), each.spend),
        default=None,
    )


def for_target(
    row: Row, advice: TargetAdvice, rule: BidRule = STANDARD_RULE, response: ClickResponse = USUAL
) -> Recommendation:
    """The advice on a target: another bid, a pause where no bid is left at which it would pay, or why it stays."""
    if advice.move is BidMove.PAUSE:
        price = row.spend / row.clicks
        reasons = (
            Reason(ReasonKey.NO_BID_LEFT, (row.clicks, row.orders, advice.may_cost, price)),
            Reason(ReasonKey.LOSES, (advice.p_lose, advice.margin)),
        )
        return Recommendation(Move.PAUSE, reasons, stopped(row.basis))
    why = advice.because(rule, response)
    if advice.move is BidMove.NONE or advice.bid is None or advice.proposed is None or advice.aim is None:
        return Recommendation(Move.NONE, (_HELD[Held(advice.held)](row, advice), *why))
    projected = bid_moved(row.basis, advice.bid, advice.proposed, response) if row.spend else UNKNOWN
    moved = BidAdvice(advice.bid, advice.proposed, advice.aim, why)
    return Recommendation(Move.BID, (*why, *_thin(row, advice)), projected, moved)


_Held = Callable[[Row, TargetAdvice], Reason]


def _plain(key: ReasonKey) -> _Held:
    return lambda row, advice: Reason(key)


_HELD: Mapping[Held, _Held] = {
    Held.NOT_LIVE: _plain(ReasonKey.NOT_LIVE),
    Held.LEFT: _plain(ReasonKey.LEFT),
    Held.YOUNG: _plain(ReasonKey.WAITS),
    Held.NO_BID: _plain(ReasonKey.NO_BID_KNOWN),
    Held.NO_WORTH: _plain(ReasonKey.TOO_SMALL),
    Held.JUST_MOVED: lambda row, advice: Reason(ReasonKey.JUST_MOVED, (advice.moved_days,)),
    Held.ON_AIM: lambda row, advice: Reason(ReasonKey.STAYS, (advice.bid,)),
    Held.PRICE: lambda row, advice: Reason(ReasonKey.PRICE_IS_RIGHT, (row.spend / row.clicks,)),
    Held.ABOVE_TARGET: _plain(ReasonKey.NO_RAISE),
    Held.OWN_BRAND: _plain(ReasonKey.OWN_BRAND_STAYS),
    Held.OUT_OF_BUDGET: _plain(ReasonKey.RAISE_WAITS),
    Held.PAGE: _plain(ReasonKey.PAGE_BROKE),
    Held.FLOOR: lambda row, advice: Reason(ReasonKey.FLOOR, (advice.floor,)),
    Held.CEILING: lambda row, advice: Reason(ReasonKey.CEILING, (advice.ceiling,)),
    Held.SPEND: lambda row, advice: Reason(ReasonKey.SPEND_HELD, (advice.share_of_raise,)),
    Held.SMALL: lambda row, advice: Reason(ReasonKey.STAYS, (advice.bid,)),
    Held.TINY: _plain(ReasonKey.TINY_GAIN),
}
_APART = 1.5
"""By so much its own conversion differs from that of similar targets where both are said."""


def _thin(row: Row, advice: TargetAdvice) -> tuple[Reason, ...]:
    """Whose conversion the worth of a click mostly is, where it is not plainly its own."""
    mean = advice.cohort_mean
    if mean is None:
        return ()
    if not row.clicks:
        return (Reason(ReasonKey.NO_CLICKS_YET, (mean,)),)
    strength = row.a + row.b - row.clicks
    if row.clicks < strength:
        return (Reason(ReasonKey.FEW_CLICKS, (row.clicks, mean)),)
    own = min(row.orders, row.clicks) / row.clicks
    if max(own, mean) >= _APART * min(own, mean):
        return (Reason(ReasonKey.OWN_CONVERSION, (own, mean)),)
    return ()


def for_term(
    row: Row,
    term: str,
    *,
    loses: bool,
    p_lose: float | None = None,
    margin: float | None = None,
    products: Sequence[AdProduct] = (),
    orders_elsewhere: int = 0,
    never: Collection[str] = (),
    own_exact: bool = False,
) -> Recommendation:
    """
    A negative for a term above target that surely loses money (see `core.bids.loses`) by its own fault, also where it
    made an order, unless it names what an advertised product is: then it would keep buyers of that product away.

    p_lose, margin: how sure, and at which margin; None where the target stood in. never: words that the account never
    shuts out. own_exact: an exact target of just these words brought it; that is paused, for a negative would only
    stand beside it.
    """
    if kept := _no_negative(row, loses=loses):
        return kept
    if any(word in never for word in words.words(term)):
        return Recommendation(Move.NONE, (Reason(ReasonKey.NEVER_SHUT_OUT),))
    if any(words.names_product(term, product.core) for product in products):
        return Recommendation(Move.NONE, (Reason(ReasonKey.NAMES_PRODUCT),))
    lost = Reason(ReasonKey.LOSES, (p_lose, margin))
    reasons = [Reason(ReasonKey.OWN_TEST, (row.clicks,)), Reason(ReasonKey.OWN_FAULT, (row.cvr,)), lost]
    if row.orders:
        reasons.append(Reason(ReasonKey.SALES_LOST, (row.orders, row.sales)))
    if orders_elsewhere:
        reasons.append(Reason(ReasonKey.ORDERS_ELSEWHERE, (orders_elsewhere,)))
    if own_exact:
        return Recommendation(Move.PAUSE, (*reasons, Reason(ReasonKey.OWN_EXACT)), stopped(row.basis))
    return Recommendation(Move.NEGATIVE, tuple(reasons), stopped(row.basis))


@dataclass(frozen=True, slots=True)
class Place:
    """
    An ad group whose terms hold a phrase: what they spent there, the ways it is spelt, and
    the terms' row ids. names_product: it is what an advertised product there is called.
    """

    campaign: str
    ad_group: str
    spend: float
    spelt: tuple[str, ...]
    terms: tuple[str, ...]
    names_product: bool


@dataclass(frozen=True, slots=True)
class Word:
    """
    A word as it was judged: how likely its factor is under the limit, the factor, the limit, in how many
    cells it stands, what is to be done about it, and what a phrase negative would take along.
    """

    chance: float
    factor: float
    limit: float
    cells: int
    advice: WordAdvice
    good_terms: int
    good_orders: int


def for_word(row: Row, word: Word, places: Sequence[Place]) -> Recommendation:
    """A phrase negative wherever a word was paid for that is to be shut out; else why nothing is done."""
    by_key: dict[WordAdvice, Reason] = {
        WordAdvice.UNSURE: Reason(ReasonKey.WORD_UNSURE, (word.chance,)),
        WordAdvice.BID_LOWER: Reason(ReasonKey.WORD_LOWER, (word.factor / word.limit,)),
        WordAdvice.FEW: Reason(ReasonKey.WORD_FEW, (word.cells,)),
        WordAdvice.OWN_PRODUCT: Reason(ReasonKey.NAMES_PRODUCT),
        WordAdvice.OWN_BRAND: Reason(ReasonKey.OWN_BRAND),
    }
    if word.advice is not WordAdvice.SHUT_OUT:
        return Recommendation(Move.NONE, (by_key[word.advice],))
    reasons = [Reason(ReasonKey.WORD_FACTOR, (word.factor, word.limit)), Reason(ReasonKey.PLACES, (len(places),))]
    if word.good_terms:
        reasons.append(Reason(ReasonKey.WORD_HITS, (word.good_terms, word.good_orders)))
    return Recommendation(Move.NEGATIVE, tuple(reasons), stopped(row.basis))


def can_be_negative(row: Row, word: Word | None) -> bool:
    """Whether a phrase can be proposed as a negative, wherever it was bought; word: of a single word."""
    return _no_negative(row) is None if word is None else word.advice is WordAdvice.SHUT_OUT


def for_phrase(row: Row, places: Sequence[Place]) -> Recommendation:
    """
    A phrase negative in every ad group that paid for it, on the terms of `for_term`, but
    where it names what an advertised product is.
    """
    if kept := _no_negative(row):
        return kept
    free = [place for place in places if not place.names_product]
    if not free:
        return Recommendation(Move.NONE, (Reason(ReasonKey.NAMES_PRODUCT),))
    reasons = [
        Reason(ReasonKey.OWN_TEST, (row.clicks,)),
        Reason(ReasonKey.OWN_FAULT, (row.cvr,)),
        Reason(ReasonKey.PLACES, (len(free),)),
    ]
    if len(free) < len(places):
        reasons.append(Reason(ReasonKey.PLACES_SPARED, (len(places) - len(free),)))
    whole = sum(place.spend for place in places)
    share = sum(place.spend for place in free) / whole if whole else 0.0
    return Recommendation(Move.NEGATIVE, tuple(reasons), part_of(stopped(row.basis), share))


def _no_negative(row: Row, *, loses: bool | None = None) -> Recommendation | None:
    """
    Why a row is not to be kept away, or None where it is costly by its own fault. loses: whether it surely loses money,
    which counts also with orders; None: no orders are allowed.
    """
    if row.orders and loses is None:
        return Recommendation(Move.NONE, (Reason(ReasonKey.HAS_ORDERS, (row.orders,)),))
    if row.verdict is Verdict.NOT_ENOUGH:
        return Recommendation(Move.NONE, (Reason(ReasonKey.TOO_SMALL if row.clicks else ReasonKey.NO_CLICKS),))
    if row.verdict is Verdict.WITHIN:
        return Recommendation(Move.NONE, (Reason(ReasonKey.WITHIN_TARGET),))
    if row.verdict is not Verdict.ABOVE:
        figures = () if row.more_clicks is None else (float(row.more_clicks),)
        return Recommendation(Move.NONE, (Reason(ReasonKey.UNDECIDED, figures),))
    if not row.own_test:
        why = Reason(ReasonKey.ITS_WORDS) if row.by_words else Reason(ReasonKey.NO_OWN_TEST, (row.clicks,))
        return Recommendation(Move.NONE, (why,))
    if not row.own_fault:
        return Recommendation(Move.NONE, (Reason(ReasonKey.ITS_PRODUCT, (row.cvr,)),))
    if loses is False:
        return Recommendation(Move.NONE, (Reason(ReasonKey.STILL_EARNS),))
    return None


def for_winner(row: Row, limits: BidLimits = STANDARD_LIMITS, *, ratio: float = 1.0) -> Recommendation:
    """
    An promote to exact, at the bid at which its expected cost of sale is the target, near what its clicks cost
    now.

    ratio: what is bid for each unit paid where it was bought.
    """
    advice = opening_bid(row, limits, ratio)
    wins = Reason(ReasonKey.WINS, (row.orders, row.spend / row.sales))
    return Recommendation(Move.PROMOTE, (wins, *advice.reasons), UNKNOWN, advice)


def opening_bid(row: Row, limits: BidLimits, ratio: float = 1.0) -> BidAdvice:
    """What a term that gets a target of its own opens with; the row has clicks."""
    return bids.opening(
        value=bids.value_per_click(row.cvr, row.aov),
        target_acos=row.target_acos,
        cpc=row.spend / row.clicks,
        ratio=ratio,
        limits=limits,
    )
