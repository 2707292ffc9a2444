"""Share of spend over share of sales, as a pair of bars."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nimbus_reef.formats.figures import Figures


@dataclass(frozen=True, slots=True)
class SharePair:
    """Share of spend over share of sales, in words and as widths of 0 … 100; ahead: spend runs ahead of sales."""

    spend: str
    sales: str
    spend_bar: float
    sales_bar: float
    ahead: bool


def share_pair(row: Mapping[str, Any], figures: Figures, *, ahead: bool) -> SharePair:
    """The pair of a row with share_spend and share_sales."""
    spend, sales = row["share_spend"], row["share_sales"]
    return SharePair(
        figures.percent(spend, 0),
        figures.percent(sales, 0),
        round(100 * (spend or 0), 1),
        round(100 * (sales or 0), 1),
        ahead,
    )
