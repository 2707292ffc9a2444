"""Checks on targets and search terms: what costs much and converts little."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core.checks.registry import Check, Subject, register
from nimbus_reef.core.costly_words import Fate
from nimbus_reef.core.evidence import flagged, with_its_product
from nimbus_reef.core.model import Verdict

_COSTLY = pl.col("verdict") == Verdict.COSTLY.value
_OWN_TEST = pl.col("own_test")
_OWN_FAULT = pl.col("own_fault")
_NO_ORDER = pl.col("orders") == 0

COSTLY_TARGETS = register(
    Check(
        key="costly-targets",
        subject=Subject.TARGET,
        title="Targets that cost more than they may",
        question="Which targets sell, but above the target ACOS after a fair test?",
        to_do="lower the bid",
        condition=flagged() & _OWN_FAULT & _OWN_TEST & ~_NO_ORDER,
    )
)

NO_ORDER_TARGETS = register(
    Check(
        key="no-order-targets",
        subject=Subject.TARGET,
        title="Targets that spend without an order",
        question="Which targets had clicks enough for an order and brought none?",
        to_do="pause, or lower the bid",
        condition=flagged() & _OWN_FAULT & _OWN_TEST & _NO_ORDER,
    )
)

WASTED_TERMS = register(
    Check(
        key="wasted-terms",
        subject=Subject.TERM,
        title="Search terms that waste money",
        question="Which terms had a fair test, convert below their company and sold nothing?",
        to_do="add a negative",
        condition=_COSTLY & _OWN_TEST & _OWN_FAULT & _NO_ORDER,
    )
)

WITH_ITS_PRODUCT = register(
    Check(
        key="with-its-product",
        subject=Subject.TARGET,
        title="Targets that cost too much as a whole",
        question="Where do targets miss the target ACOS though they convert like their company?",
        to_do="look at what they advertise, its price and its bids",
        condition=with_its_product(),
    )
)

WORDS_TO_SHUT_OUT = register(
    Check(
        key="words-to-shut-out",
        subject=Subject.PHRASE,
        title="Words to shut out",
        question="Which words bring so few of the orders due without them that their searches are better not bought?",
        to_do="add a negative phrase",
        condition=(pl.col("fate") == Fate.SHUT_OUT.value) & (pl.col("waste") > 0),
    )
)

WORDS_TO_BID_LOWER = register(
    Check(
        key="words-to-bid-lower",
        subject=Subject.PHRASE,
        title="Words that bring less than their clicks cost",
        question="Which words bring fewer orders than were due without them, though too many to be shut out?",
        to_do="bid lower on what brings them",
        condition=(pl.col("fate") == Fate.BID_LOWER.value) & (pl.col("waste") > 0),
    )
)
