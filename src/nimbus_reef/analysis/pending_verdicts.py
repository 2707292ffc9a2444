"""What rows come to before they are judged: the sums that a page shows while the verdicts are made."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Final

import polars as pl

from nimbus_reef.analysis.judged import AT_ONCE, Judged, is_judged, source_of
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.totals import summed, totals
from nimbus_reef.store.reading import row_frames
from nimbus_reef.store.reading.facts import Facts

_LARGEST: Final = 20


@dataclass(frozen=True, slots=True)
class Unjudged:
    """
    Rows that wait for their verdicts. counts: how many of each; sums: the measures of the first, or of the part looked
    at, None where no report tells them; largest: those of the first that cost most, named (see `row_frames.largest`),
    none where only a part is looked at.
    """

    counts: Mapping[Judged, int]
    sums: Mapping[str, int] | None
    largest: pl.DataFrame


def unjudged(facts: Facts, selection: Selection, wanted: Sequence[Judged], *, more: bool = False) -> Unjudged | None:
    """
    What is not judged yet of what a page needs; None where it is, or is so little that nobody has to wait.

    more: the page makes more of its rows than their verdicts, and that is not worked out either.
    """
    account = selection.account
    missing = [what for what in wanted if more or not is_judged(facts, selection, what)]
    counts = {
        what: len(facts.sums(account.id, source_of(facts, selection, what), selection.window)) for what in missing
    }
    if max(counts.values(), default=0) < AT_ONCE:
        return None
    if selection.part:
        found = totals(facts, selection)
        return Unjudged(counts, summed(found.now) if found else None, pl.DataFrame())
    source = source_of(facts, selection, missing[0])
    sums = summed(facts.sums(account.id, source, selection.window))
    return Unjudged(counts, sums, row_frames.largest(facts, account.id, source, selection.window, _LARGEST))
