"""Checks on products and categories: what moved them, what their pages did, where they stand."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import polars as pl

from nimbus_reef.core.checks.registry import AreaKey, Check, Money, Reading, Subject, register
from nimbus_reef.core.movement import Movement
from nimbus_reef.core.peers import RATED

_LONGEST_SAID = 40
"""A text of a page that is longer is not told."""


def _moved(row: Mapping[str, Any]) -> str:
    """What a product that moved did."""
    said = "{spend_change:change} spend, {sales_change:change} sales per 30 days"
    return said if row["marginal"] is None else f"{said}: each further sale cost {{marginal:rate 0}} of it"


def _fell(row: Mapping[str, Any]) -> str:
    """How conversion fell, and what changed on the page."""
    changed = ", ".join(
        f"{each['field'].replace('_', ' ')} {{page[{place}][old]}} → {{page[{place}][new]}}"
        for place, each in enumerate(row["page"])
        if len(each["old"]) < _LONGEST_SAID
    )
    return (
        f"{changed or 'its title'} on {{day}}; conversion {{cvr_before:rate}} → {{cvr_after:rate}} (coincidence in"
        " time, not proof)"
    )


def _behind(row: Mapping[str, Any]) -> str:
    """How far a category's metrics lie behind the peers'."""
    return "; ".join(
        f"{RATED[each['metric']].name} {{gaps[{place}][value]:metric {each['metric']}}} against"
        f" {{gaps[{place}][typical]:metric {each['metric']}}}, {{gaps[{place}][percentile]:ahead}}"
        for place, each in enumerate(row["gaps"])
    )


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
        opens_in=AreaKey.STANDING,
        view="products",
        by_itself=True,
        sentence=_moved,
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
        opens_in=AreaKey.STANDING,
        view="products",
        by_itself=True,
        sentence=_moved,
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
        sentence=lambda _: "{lost:lost}, since {since:day}",
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
        opens_in=AreaKey.STANDING,
        view="products",
        by_itself=True,
        sentence=_fell,
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
        view="tree",
        drawer=False,
        by_itself=True,
        sentence=_behind,
    )
)
