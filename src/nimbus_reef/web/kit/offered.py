"""What is offered on anything, in words; and what tables and figures of it have in common."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from nimbus_reef.analysis.offers import Offer
from nimbus_reef.core.changes import Change, Promise
from nimbus_reef.core.projection import Projected
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.tables import Head


@dataclass(frozen=True, slots=True)
class Worded:
    """
    An offer in words. headline: what is to be done; reasons: why, a sentence each; effect: what it is likely to do;
    reason: all of it in one line, as the change sheet has it. name: what it is on, where it is several changes;
    proposed: not merely possible: what is only possible is done alone, by somebody who wants it.
    """

    offer: Offer | None
    headline: str
    reasons: tuple[str, ...] = ()
    effect: str = ""
    name: str = ""
    proposed: bool = True

    @property
    def reason(self) -> str:
        """Why, in one line."""
        return " ".join(each if each.endswith(".") else f"{each}." for each in self.reasons)

    @property
    def changes(self) -> list[tuple[Change, Promise]]:
        """Its rows of the change sheet."""
        return [] if self.offer is None else self.offer.because(self.reason)


def effect_words(projected: Projected, figures: Figures) -> str:
    """What is likely to come of it in 30 days; empty where nothing comes of it."""
    if not projected.known:
        return "Unknown: the reports do not tell what comes of it."
    ranges = (projected.spend, projected.sales)
    if not any(value for each in ranges for value in (each.low, each.middle, each.high)):
        return ""
    spend, sales = (figures.span(each) for each in ranges)
    still = abs(projected.spend.low) < 1 and abs(projected.spend.high) < 1
    return f"Per 30 days: spend {'as it is' if still else spend}, sales {sales}."


def heads(*labels: str | tuple[str, str] | Head) -> tuple[Head, ...]:
    """Heads that nothing is sorted by: the first a name, the rest figures; with a definition as (label, definition)."""
    made = []
    for place, label in enumerate(labels):
        if isinstance(label, Head):
            made.append(label)
            continue
        text, definition = label if isinstance(label, tuple) else (label, "")
        made.append(Head(text, definition, css="first" if place == 0 else ""))
    return tuple(made)


def words_head(label: str, definition: str = "") -> Head:
    """The head of a column in words."""
    return Head(label, definition, css="words")


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
