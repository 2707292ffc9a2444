"""What a check is, and how one is run over judged rows."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

import polars as pl


class Subject(StrEnum):
    """What one row of a check is."""

    TARGET = "target"
    TERM = "term"
    PHRASE = "phrase"
    PRODUCT = "product"
    CATEGORY = "category"


@dataclass(frozen=True, slots=True)
class Check:
    """
    Selects the judged rows that need the same thing done.

    condition: over the columns that `core.evidence.judge` adds. Rows come largest
    stake first.
    """

    key: str
    subject: Subject
    title: str
    question: str
    to_do: str
    condition: pl.Expr


@dataclass(frozen=True, slots=True)
class Found:
    """
    The rows of one check and what they weigh; money in micro-units.

    stake is per 30 days; shares are of the spend and sales of all rows judged, null
    where there is none.
    """

    check: Check
    rows: pl.DataFrame
    stake: int
    spend: int
    share_of_spend: float | None
    share_of_sales: float | None


CHECKS: dict[str, Check] = {}


def register(check: Check) -> Check:
    """Adds a check under its key; two of the same key are a mistake."""
    if check.key in CHECKS:
        raise ValueError(f"check {check.key} is registered twice")
    CHECKS[check.key] = check
    return check


def run(check: Check, judged: pl.DataFrame) -> Found:
    """Runs one check over all judged rows of its subject."""
    rows = judged.filter(check.condition).sort(["stake", "spend"], descending=True, maintain_order=True)
    all_spend, all_sales = int(judged["spend"].sum()), int(judged["sales"].sum())
    spend = int(rows["spend"].sum())
    return Found(
        check=check,
        rows=rows,
        stake=int(rows["stake"].sum()),
        spend=spend,
        share_of_spend=spend / all_spend if all_spend else None,
        share_of_sales=spend / all_sales if all_sales else None,
    )
