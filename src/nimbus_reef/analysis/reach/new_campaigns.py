"""Keywords as a campaign of their own: its name, its rows, its budget."""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from typing import Final

from nimbus_reef.analysis.catalog import names
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.sheet_rows import NO_BASIS, change, promise
from nimbus_reef.core import naming
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.projection import NOTHING, Projected
from nimbus_reef.core.promises import Promise
from nimbus_reef.core.proposals import EntityKey, Proposal
from nimbus_reef.core.reasons import Headline, HeadlineKey, Reason
from nimbus_reef.store.reading.facts import Facts

_BUDGET_ROOM: Final = 1.5
"""A campaign's budget leaves so much room over what it is expected to spend."""
_LEAST_BUDGET: Final = 5.0


class NewNames:
    """Names for campaigns that no campaign has yet."""

    def __init__(self, facts: Facts, selection: Selection) -> None:
        self._taken = set(names.campaign_names(facts, selection))
        self._pattern = naming.pattern(selection.account.naming)
        found = names.parsed(facts, selection)
        self._usual = {part: values[0][0] for part, values in found.counts.items() if values} if found else {}

    def by_pattern(self, sku: str, purpose: str) -> str:
        """A name by the account's pattern, what that does not ask for left as it is usual there."""
        told = {"product": sku, "purpose": purpose, "match": "exact"}
        if self._pattern is None:
            return " · ".join(told.values())
        parts = {part: told.get(part, self._usual.get(part, part)) for part in self._pattern.parts}
        return self._pattern.written(parts)

    def free(self, called: str) -> str:
        """The name, with a number behind where it is taken; it is taken from then on."""
        every = itertools.chain((called,), (f"{called} {number}" for number in itertools.count(2)))
        found = next(text for text in every if text not in self._taken)
        self._taken.add(found)
        return found


def new_campaign(
    selection: Selection,
    name: str,
    sku: str,
    keywords: Sequence[tuple[Change, Promise]],
    *,
    daily: float,
    budget: float | None,
    reasons: tuple[Reason, ...],
    effect: Projected,
) -> Proposal:
    """
    A campaign of one ad group with a product's ad and these changes in it, taken whole or not at all.

    daily: what it is expected to spend a day, which its budget follows where none is given (`budget`).
    """
    created = [each for each, _ in keywords if each.entity is Entity.TARGET and each.campaign == name]
    amount = max(_LEAST_BUDGET, math.ceil(_BUDGET_ROOM * daily)) if budget is None else budget
    typical = sorted(float(each.new_value) for each in created)[len(created) // 2]

    def row_of(entity: Entity, field: str, value: str, **of: str) -> Change:
        return change(entity, field, name, value, "", created[0].finding, Action.CREATE, **of)

    nothing = promise(selection, NO_BASIS, keywords[0][1].view, "", NOTHING)
    rows = (
        row_of(Entity.CAMPAIGN, "daily_budget", f"{amount:.2f}"),
        row_of(Entity.CAMPAIGN, "targeting", "manual"),
        row_of(Entity.CAMPAIGN, "bidding", "fixed"),
        row_of(Entity.CAMPAIGN, "offsite_limited", "yes"),
        row_of(Entity.AD_GROUP, "default_bid", f"{typical:.2f}", ad_group=sku),
        row_of(Entity.PRODUCT_AD, "state", "enabled", ad_group=sku, sku=sku),
    )
    return Proposal(
        EntityKey(Subject.CAMPAIGN, name),
        name[:64],
        Headline(HeadlineKey.BUY_GROUP, (len(created), amount)),
        (*((row, nothing) for row in rows), *keywords),
        reasons,
        effect=effect,
        name=name,
    )
