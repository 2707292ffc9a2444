"""What was decided on targets before: their changes that left the plan, with their reasons."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import polars as pl

from nimbus_reef.core.changes import Entity
from nimbus_reef.core.targeting import TARGET_NAMES, target_key
from nimbus_reef.store.people import plans
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.reading.facts import Facts


def of_targets(facts: Facts, account: Account) -> Mapping[str, list[Planned]]:
    """The decisions on each target, newest first, by what the target is called (see `target_key`)."""
    found: dict[str, list[Planned]] = {}
    for each in plans.decided(facts.store, account.id, Entity.TARGET):
        of = each.change
        names = (of.campaign, of.ad_group, of.target, of.match_type)
        found.setdefault(target_key(dict(zip(TARGET_NAMES, names, strict=True))), []).append(each)
    return found


def on_row(facts: Facts, account: Account, row: Mapping[str, Any]) -> list[Planned]:
    """The decisions on one target, newest first."""
    return of_targets(facts, account).get(target_key(row), [])


def latest(facts: Facts, account: Account, rows: pl.DataFrame) -> pl.DataFrame:
    """Targets with decided: the latest decision on each in a few words, null for none."""
    words = {key: in_words(found[0]) for key, found in of_targets(facts, account).items()}
    if not words:
        return rows.with_columns(decided=pl.lit(None, pl.String))
    keys = [target_key(row) for row in rows.select(TARGET_NAMES).to_dicts()]
    return rows.with_columns(decided=pl.Series([words.get(key) for key in keys], dtype=pl.String))


def in_words(decision: Planned) -> str:
    """What was changed, when, and what became of it."""
    change = decision.change
    value = f"{change.field} {change.old_value} → {change.new_value}"
    return f"{decision.accepted_at:%Y-%m-%d} {value}, {decision.state.value}"
