"""Checks on what is advertised, before any keyword: product ads, families, eligibility, gaps, keywords bought twice."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import polars as pl

from nimbus_reef.core.checks.registry import AreaKey, Check, Money, Reading, Subject, bought, register


def _beside(row: Mapping[str, Any]) -> str:
    """A product ad and what its siblings did."""
    return (
        bought(row)
        + "; {siblings:counted other} in the ad group: {beside_orders:counted order} from {beside_clicks:counted click}"
    )


def _takes_more(row: Mapping[str, Any]) -> str:
    """The child that takes more than it sells."""
    text = "{child} takes {child_spend:rate 0} of the spend and makes {child_sales:rate 0} of the sales"
    return text if row["pauses"] else f"{text}; no other variation has the evidence to take more"


COSTLY_ADS = register(
    Check(
        key="costly-ads",
        area=AreaKey.CATALOG,
        subject=Subject.AD,
        reads=Reading.ADS,
        money=Money.OVERSPEND,
        title="Product ads wasting spend in their ad group",
        question="Which product ads miss target while others in the ad group sell?",
        to_do="pause the product ad",
        condition=pl.col("to_pause"),
        accepts=True,
        view="ads",
        sentence=_beside,
    )
)

WRONG_CHILD = register(
    Check(
        key="wrong-child",
        area=AreaKey.CATALOG,
        subject=Subject.FAMILY,
        reads=Reading.FAMILIES,
        money=Money.OWN,
        title="Spend on the wrong variation",
        question="In which families does a variation take far more of the spend than of the sales?",
        to_do="shift spend to variations that sell",
        condition=pl.col("stake") > 0,
        accepts=True,
        view="families",
        sentence=_takes_more,
    )
)

INELIGIBLE = register(
    Check(
        key="ineligible",
        area=AreaKey.CATALOG,
        subject=Subject.PRODUCT,
        reads=Reading.INELIGIBLE,
        money=Money.MISSED,
        title="Ineligible products",
        question="Which products lost their ads, and what does that cost?",
        to_do="resolve it with the marketplace",
        condition=pl.col("stake") > 0,
        view="eligibility",
        drawer=False,
        sentence=lambda row: "{reason} since {since:day}" if row["since"] else "{reason}",
    )
)

NOT_ADVERTISED = register(
    Check(
        key="not-advertised",
        area=AreaKey.CATALOG,
        subject=Subject.PRODUCT,
        reads=Reading.UNADVERTISED,
        money=Money.EARNED,
        title="Selling products without ads",
        question="Which products sell but are in no ad group?",
        to_do="add them to ad groups",
        condition=pl.lit(True),
        accepts=True,
        view="gaps",
        sentence=lambda row: (
            "{orders:counted order} without an ad" + (", the newer SKU of {replaces}" if row["replaces"] else "")
        ),
    )
)

DUPLICATES = register(
    Check(
        key="duplicates",
        area=AreaKey.CATALOG,
        subject=Subject.KEYWORD,
        reads=Reading.DUPLICATES,
        money=Money.OWN,
        title="Duplicate keywords",
        question="Which keywords are bought more than once for the same product?",
        to_do="keep one, pause the others",
        condition=pl.lit(True),
        accepts=True,
        view="duplicates",
        sentence=lambda _: "bought in {places:counted place}; keep it in {kept}",
    )
)
