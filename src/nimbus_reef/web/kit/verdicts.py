"""How a judged row is marked and told, wherever it stands."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from nimbus_reef.core import evidence
from nimbus_reef.core.model import Verdict
from nimbus_reef.web.kit.figures import Figures


def mark_of(row: Mapping[str, Any], judge: str) -> str:
    """Solid coral, half, hollow or solid lagoon; none where nothing was clicked."""
    if not row["clicks"]:
        return "none"
    if judge == "simple":
        return {"over target": "costly", "no order": "costly", "within target": "fine"}.get(
            row["simple_verdict"], "undecided"
        )
    return {Verdict.COSTLY.value: "costly", Verdict.LEANING.value: "leaning", Verdict.FINE.value: "fine"}.get(
        row["verdict"], "undecided"
    )


def verdict_at_length(row: Mapping[str, Any]) -> str:
    """The verdict and its cause."""
    cause = "" if row.get("factor") is not None else evidence.cause_of(row)
    return f"{row['verdict']}, {cause}" if cause else str(row["verdict"])


def word_fact(row: Mapping[str, Any], figures: Figures) -> str:
    """What a word's searches brought, and what was due of them without it."""
    return (
        f"{figures.counted(row['word_clicks'], 'click')}, {figures.counted(row['came'], 'order')}, "
        f"{due_words(row['due'], figures)} were due"
    )


def due_words(due: float, figures: Figures) -> str:
    """How many orders were due: whole ones where they are many."""
    return figures.number(due, 0 if due >= 10 else 1)
