"""Names of hidden findings, whose rows may be in no list any more."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Final

import polars as pl

from nimbus_reef.analysis.findings import cohort_name
from nimbus_reef.analysis.judged import judged_targets, judged_terms
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.checks import CHECKS, Subject
from nimbus_reef.core.model import PLACEMENTS
from nimbus_reef.store.people.hidden_findings import PutAway
from nimbus_reef.store.reading import product_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

Names = Mapping[tuple[str, str], str]
"""The name of a finding by its check and its row."""


def names_of(facts: Facts, selection: Selection, away: Sequence[PutAway]) -> Names:
    """The name of each finding; nothing is looked up for kinds of rows that none of them is of."""
    subjects = {check: CHECKS[check].subject for check in {each.check for each in away} & set(CHECKS)}
    known = {name: _KNOWN[name](facts, selection) for name in set(subjects.values()) & set(_KNOWN)}
    by_check = {check: known.get(subject, {}) for check, subject in subjects.items()}
    return {
        (each.check, each.row_id): by_check.get(each.check, {}).get(each.row_id) or _known_as(each.row_id)
        for each in away
    }


def _targets(facts: Facts, selection: Selection) -> Mapping[str, str]:
    rows = judged_targets(facts, selection).with_columns(pl.col("target", "ad_group").cast(pl.String))
    groups = rows.select(
        row_id=pl.concat_str(pl.lit("ad_group_id:"), "ad_group_id"), name=pl.concat_str(pl.lit("ad group "), "ad_group")
    )
    return dict(rows.select("row_id", "target").rows()) | dict(groups.unique().rows())


def _terms(facts: Facts, selection: Selection) -> Mapping[str, str]:
    return dict(judged_terms(facts, selection).select("row_id", pl.col("term").cast(pl.String)).rows())


def _ads(facts: Facts, selection: Selection) -> Mapping[str, str]:
    rows = product_frames.named_ads(facts, selection.account.id, selection.window)
    return dict(rows.select(pl.col("product_ad_id", "sku").cast(pl.String)).rows())


def _placements(facts: Facts, selection: Selection) -> Mapping[str, str]:
    """Their rows are the number of the campaign and the placement."""
    rows = setting_frames.campaign_settings(facts, selection.account.id, selection.window)
    campaigns = rows.select(pl.col("campaign_id", "campaign").cast(pl.String)).rows()
    return {
        f"{number}:{place}": f"{name}, {words}" for number, name in campaigns for place, words in PLACEMENTS.items()
    }


_KNOWN: Final[Mapping[Subject, Callable[[Facts, Selection], Mapping[str, str]]]] = {
    Subject.TARGET: _targets,
    Subject.TERM: _terms,
    Subject.AD: _ads,
    Subject.PLACEMENT: _placements,
}


def _known_as(row_id: str) -> str:
    """A gathered finding's name from its id, `level:cohort`; of others the id, which is a name."""
    level, divided, cohort = row_id.partition(":")
    return cohort_name(level, cohort, cohort) if divided else row_id
