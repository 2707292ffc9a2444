"""Checks on targets, search terms and words: what costs much and converts little, and what earns."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core.checks.registry import AreaKey, Check, Money, Reading, Subject, register
from nimbus_reef.core.costly_words import WordAdvice
from nimbus_reef.core.evidence import flagged, with_its_product
from nimbus_reef.core.model import Verdict

_COSTLY = pl.col("verdict") == Verdict.ABOVE.value
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
        title="Targets above target ACOS",
        question="Which targets sell, but above target ACOS after a fair test?",
        to_do="lower the bid",
        condition=flagged() & _OWN_FAULT & _OWN_TEST & ~_NO_ORDER,
        accepts=True,
        see_all=(f"verdict:is:{Verdict.ABOVE}", "orders:gt:0"),
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
        title="Targets with spend and no orders",
        question="Which targets had enough clicks for an order and brought none?",
        to_do="pause, or lower the bid",
        condition=flagged() & _OWN_FAULT & _OWN_TEST & _NO_ORDER,
        accepts=True,
        see_all=(f"verdict:is:{Verdict.ABOVE}", "orders:eq:0"),
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
        title="Wasted search terms",
        question="Which search terms had a fair test, convert below similar ones and lose money?",
        to_do="add a negative",
        condition=_COSTLY & _OWN_TEST & _OWN_FAULT & pl.col("loses"),
        accepts=True,
        see_all=(f"verdict:is:{Verdict.ABOVE}", "loses:is:yes"),
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
        title="Products above target ACOS on all their targets",
        question="Where do targets miss target ACOS although they convert like similar targets?",
        to_do="check the product, its price and its bids",
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
        title="Words to block",
        question="Which words bring so few orders that their searches are better blocked?",
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
        title="Words to bid down",
        question="Which words lower conversion, but sell too much to be blocked?",
        to_do="lower the bid of the targets behind them",
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
        title="Search terms to promote",
        question="Which search terms sell within target and have no target of their own?",
        to_do="promote to exact",
        condition=pl.lit(True),
        accepts=True,
        see_all=("orders:ge:2", f"verdict:is:{Verdict.WITHIN}"),
    )
)

BIDS_TO_MOVE = register(
    Check(
        key="bids-to-move",
        area=AreaKey.TARGETING,
        subject=Subject.TARGET,
        view="targets",
        reads=Reading.BIDS,
        money=Money.GAIN,
        title="Bids to move",
        question="Which bids bring most of what moving all of them is expected to gain?",
        to_do="move them as proposed",
        condition=pl.lit(True),
        accepts=True,
        by_itself=True,
        see_all=("carries:is:yes",),
        sentence=lambda row: "{cuts:counted cut}, {raises:counted raise}, {pauses:counted pause}",
    )
)

QUIET_TARGETS = register(
    Check(
        key="quiet-targets",
        area=AreaKey.TARGETING,
        subject=Subject.TARGET,
        view="targets",
        reads=Reading.QUIET,
        money=Money.GAIN,
        title="Targets without traffic",
        question="Which live targets had no impressions for a week at a bid below what a click is worth?",
        to_do="raise the bid step by step",
        condition=pl.lit(True),
        accepts=True,
        see_all=("quiet:is:yes", "advice:is:raise"),
        sentence=lambda row: (
            "no impressions in 7 days; in all loaded reports {history_clicks:counted click},"
            " {history_orders:counted order}"
        ),
    )
)


def filed_under(verdict: Verdict, *, own_fault: bool, by_words: bool, orders: int) -> str:
    """The check that a change of a target is filed under: the one that found it, else advice on its bid."""
    if verdict not in (Verdict.ABOVE, Verdict.LIKELY_ABOVE):
        return "bid-advice"
    if not own_fault and not by_words:
        return WITH_ITS_PRODUCT.key
    return COSTLY_TARGETS.key if orders else NO_ORDER_TARGETS.key
