"""
What is proposed on anything but a target, a term or a phrase: changes with what they promise, and
all of them together.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from nimbus_reef.analysis.look import Look
from nimbus_reef.core.changes import Action, Change, Entity, Promise, as_ranges
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.projection import NOTHING, UNKNOWN, Projected


@dataclass(frozen=True, slots=True)
class Offer:
    """
    Changes that belong together, accepted or left as one, without their reason: that is put in words by whoever shows
    them.

    key: what it is on. projected: all of it together in 30 days. figures: what the words rest on, by name.
    """

    key: str
    changes: tuple[tuple[Change, Promise], ...]
    projected: Projected = NOTHING
    figures: Mapping[str, Any] = field(default_factory=dict)

    def because(self, reason: str) -> list[tuple[Change, Promise]]:
        """The changes with their reason in words."""
        return [(replace(change, reason=reason[:1024]), promise) for change, promise in self.changes]


NO_BASIS = {"clicks": 0, "orders": 0, "spend": 0, "sales": 0}


def promise(look: Look, row: Mapping[str, Any], view: str, row_id: str, projected: Projected = UNKNOWN) -> Promise:
    """
    What a change rests on and promises.

    row: clicks, orders, spend, sales (micro-units) of what it is about, as far as known also prior_a, prior_b, n, k,
    shrunk_aov and target_acos. view, row_id: where it is shown.
    """
    has_prior = row.get("prior_a") is not None
    return Promise(
        window=(look.window.first.isoformat(), look.window.last.isoformat()),
        clicks=int(row["clicks"]),
        orders=int(row["orders"]),
        spend=from_micro(row["spend"]),
        sales=from_micro(row["sales"]),
        a=row["prior_a"] + row["k"] if has_prior else 1.0,
        b=row["prior_b"] + row["n"] - row["k"] if has_prior else 1.0,
        aov=from_micro(row.get("shrunk_aov") or 0),
        target_acos=row.get("target_acos") or look.aims.account,
        projected=as_ranges(projected),
        view=view,
        row_id=row_id[:64],
    )


def change(
    entity: Entity,
    name: str,
    campaign: str,
    new: str,
    old: str,
    finding: str,
    action: Action = Action.UPDATE,
    **other: Any,
) -> Change:
    """One row of the sheet without its number and reason."""
    return Change(
        row=0,
        action=action,
        entity=entity,
        campaign=campaign,
        field=name,
        new_value=new,
        old_value=old,
        finding=finding,
        **other,
    )


def spread(changes: Sequence[Change], whole: Promise) -> tuple[tuple[Change, Promise], ...]:
    """
    Changes that work together only: the first promises all of it, the others nothing, so that a sum
    counts it once.
    """
    none = replace(whole, projected=as_ranges(NOTHING))
    return tuple((each, whole if place == 0 else none) for place, each in enumerate(changes))
