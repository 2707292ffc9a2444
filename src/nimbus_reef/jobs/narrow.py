"""The part of an account that is looked at."""

from __future__ import annotations

from dataclasses import dataclass

import polars as pl

from nimbus_reef.core.windows import Window
from nimbus_reef.store import product_frames
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.facts import Facts


@dataclass(frozen=True, slots=True)
class Narrow:
    """
    The part of an account that is looked at; empty means all of it.

    Rows are judged in the company of the whole account first, so a verdict is the same
    however narrowly it is looked at. name: text in the campaign's name.
    """

    formats: tuple[str, ...] = ()
    portfolio: str = ""
    product: str = ""
    campaign: str = ""
    name: str = ""

    def __bool__(self) -> bool:
        return any((self.formats, self.portfolio, self.product, self.campaign, self.name))

    def part(self, facts: Facts, account: Account, window: Window, rows: pl.DataFrame) -> pl.DataFrame:
        """The judged rows that belong to it; of product ads the product's own."""
        if self.formats:
            rows = rows.filter(pl.col("format").cast(pl.String).is_in(self.formats))
        if self.portfolio:
            rows = rows.filter(pl.col("portfolio") == self.portfolio)
        if self.campaign:
            rows = rows.filter(pl.col("campaign") == self.campaign)
        if self.name:
            rows = rows.filter(
                pl.col("campaign")
                .cast(pl.String)
                .str.to_lowercase()
                .str.contains(self.name.lower(), literal=True)
            )
        if not self.product:
            return rows
        if "sku" in rows.columns:
            return rows.filter(pl.col("sku") == self.product)
        advertised = product_frames.product_rows(facts, account.id, window).filter(
            pl.col("sku") == self.product
        )
        return rows.join(advertised.select("ad_group_id").unique(), on="ad_group_id", how="semi")


EVERYTHING = Narrow()
