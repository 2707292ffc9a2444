"""The metric tree: every figure of the account, what it comes from, and groups of it among peers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Final

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.standing import AD_METRICS, Placed
from nimbus_reef.analysis.totals import totals
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.peers import RATED
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.web.kit import tree
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.lacking import source_words
from nimbus_reef.web.kit.tree import Node
from nimbus_reef.web.standing.groups import GroupLine, group_lines

GROUPS: Final = ("category", "format", "portfolio", "country")


@dataclass(frozen=True, slots=True)
class StandingTree:
    """
    The tree. source: which report it is from; stands: whether there are product ads, without which nothing can be
    placed; metrics: key and label of what a group's line has.
    """

    answer: Answer
    nodes: Mapping[str, Node]
    source: str
    stands: bool
    by: str
    groups: Sequence[str]
    lines: Sequence[GroupLine]
    metrics: Sequence[tuple[str, str]]


def page(ask: Context) -> StandingTree:
    """The view."""
    found = totals(ask.facts, ask.selection)
    assert found is not None, "asked for before"
    stands = not standing.standing_data(ask.facts, ask.selection).ads.is_empty()
    placed = standing.account_places(ask.facts, ask.selection) if stands else {}
    by = ask.scope.choice("by", GROUPS)
    return StandingTree(
        tree.answer(found, placed, ask.figures),
        tree.nodes(found, placed, ask.scope.target_acos, ask.figures),
        source_words(found.source, found.held_now, ask.scope.window),
        stands,
        by,
        GROUPS,
        group_lines(_groups(ask, by), ask.figures),
        [(metric, RATED[metric].label) for metric in AD_METRICS],
    )


def _groups(ask: Context, by: str) -> list[tuple[str, float, list[Placed]]]:
    if by == "country":
        return [_country(ask, account) for account in ask.accounts if account.brand_id == ask.account.brand_id]
    return standing.groups(ask.facts, ask.selection, by)


def _country(ask: Context, account: Account) -> tuple[str, float, list[Placed]]:
    """The same brand's account in one country, same days."""
    selection = replace(ask.selection, account=account)
    placed = list(standing.account_places(ask.facts, selection).values())
    spend = from_micro(int(standing.standing_data(ask.facts, selection).ads["spend"].sum()))
    return f"{account.country}, {account.currency}", spend, placed
