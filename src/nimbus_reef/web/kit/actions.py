"""One's own actions on rows of a list: what is offered in words, what is entered with it, and what it comes to."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Final

import polars as pl

from nimbus_reef.analysis.tables import Filter
from nimbus_reef.core.changes import LONGEST_TEXT, MOST_PERCENT
from nimbus_reef.core.proposals import Proposal
from nimbus_reef.core.tiers import SETS_LIMITS, TAKES, NoSale, RowAction, Takes, Value
from nimbus_reef.errors import BadInput
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.typed import number
from nimbus_reef.web.kit.context import Context

WORDS: Final[Mapping[RowAction, str]] = {
    RowAction.PAUSE: "pause",
    RowAction.ENABLE: "enable",
    RowAction.BID_BY: "change the bid by, %",
    RowAction.BID_FROM_CPC: "set the bid to its CPC and, %",
    RowAction.BID_TO: "set the bid to",
    RowAction.BID_TO_AIM: "set the bid that meets target ACOS",
    RowAction.NEGATIVE_EXACT: "negative, exact",
    RowAction.NEGATIVE_PHRASE: "negative, phrase",
    RowAction.OWN_TARGET: "promote to exact",
    RowAction.BUDGET_BY: "change the budget by, %",
    RowAction.BUDGET_TO: "set the budget to",
    RowAction.BIDDING_FIXED: "bidding: fixed",
    RowAction.BIDDING_DOWN: "bidding: down only",
    RowAction.BIDDING_UP_AND_DOWN: "bidding: up and down",
    RowAction.LIMIT_OFF_SITE: "limit off-site",
    RowAction.PORTFOLIO: "move to portfolio",
    RowAction.DEFAULT_BID_BY: "change the default bid by, %",
    RowAction.DEFAULT_BID_TO: "set the default bid to",
    RowAction.BIDS_BY: "change the bids of all targets by, %",
    RowAction.BIDS_TO: "set the bids of all targets to",
    RowAction.BIDS_AS_PROPOSED: "move bids as proposed, those with 95 % of the gain",
    RowAction.ALL_BIDS_AS_PROPOSED: "move all bids as proposed",
    RowAction.ADJUST_BY: "change the adjustment by, points",
    RowAction.ADJUST_TO: "set the adjustment to, %",
    RowAction.TARGET_ACOS: "own target ACOS, %",
    RowAction.CEILING: "own highest bid",
    RowAction.FLOOR: "own lowest bid",
    RowAction.STEP_DOWN: "own largest bid cut, %",
    RowAction.STEP_UP: "own largest bid raise, %",
    RowAction.GOAL_SALES: "bids: most sales within target",
    RowAction.GOAL_PROFIT: "bids: most profit",
    RowAction.GOAL_LEAVE: "bids: leave as they are",
    RowAction.GOAL_USUAL: "bids: as in the account",
}
_PER_CENT: Final = 100
_PERCENTS: Final = (Takes.SHARE, Takes.POINTS, Takes.RATE)
FEW_CLICKS: Final = 10
"""Spend without a sale on fewer clicks says nothing yet."""


@dataclass(frozen=True, slots=True)
class RowActions:
    """
    What can be done by hand, or by rules, to rows of a list.

    do: what an action does to rows, with what was entered and whether raises of what never made an order are meant;
    own: choices of its page without which its rows cannot be acted on; level: at which limits of their own are set for
    them.
    """

    offered: tuple[RowAction, ...]
    do: Callable[[Context, pl.DataFrame, RowAction, Value, bool], Sequence[Proposal]]
    own: Mapping[str, str] = field(default_factory=dict)
    level: str = ""

    @property
    def every(self) -> tuple[RowAction, ...]:
        """What is offered by hand: the actions, and the limits that are set at once."""
        return (*self.offered, *(SETS_LIMITS if self.level else ()))


def choices(ask: Context, actions: RowActions | None) -> tuple[tuple[str, str], ...]:
    """The actions with their words; none where the person only looks, or nothing is done by hand."""
    if actions is None or not ask.writes:
        return ()
    if any(ask.scope.own_value(name) != value for name, value in actions.own.items()):
        return ()
    return tuple((each.value, WORDS[each]) for each in actions.every)


def entered(actions: RowActions, action: str, text: str, locale: str) -> tuple[RowAction, Value]:
    """An action as a form sends it, and what was entered with it; BadInput for what cannot be meant."""
    if action not in actions.every:
        raise BadInput("No action chosen.", remedy="Choose an action.")
    found, text = RowAction(action), text.strip()
    takes = TAKES[found]
    if takes is Takes.NOTHING or (takes in (Takes.LIMIT, Takes.RATE, Takes.UNTIL) and not text):
        return found, None
    if not text:
        raise BadInput(f"“{WORDS[found]}” needs a value.", remedy="Enter a value such as -20 or 0.85.")
    if takes is Takes.UNTIL:
        return found, _day(text).isoformat()
    if takes is Takes.TEXT:
        if len(text) > LONGEST_TEXT:
            raise BadInput(f"A name has up to {LONGEST_TEXT} characters.", remedy="Enter a shorter name.")
        return found, text
    read = number(text, locale)
    if read is None:
        raise BadInput(f"“{text}” is not a number.", remedy="Enter a number such as -20 or 0.85.")
    return found, _checked(takes, float(read))


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError:
        raise BadInput(f"“{text}” is not a day.", remedy="Write it like 2026-12-24, or nothing for good.") from None


def _checked(takes: Takes, value: float) -> float:
    if takes in (Takes.AMOUNT, Takes.LIMIT):
        if not 0 < value < 10**6:
            raise BadInput("An amount must be above 0.", remedy="Pause it to stop it.")
        return value
    least = -MOST_PERCENT if takes is Takes.POINTS else -_PER_CENT + 1
    if not least <= value <= MOST_PERCENT:
        raise BadInput(f"{value:g} % is too much.", remedy=f"Enter {least} to {MOST_PERCENT}.")
    return value if takes is Takes.POINTS else value / _PER_CENT


def value_words(action: RowAction, value: Value) -> str:
    """What was entered with an action, as it is typed."""
    if value is None:
        return ""
    if TAKES[action] in (Takes.TEXT, Takes.UNTIL):
        return str(value)
    signed = TAKES[action] is Takes.SHARE or action is RowAction.ADJUST_BY
    figure = float(value) * (_PER_CENT if TAKES[action] in (Takes.SHARE, Takes.RATE) else 1)
    return f"{figure:+.10g}" if signed else f"{figure:.10g}"


def done_words(action: RowAction, value: Value) -> str:
    """An action with what was entered, as it is read."""
    words, text = WORDS[action], value_words(action, value)
    if not text:
        return words
    if TAKES[action] not in (Takes.TEXT, Takes.UNTIL):
        text = text.replace("-", "\N{MINUS SIGN}")
    unit = " points" if action is RowAction.ADJUST_BY else " %" if TAKES[action] in _PERCENTS else ""
    return f"{words.removesuffix(', %').removesuffix(', points')} {text}{unit}"


def in_words(conditions: Sequence[Filter], query: str, action: RowAction, value: Value, symbol: str) -> str:
    """An action and the rows it is for in a few words, as the change sheet has it for a reason."""
    on = [each.label(symbol) for each in conditions] + ([f"“{query}”"] if query else [])
    return f"own rule: {', '.join(on) or 'chosen by hand'} → {done_words(action, value)}"


def is_endless(conditions: Sequence[Filter]) -> bool:
    """
    Whether conditions hold rows that spent and sold nothing on a few clicks: their ACOS has no end, and they may be
    meant or not.
    """
    acos = {each.operator for each in conditions if each.field.key == "acos"}
    clicks = [float(each.value) for each in conditions if each.field.key == "clicks" and each.operator in ("gt", "ge")]
    return bool(acos & {"gt", "ge"}) and not acos & {"lt", "le", "eq"} and max(clicks, default=0) < FEW_CLICKS


def without_sale_out(rows: pl.DataFrame, conditions: Sequence[Filter], no_sale: NoSale) -> pl.DataFrame:
    """The rows, without those that sold nothing where that is asked and they are not said to be above."""
    out = no_sale is NoSale.OUT or (no_sale is NoSale.ASK and is_endless(conditions))
    return rows.filter(pl.col("sales") > 0) if out and "sales" in rows.columns else rows


def no_sale_question(
    rows: pl.DataFrame, conditions: Sequence[Filter], no_sale: NoSale, figures: Figures
) -> dict[str, str]:
    """Where rows without a sale meet a condition on ACOS and nobody said whether they are meant: the question."""
    if not is_endless(conditions) or no_sale is not NoSale.ASK or "sales" not in rows.columns:
        return {}
    meant = rows.filter(pl.col("sales") <= 0)
    if meant.is_empty():
        return {}
    few = int((meant["clicks"] < FEW_CLICKS).sum())
    above = next(each.value for each in conditions if each.field.key == "acos")
    return {
        "none": f"{figures.counted(len(meant), 'row')} spent and sold nothing, {figures.count(few)} of them on fewer"
        f" than {FEW_CLICKS} clicks. Are they above {float(above):g} % ACOS?"
    }
