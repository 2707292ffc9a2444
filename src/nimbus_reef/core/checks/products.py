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
    text = "{spend_change:change} spend, {sales_change:change} sales per 30 days"
    return text if row["marginal"] is None else f"{text}: the added sales cost {{marginal:rate 0}}"


def _fell(row: Mapping[str, Any]) -> str:
    """How conversion fell, and what changed on the page."""
    changed = ", ".join(
        f"{each['field'].replace('_', ' ')} {{page[{place}][old]}} → {{page[{place}][new]}}"
        for place, each in enumerate(row["page"])
        if len(each["old"]) < _LONGEST_SAID
    )
    return (
        f"{changed or 'its title'} on {{day}}; conversion {{cvr_before:rate}} → {{cvr_after:rate}} (same time, not"
        " proof of cause)"
    )


def _behind(row: Mapping[str, Any]) -> str:
    """How far a category's metrics lie behind the peers'."""
    return "; ".join(
        f"{RATED[each['metric']].label} {{gaps[{place}][value]:metric {each['metric']}}} against"
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
        title="Spend up, sales flat",
        question="Which products spend more than before and sell no more?",
        to_do="check what changed: bids, page, price",
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
        title="Growth above target ACOS",
        question="Which products sell more, with the added sales above target?",
        to_do="take back the bid increase behind it",
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
        title="Product pages that lost content, stock or the main offer",
        question="Which product pages lost pictures, text, stock or the main offer in the newest load?",
        to_do="restore the page, or pause its ads until it is back",
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
        title="Conversion drops after a listing change",
        question="Which products convert less since their page changed?",
        to_do="check the product page",
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
        title="Metrics in the bottom quarter of the category",
        question="In which categories do three quarters of peers do better?",
        to_do="check the products behind it",
        condition=pl.lit(True),
        view="tree",
        drawer=False,
        by_itself=True,
        sentence=_behind,
    )
)
