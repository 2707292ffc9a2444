"""Rows of the change sheet, what each rests on and promises."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.changes import Action, Change, Entity
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.projection import NOTHING, UNKNOWN, Projected
from nimbus_reef.core.promises import Promise, as_ranges
from nimbus_reef.core.proposals import Evidence
from nimbus_reef.core.response import USUAL, ClickResponse

NO_BASIS = {"clicks": 0, "orders": 0, "spend": 0, "sales": 0}


def promise(
    selection: Selection,
    row: Mapping[str, Any],
    view: str,
    row_id: str,
    projected: Projected = UNKNOWN,
    response: ClickResponse = USUAL,
) -> Promise:
    """
    What a change rests on and promises.

    row: clicks, orders, spend, sales (micro-units) of what it is about, as far as known also prior_a, prior_b, n, k,
    shrunk_aov and target_acos. view, row_id: where it is shown. response: how clicks are taken to answer bids.
    """
    has_prior = row.get("prior_a") is not None
    return Promise(
        window=(selection.window.first.isoformat(), selection.window.last.isoformat()),
        clicks=int(row["clicks"]),
        orders=int(row["orders"]),
        spend=from_micro(row["spend"]),
        sales=from_micro(row["sales"]),
        a=row["prior_a"] + row["k"] if has_prior else 1.0,
        b=row["prior_b"] + row["n"] - row["k"] if has_prior else 1.0,
        aov=from_micro(row.get("shrunk_aov") or 0),
        target_acos=row.get("target_acos") or selection.aims.account,
        projected=as_ranges(projected),
        view=view,
        row_id=row_id,
        response=(response.e, response.spread, response.p),
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


def evidence_of(row: Mapping[str, Any]) -> Evidence:
    """What a judged row did in the window."""
    spend, sales = (from_micro(row[name]) for name in ("spend", "sales"))
    return Evidence(str(row["verdict"]), int(row["clicks"]), int(row["orders"]), spend, sales, row.get("p_over"))
