"""What the drawer says of a row beside its verdict: why its cost of sale moved, status among peers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any, Final

import polars as pl

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.judged_tables import View
from nimbus_reef.analysis.selection import EVERYTHING
from nimbus_reef.analysis.standing import ALL
from nimbus_reef.analysis.wording import metric_words
from nimbus_reef.core import peers
from nimbus_reef.core.checks import Subject
from nimbus_reef.core.metrics import sums_in_units
from nimbus_reef.core.peers import RATED
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.reading import target_frames
from nimbus_reef.store.reading.facts import TARGET_SOURCES, Facts
from nimbus_reef.web.kit.splits import Why, why
from nimbus_reef.web.kit.strips import Strip, strip
from nimbus_reef.web.params import Scope

_SHOWN: Final = ("ctr", "cvr", "cpc", "acos")


def why_it_moved(facts: Facts, view: View, scope: Scope, row: Mapping[str, Any], figures: Figures) -> Why | None:
    """The one-row split of a target or term against the period before; None where nothing is compared."""
    if scope.against is None or not view.adds_up:
        return None
    if view.subject is Subject.TARGET:
        before = target_frames.target_rows(facts, scope.account.id, scope.against).filter(
            pl.col("target_id") == row["target_id"]
        )
    else:
        same = (pl.col("ad_group_id") == row["ad_group_id"]) & (pl.col("normal_id") == row["normal_id"])
        before = target_frames.term_sums(facts, scope.account.id, scope.against).filter(same)
    if before.is_empty():
        kinds = TARGET_SOURCES if view.subject is Subject.TARGET else ("search_term_daily",)
        if not any(facts.held_days(scope.account.id, kind, scope.against) for kind in kinds):
            return Why(f"No data in the comparison period, {figures.days(scope.against)}.", ())
        return Why("No impressions in the comparison period.", ())
    return why(sums_in_units(before.row(0, named=True)), sums_in_units(row), figures)


def against_peers(facts: Facts, scope: Scope, row: Mapping[str, Any], figures: Figures) -> list[tuple[str, str, Strip]]:
    """A row's rates among the peers of its main product's category; nothing where there are none."""
    category = row.get("category")
    if category is None:
        return []
    on = standing.standing_data(facts, replace(scope.selection, part=EVERYTHING))
    sums = sums_in_units(row)
    found = []
    for metric in _SHOWN:
        known = on.peers_of(category, ALL, metric)
        if known is None:
            continue
        ends = None
        if RATED[metric].proportion and not peers.too_thin(metric, row):
            ends = peers.proportion(row[RATED[metric].numerator], row[RATED[metric].denominator])
        at = peers.standing(metric, sums, known, ends)
        found.append((RATED[metric].label, metric_words(metric, at.value, figures), strip(at, figures)))
    return found
