"""
Rows whose texts are kept apart: each combination of texts stands once, since a report repeats its
names day after day.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Final

import polars as pl

COMBINATION: Final = "_combination"
"""Which row of `said` a row belongs to."""


@dataclass(frozen=True, slots=True)
class DistinctTexts:
    """
    rows: everything but texts, and COMBINATION (uint32). said: the texts; each row of it is used by at least one of
    `rows`, and may read as another of them does.
    """

    rows: pl.DataFrame
    distinct: pl.DataFrame

    def __len__(self) -> int:
        return len(self.rows)

    @property
    def whole(self) -> pl.DataFrame:
        """The rows with their texts."""
        texts = self.distinct[self.codes] if len(self.distinct) else self.distinct
        return pl.concat([self.rows.drop(COMBINATION), texts], how="horizontal")

    @property
    def codes(self) -> pl.Series:
        """The combination of each row."""
        return self.rows[COMBINATION]

    def spread(self, each: pl.Series) -> pl.Series:
        """For every row what is told of its combination."""
        return each.gather(self.codes)

    def column(self, name: str) -> pl.Series:
        """A column, wherever it stands, a value for every row."""
        return self.spread(self.distinct[name]) if name in self.distinct.columns else self.rows[name]

    def filter(self, kept: pl.Series) -> DistinctTexts:
        """The rows that are kept, and what they say."""
        rows = self.rows.filter(kept)
        if len(rows) == len(self.rows):
            return self
        used = rows[COMBINATION].unique().sort()
        if len(used) == len(self.distinct):
            return replace(self, rows=rows)
        again = pl.DataFrame({COMBINATION: used}).with_row_index("_again")
        renumbered = rows.join(again, on=COMBINATION, how="left", maintain_order="left")
        return DistinctTexts(renumbered.drop(COMBINATION).rename({"_again": COMBINATION}), self.distinct[used])

    def same(self, texts: Sequence[str]) -> pl.Series:
        """For every row a number that it shares with those whose given texts read alike."""
        if not texts:
            return pl.Series(COMBINATION, [0], dtype=pl.UInt32).new_from_index(0, len(self.rows))
        rows = self.distinct.select(texts)
        alike = rows.unique(maintain_order=True)
        if len(alike) == len(rows):
            return self.codes
        which = rows.join(alike.with_row_index("_alike"), on=texts, nulls_equal=True, how="left", maintain_order="left")
        return self.spread(which["_alike"])


def distinct(frame: pl.DataFrame, texts: Sequence[str]) -> DistinctTexts:
    """Takes the given columns of texts apart from the others."""
    rows = frame.drop(texts)
    if not texts:
        none = pl.Series(COMBINATION, [0], dtype=pl.UInt32)
        return DistinctTexts(rows.with_columns(none.new_from_index(0, len(rows))), pl.DataFrame())
    table, codes = _by_hash(frame.select(texts))
    if not all(table[name].gather(codes).equals(frame[name]) for name in texts):
        table, codes = _by_text(frame.select(texts))
    return DistinctTexts(rows.with_columns(codes.alias(COMBINATION)), table)


def _by_hash(frame: pl.DataFrame) -> tuple[pl.DataFrame, pl.Series]:
    """Each combination by the hash of its texts; two may have one hash, which whoever asks has to look at."""
    hashes = frame.hash_rows().alias("hash").to_frame()
    first = hashes.with_row_index("at").unique("hash", keep="first", maintain_order=True)
    numbered = first.select("hash").with_row_index(COMBINATION)
    codes = hashes.join(numbered, on="hash", how="left", maintain_order="left")[COMBINATION]
    return frame[first["at"]], codes


def _by_text(frame: pl.DataFrame) -> tuple[pl.DataFrame, pl.Series]:
    rows = frame.unique(maintain_order=True)
    numbered = rows.with_row_index(COMBINATION)
    found = frame.join(numbered, on=frame.columns, nulls_equal=True, how="left", maintain_order="left")
    return rows, found[COMBINATION]
