"""What is better settled before a keyword, in words: a product ad, a budget, a page."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

from nimbus_reef.analysis.order import Before, Unsettled
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.formats.figures import Figures

_WHAT: Final = {"pause": "a pause", "negative": "a negative"}


@dataclass(frozen=True, slots=True)
class First:
    """Something to decide first: what it is and what a change would also hit; in a few words; where it is settled."""

    words: str
    short: str
    area: str
    view: str
    key: str
    row_id: str
    to_do: str


_SHORT: Final[Mapping[Unsettled, str]] = {
    Unsettled.AD: "product ad",
    Unsettled.BUDGET: "budget",
    Unsettled.PAGE: "product page",
    Unsettled.LOST_PAGE: "product page",
}


def first_for(proposal: Proposal, befores: Sequence[Before], figures: Figures) -> list[First]:
    """What is better settled before a proposal."""
    what = _WHAT.get(proposal.kind, "a bid")
    return [_first(each, what, figures) for each in befores]


def _first(each: Before, what: str, figures: Figures) -> First:
    short = f"{_SHORT[each.kind]} {each.name}" if each.kind is not Unsettled.BUDGET else "budget"
    if each.kind is Unsettled.AD:
        words = (
            f"{each.name} wastes {figures.micro(each.stake)} a month in this ad group, and {what} here affects"
            " its other products too."
        )
        return First(words, short, "catalog", "ads", "open", each.row_id, "Decide the product ad first")
    if each.kind is Unsettled.BUDGET:
        dry, of = each.days
        words = (
            f"{each.name} was out of budget on {dry} of {of} days: its keywords have no data for the hours after,"
            f" and {what} here changes when the budget ends."
        )
        return First(words, short, "delivery", "budgets", "", each.row_id, "Decide the budget first")
    if each.kind is Unsettled.LOST_PAGE:
        words = (
            f"The page of {each.name} lost content in the newest load. {what.capitalize()} in this ad group affects it"
            " too."
        )
        return First(words, short, "catalog", "listings", "open", each.row_id, "Restore the page first")
    words = (
        f"{each.name} in this ad group converts less since its page changed. {what.capitalize()} here affects it too."
    )
    return First(words, short, "catalog", "listings", "open", each.row_id, "Check the page first")
