"""
Where every search term stands, by position: sums of a window find target, ad group and term without a join of names.

Made once for what is loaded; a window's rows are looked up in it by their ids, which ascend.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl

from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class TermPlaces:
    """
    terms: target_term_id, ascending, target_id, ad_group_id, normal_id, place, its number among them, and pair, the row
    of `pairs` that it belongs to; pairs: ad_group_id and normal_id of every term of an ad group, in their order.
    """

    terms: pl.DataFrame
    pairs: pl.DataFrame

    def placed(self, sums: pl.DataFrame, *columns: str) -> pl.DataFrame:
        """Sums by target_term_id with columns of `terms` beside them; those of no known term left out."""
        known = self.terms["target_term_id"].to_numpy()
        wanted = sums["target_term_id"].to_numpy()
        at = np.minimum(np.searchsorted(known, wanted), max(0, len(known) - 1))
        found = known[at] == wanted if len(known) else np.zeros(len(wanted), dtype=bool)
        if not found.all():
            at, sums = at[found], sums.filter(pl.Series(found))
        return sums.hstack(self.terms.select(columns)[at])

    def distinct(self, placed: pl.DataFrame) -> tuple[pl.DataFrame, pl.DataFrame]:
        """Rows whose pair is theirs alone, most of them, and the others: only these have to be grouped."""
        pair = placed["pair"].to_numpy()
        alone = pl.Series(np.bincount(pair, minlength=len(self.pairs))[pair] == 1)
        return placed.filter(alone), placed.filter(~alone)

    def named(self, by_pair: pl.DataFrame) -> pl.DataFrame:
        """Rows by pair with its ad_group_id and normal_id in place of it."""
        return self.pairs[by_pair["pair"].to_numpy()].hstack(by_pair.drop("pair"))


def term_places(facts: Facts, account_id: int, names: pl.DataFrame, targets: pl.DataFrame) -> TermPlaces:
    """
    Of all terms. names: target_term_id, ascending, target_id, normal_id; targets: target_id, ad_group_id, each once.
    Kept.
    """

    def make() -> TermPlaces:
        homes = targets.select("target_id", "ad_group_id")
        terms = (
            names.select("target_term_id", "target_id", "normal_id")
            .join(homes, on="target_id", how="left", maintain_order="left")
            .with_row_index("place")
        )
        pairs = terms.select("ad_group_id", "normal_id").unique().sort("ad_group_id", "normal_id")
        numbered = pairs.with_row_index("pair")
        return TermPlaces(
            terms.join(numbered, on=["ad_group_id", "normal_id"], how="left", maintain_order="left"), pairs
        )

    return facts.kept("term places", account_id, make)
