"""For how many phrases a product is seen, by ads and by rank, and whether ads or its page come first."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Final

import polars as pl

from nimbus_reef.core.cases import first_that_holds

YOUNG_DAYS: Final = 90
YEAR_DAYS: Final = 365
_SURE: Final = 0.8
"""Chance of converting worse than its category from which a page is mended first."""
_FEW_CLICKS: Final = 30


@dataclass(frozen=True, slots=True)
class CoverageGoals:
    """For how many phrases a product should rank within 40: up to 90 days after its launch, up to a year, later."""

    young: int = 10
    year: int = 40
    old: int = 120


STANDARD: Final = CoverageGoals()


class CoverageAdvice(StrEnum):
    """What comes first."""

    REACHED = "goal reached"
    PAGE = "mend the page first"
    UNSURE = "too few clicks to say"
    PUSH = "push ads"


def goal(goals: CoverageGoals = STANDARD) -> pl.Expr:
    """How many phrases are asked for, over age (days since the launch, null where unknown: as if old)."""
    return (
        pl.when(pl.col("age") <= YOUNG_DAYS)
        .then(pl.lit(goals.young))
        .when(pl.col("age") <= YEAR_DAYS)
        .then(pl.lit(goals.year))
        .otherwise(pl.lit(goals.old))
    )


def advice() -> pl.Expr:
    """
    What comes first, over ranked and goal (phrases), clicks, and p_worse: the chance that it converts worse than its
    category (null where nothing is known). Who converts as is usual is pushed: sales by ads lift its rank. Who does not
    would pay for clicks that its page loses.
    """
    return first_that_holds(
        (
            (CoverageAdvice.REACHED, pl.col("ranked") >= pl.col("goal")),
            (CoverageAdvice.PAGE, pl.col("p_worse") >= _SURE),
            (CoverageAdvice.UNSURE, pl.col("p_worse").is_null() | (pl.col("clicks") < _FEW_CLICKS)),
        ),
        CoverageAdvice.PUSH,
    )
