"""The register of readers, and the columns that all their rows have."""

from __future__ import annotations

from collections.abc import Callable

import polars as pl

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.checks import Reading
from nimbus_reef.core.model import MEASURES
from nimbus_reef.store.reading.facts import Facts

Reader = Callable[[Facts, Selection], pl.DataFrame]
READERS: dict[Reading, Reader] = {}


def reads(what: Reading) -> Callable[[Reader], Reader]:
    """Registers who makes the rows of a reading; two of the same are a mistake."""

    def register(reader: Reader) -> Reader:
        if what in READERS:
            raise ValueError(f"{what.rows} are read twice")
        READERS[what] = reader
        return reader

    return register


def reading(facts: Facts, selection: Selection, asked: Reading) -> pl.DataFrame:
    """The rows of a reading in the part that is looked at."""
    return READERS[asked](facts, selection)


def named_rows(rows: pl.DataFrame, *also: pl.Expr | str) -> pl.DataFrame:
    """Rows with row_id, name, where and stake as all readings have them, measures 0 where a row has none."""
    texts = {"campaign": "", "ad_group": "", "target": "", "match_type": ""}
    names = [name for name in texts if name in rows.columns]
    empty = [pl.lit("").alias(name) for name in texts if name not in rows.columns]
    counts = [
        (pl.col(name).fill_null(0) if name in rows.columns else pl.lit(0)).cast(pl.Int64).alias(name)
        for name in MEASURES
    ]
    return rows.select(
        pl.col("row_id").cast(pl.String).str.head(64),
        pl.col("name", "where").cast(pl.String),
        pl.col("stake").cast(pl.Int64),
        *(pl.col(name).cast(pl.String) for name in names),
        *empty,
        *counts,
        *also,
    )
