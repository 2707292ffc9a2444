"""How a judged row is marked and told, wherever it stands."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, Final

from nimbus_reef.analysis import wording
from nimbus_reef.analysis.wording import due_words
from nimbus_reef.core import evidence
from nimbus_reef.core.model import SimpleVerdict
from nimbus_reef.formats.figures import Figures

_RULE_MARKS: Final = {SimpleVerdict.OVER: "above", SimpleVerdict.NO_ORDER: "above", SimpleVerdict.UNDER: "within"}


def mark_of(row: Mapping[str, Any], judge: str) -> str:
    """Solid coral, half, hollow or solid lagoon; none where nothing was clicked."""
    if judge == "simple" and row["clicks"]:
        return _RULE_MARKS.get(row["simple_verdict"], "early")
    return wording.mark_of(row["verdict"], row["clicks"])


def verdict_at_length(row: Mapping[str, Any]) -> str:
    """The verdict and its cause, or why it waits."""
    if row.get("waits"):
        return f"{row['verdict']}, {row['waits']}"
    cause = "" if row.get("factor") is not None else evidence.cause_of(row)
    return f"{row['verdict']}, {cause}" if cause else str(row["verdict"])


def word_fact(row: Mapping[str, Any], figures: Figures) -> str:
    """What a word's searches brought, and what was expected of them without it."""
    return (
        f"{figures.counted(row['word_clicks'], 'click')}, {figures.counted(row['came'], 'order')}, "
        f"{due_words(row['due'], figures)} expected"
    )
