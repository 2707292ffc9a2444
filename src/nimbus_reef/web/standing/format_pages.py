"""Formats: where the money goes by ad format beside the peers' mix, and how each stands."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimbus_reef.analysis import standing
from nimbus_reef.analysis.standing import AD_METRICS
from nimbus_reef.core.peers import RATED
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.standing.groups import (
    FormatPair,
    GroupLine,
    format_answer,
    format_pairs,
    format_words,
    group_lines,
)


@dataclass(frozen=True, slots=True)
class FormatsView:
    """Formats. spend_pairs, campaign_pairs: our share above the peers'; lines: a format each; whole: all of them."""

    answer: Answer | None
    spend_pairs: Sequence[FormatPair]
    campaign_pairs: Sequence[FormatPair]
    lines: Sequence[GroupLine]
    whole: GroupLine
    metrics: Sequence[tuple[str, str]]


def page(ask: Context) -> FormatsView:
    """The view."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    mix, found = standing.mix(facts, selection), standing.groups(facts, selection, "format")
    everything = list(standing.account_places(facts, selection).values())
    return FormatsView(
        format_answer(mix, found, figures),
        format_pairs(mix, "spend", figures),
        format_pairs(mix, "campaign", figures),
        group_lines([(format_words(name), spend, at) for name, spend, at in found], figures),
        group_lines([("all", 1.0, everything)], figures)[0],
        [(metric, RATED[metric].label) for metric in AD_METRICS],
    )
