"""Checks on targets, search terms and words: what costs much and converts little, and what earns."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core.checks.registry import AreaKey, Check, Money, Reading, Subject, register
from nimbus_reef.core.costly_words import WordAdvice
from nimbus_reef.core.evidence import flagged, with_its_product
from nimbus_reef.core.model import Verdict

_COSTLY = pl.col("verdict") == Verdict.COSTLY.value
_OWN_TEST = pl.col("own_test")
_OWN_FAULT = pl.col("own_fault")
_NO_ORDER = pl.col("orders") == 0

COSTLY_TARGETS = register(
    Check(
        key="costly-targets",
        area=AreaKey.TARGETING,
        subject=Subject.TARGET,
        view="targets",
        reads=Reading.TARGETS,
        money=Money.OVERSPEND,
        title="Targets that cost more than they may",
        question="Which targets sell, but above the target ACOS after a fair test?",
        to_do="lower the bid",
        condition=flagged() & _OWN_FAULT & _OWN_TEST & ~_NO_ORDER,
        accepts=True,
        see_all=("verdict:is:costly", "orders:gt:0"),
    )
)

NO_ORDER_TARGETS = register(
    Check(
        key="no-order-targets",
        area=AreaKey.TARGETING,
        subject=Subject.TARGET,
        view="targets",
        reads=Reading.TARGETS,
        money=Money.OVERSPEND,
        title="Targets that spend without an order",
        question="Which targets had clicks enough for an order and brought none?",
        to_do="pause, or lower the bid",
        condition=flagged() & _OWN_FAULT & _OWN_TEST & _NO_ORDER,
        accepts=True,
        see_all=("verdict:is:costly", "orders:eq:0"),
    )
)

WASTED_TERMS = register(
    Check(
        key="wasted-terms",
        area=AreaKey.TARGETING,
        subject=Subject.TERM,
        view="terms",
        reads=Reading.TERMS,
        money=Money.OVERSPEND,
        title="Search terms that waste money",
        question="Which terms had a fair test, convert below similar ones and sold nothing?",
        to_do="add a negative",
        condition=_COSTLY & _OWN_TEST & _OWN_FAULT & _NO_ORDER,
        accepts=True,
        see_all=("verdict:is:costly", "orders:eq:0"),
    )
)

WITH_ITS_PRODUCT = register(
    Check(
        key="with-its-product",
        area=AreaKey.TARGETING,
        subject=Subject.TARGET,
        view="targets",
        reads=Reading.TARGETS,
        money=Money.OVERSPEND,
        title="Targets that cost too much as a whole",
        question="Where do targets miss the target ACOS though they convert like similar ones?",
        to_do="look at what they advertise, its price and its bids",
        condition=with_its_product(),
        gathers=True,
    )
)

WORDS_TO_SHUT_OUT = register(
    Check(
        key="words-to-shut-out",
        area=AreaKey.TARGETING,
        subject=Subject.PHRASE,
        view="words",
        reads=Reading.WORDS,
        money=Money.OVERSPEND,
        title="Words to shut out",
        question="Which words bring so few of the orders due without them that their searches are better not bought?",
        to_do="add a negative phrase",
        condition=(pl.col("fate") == WordAdvice.SHUT_OUT.value) & (pl.col("waste") > 0),
        accepts=True,
        see_all=(f"fate:is:{WordAdvice.SHUT_OUT}",),
    )
)

WORDS_TO_BID_LOWER = register(
    Check(
        key="words-to-bid-lower",
        area=AreaKey.TARGETING,
        subject=Subject.PHRASE,
        view="words",
        reads=Reading.WORDS,
        money=Money.OVERSPEND,
        title="Words that bring less than their clicks cost",
        question="Which words bring fewer orders than were due without them, though too many to be shut out?",
        to_do="bid lower on what brings them",
        condition=(pl.col("fate") == WordAdvice.BID_LOWER.value) & (pl.col("waste") > 0),
        see_all=(f"fate:is:{WordAdvice.BID_LOWER}",),
    )
)

WINNERS = register(
    Check(
        key="winners",
        area=AreaKey.TARGETING,
        subject=Subject.TERM,
        view="terms",
        reads=Reading.WINNERS,
        money=Money.EARNED,
        title="Search terms that earn a target of their own",
        question="Which terms sell within target and are bought by no target of their own?",
        to_do="promote to exact",
        condition=pl.lit(True),
        accepts=True,
        see_all=("orders:ge:2", "verdict:is:fine"),
    )
)


def filed_under(verdict: Verdict, *, own_fault: bool, by_words: bool, orders: int) -> str:
    """The check that a change of a target is filed under: the one that found it, else advice on its bid."""
    if verdict not in (Verdict.COSTLY, Verdict.LEANING):
        return "bid-advice"
    if not own_fault and not by_words:
        return WITH_ITS_PRODUCT.key
    return COSTLY_TARGETS.key if orders else NO_ORDER_TARGETS.key
