"""Names as their page shows them: the pattern tried on the account's real names, and what breaks it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nimbus_reef.analysis.catalog import names
from nimbus_reef.analysis.catalog.names import Rename
from nimbus_reef.core import naming
from nimbus_reef.core.changes import Entity
from nimbus_reef.core.naming import ParsedNames
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context

_EXAMPLES = 5
_VALUES = 8


@dataclass(frozen=True, slots=True)
class PartValues:
    """A part of the names: its values with how often each occurs, and how many more there are."""

    part: str
    values: tuple[tuple[str, str], ...]
    more: int


@dataclass(frozen=True, slots=True)
class Preview:
    """
    A pattern tried on all names. wrong: why it cannot be read (empty when it can); examples: names with their parts in
    order; breaks: those that do not fit.
    """

    wrong: str
    parts: tuple[str, ...]
    fits: str
    of: str
    examples: tuple[tuple[str, tuple[str, ...]], ...]
    values: tuple[PartValues, ...]
    breaks: tuple[str, ...]


def preview(text: str, names: Sequence[str], parsed: ParsedNames | None, figures: Figures) -> Preview:
    """What a pattern makes of the account's names."""
    wrong = naming.pattern_problem(text) if text else "has no part. Add one such as {product}"
    if wrong or parsed is None:
        return Preview(f"The pattern {wrong}.", (), figures.count(0), figures.count(len(names)), (), (), tuple(names))
    parts = tuple(parsed.counts)
    step = max(1, len(parsed.fits) // _EXAMPLES)
    shown = list(parsed.fits.items())[::step][:_EXAMPLES]
    return Preview(
        "",
        parts,
        figures.count(len(parsed.fits)),
        figures.count(len(names)),
        tuple((name, tuple(read[part] for part in parts)) for name, read in shown),
        tuple(
            PartValues(
                part,
                tuple((value, figures.count(times)) for value, times in parsed.counts[part][:_VALUES]),
                max(0, len(parsed.counts[part]) - _VALUES),
            )
            for part in parts
        ),
        parsed.breaks,
    )


def answer(pattern: str, parsed: ParsedNames | None, names: Sequence[str], figures: Figures) -> Answer:
    """How well the names keep to the pattern."""
    if not pattern or parsed is None:
        return Answer(
            "No naming pattern set.",
            "With a pattern, the parts of campaign names become filters and groups on every page.",
        )
    broken = len(parsed.breaks)
    if not broken:
        return Answer(f"All {figures.count(len(names))} campaigns follow the pattern.", "")
    breaks = "campaign breaks" if broken == 1 else "campaigns break"
    return Answer(
        f"{figures.count(broken)} of {figures.count(len(names))} {breaks} the pattern.",
        "They are missing from every group by a part of the name.",
    )


@dataclass(frozen=True, slots=True)
class RenameLine:
    """A name that breaks the pattern, what it would be called; planned: it is in the plan."""

    key: str
    name: str
    proposed: str
    free: bool
    planned: bool


def rename_lines(renames: Sequence[Rename], planned: frozenset[str]) -> list[RenameLine]:
    """Names that break the pattern."""
    return [RenameLine(each.name, each.name, each.proposed, each.free, each.name in planned) for each in renames]


@dataclass(frozen=True, slots=True)
class NamesView:
    """Campaign names. own: the account's pattern; tried: the one that is shown, with what it makes of the names."""

    answer: Answer
    own: str
    tried: str
    preview: Any
    renames: Any


def page(ask: Context) -> NamesView:
    """The view."""
    facts, selection, figures = ask.facts, ask.selection, ask.figures
    keys, own = names.campaign_names(facts, selection), ask.account.naming
    tried = ask.scope.own_value("pattern") or own or names.suggestion(facts, selection)
    planned = frozenset(
        each.campaign for each in ask.planned_changes() if (each.entity, each.field) == (Entity.CAMPAIGN, "name")
    )
    return NamesView(
        answer(own, names.parsed(facts, selection), keys, figures),
        own,
        tried,
        preview(tried, keys, names.parsed(facts, selection, tried), figures),
        rename_lines(names.renames(facts, selection), planned),
    )


def tried(ask: Context, text: str) -> Any:
    """A pattern tried on the account's names."""
    keys = names.campaign_names(ask.facts, ask.selection)
    return preview(text, keys, names.parsed(ask.facts, ask.selection, text), ask.figures)
