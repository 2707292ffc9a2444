"""The answer that a page begins with."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Answer:
    """The finding of a page: what stands out, and two sentences of figures."""

    bold: str
    rest: str
