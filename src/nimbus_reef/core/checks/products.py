"""Checks on products and categories: what moved them, what their pages did, where they stand."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core.checks.registry import AreaKey, Check, Money, Reading, Subject, register
from nimbus_reef.core.movement import Movement

LEAKING = register(
    Check(
        key="leaking-products",
        area=AreaKey.MOVEMENT,
        subject=Subject.PRODUCT,
        reads=Reading.MOVED,
        money=Money.OWN,
        title="Products that spend more and sell no more",
        question="Which products cost more than in the days before and sell no more for it?",
        to_do="look at what changed: bids, page, price",
        condition=pl.col("movement") == Movement.LEAKING.value,
    )
)

NOT_WORTH = register(
    Check(
        key="growth-not-worth",
        area=AreaKey.MOVEMENT,
        subject=Subject.PRODUCT,
        reads=Reading.MOVED,
        money=Money.OWN,
        title="Growth that costs more than it may",
        question="Which products sell more, each further sale above the target?",
        to_do="take back the raise that bought it",
        condition=(pl.col("movement") == Movement.BUYING.value) & ~pl.col("worth"),
    )
)

PAGE_LOST = register(
    Check(
        key="page-lost",
        area=AreaKey.CATALOG,
        subject=Subject.PRODUCT,
        reads=Reading.LOST,
        money=Money.SPENT,
        title="Product pages that lost something",
        question="Which product pages lost pictures, bullets, words, stock or the main offer with the newest load?",
        to_do="restore the page, or stop its ads until it is back",
        condition=pl.lit(True),
        view="listings",
        urgent=True,
    )
)

FELL = register(
    Check(
        key="page-broke",
        area=AreaKey.CATALOG,
        subject=Subject.PRODUCT,
        reads=Reading.FALLS,
        money=Money.OWN,
        title="Conversion that fell when a page changed",
        question="Which products convert less since their page changed?",
        to_do="look at the product page",
        condition=pl.lit(True),
    )
)

BOTTOM = register(
    Check(
        key="bottom-quarter",
        area=AreaKey.STANDING,
        subject=Subject.CATEGORY,
        reads=Reading.GAPS,
        money=Money.OWN,
        title="Metrics in the bottom quarter of their category",
        question="In which categories do three quarters of peers do better?",
        to_do="look at what drags it",
        condition=pl.lit(True),
    )
)
