"""The first of several conditions that holds, row by row."""

from __future__ import annotations

from collections.abc import Iterable

import polars as pl


def first_that_holds(cases: Iterable[tuple[str, pl.Expr]], otherwise: str | None = None) -> pl.Expr:
    """The word of the first condition that holds on each row; a condition that is unknown does not hold."""
    found: pl.Expr = pl.lit(otherwise, pl.String)
    for word, holds in reversed(list(cases)):
        found = pl.when(holds.fill_null(False)).then(pl.lit(str(word))).otherwise(found)
    return found
