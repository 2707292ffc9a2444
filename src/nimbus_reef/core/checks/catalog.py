"""Checks on what is advertised, before any keyword: product ads, families, eligibility, gaps, keywords bought twice."""

from __future__ import annotations

import polars as pl

from nimbus_reef.core.checks.registry import AreaKey, Check, Money, Reading, Subject, register

COSTLY_ADS = register(
    Check(
        key="costly-ads",
        area=AreaKey.CATALOG,
        subject=Subject.AD,
        reads=Reading.ADS,
        money=Money.OVERSPEND,
        title="Products that waste money inside their ad groups",
        question="Which products cost more than they may beside siblings that sell?",
        to_do="pause the product ad",
        condition=pl.col("to_pause"),
        accepts=True,
        view="ads",
    )
)

WRONG_CHILD = register(
    Check(
        key="wrong-child",
        area=AreaKey.CATALOG,
        subject=Subject.FAMILY,
        reads=Reading.FAMILIES,
        money=Money.OWN,
        title="Money on the wrong child of a family",
        question="In which families does a child take far more of the spend than it sells?",
        to_do="shift its spend to siblings that sell",
        condition=pl.col("stake") > 0,
        accepts=True,
        view="families",
    )
)

INELIGIBLE = register(
    Check(
        key="ineligible",
        area=AreaKey.CATALOG,
        subject=Subject.PRODUCT,
        reads=Reading.INELIGIBLE,
        money=Money.MISSED,
        title="Products that may not be advertised",
        question="Which products lost their ads, and what does that cost?",
        to_do="clear the reason with the marketplace",
        condition=pl.col("stake") > 0,
        view="eligibility",
    )
)

NOT_ADVERTISED = register(
    Check(
        key="not-advertised",
        area=AreaKey.CATALOG,
        subject=Subject.PRODUCT,
        reads=Reading.UNADVERTISED,
        money=Money.EARNED,
        title="Products that sell and have no ads",
        question="Which products, newer SKUs among them, sell and stand in no ad group?",
        to_do="add them to ads",
        condition=pl.lit(True),
        accepts=True,
        view="gaps",
    )
)

DUPLICATES = register(
    Check(
        key="duplicates",
        area=AreaKey.CATALOG,
        subject=Subject.KEYWORD,
        reads=Reading.DUPLICATES,
        money=Money.OWN,
        title="Keywords bought in several places",
        question="Which keywords are bought more than once for the same product?",
        to_do="keep one, pause the others",
        condition=pl.lit(True),
        accepts=True,
        view="structure",
    )
)
