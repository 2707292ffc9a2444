"""What the days of a page come to while the page is worked out from very many rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.totals import summed, totals
from nimbus_reef.core.windows import Window
from nimbus_reef.store.reading.facts import Facts


@dataclass(frozen=True, slots=True)
class Unmade:
    """
    A page that is to be worked out. rows: how many it is made from; sums: the measures of the look, None where no
    report tells them.
    """

    rows: int
    sums: Mapping[str, int] | None


def unmade(facts: Facts, selection: Selection, reads: Sequence[tuple[str, Window]]) -> Unmade | None:
    """
    What a page's days come to whose result is not there yet; None where it reads so little that nobody has to wait.
    reads: report and days.
    """
    if not any(facts.holds_many(selection.account.id, kind, window) for kind, window in reads):
        return None
    rows = sum(facts.rows_held(selection.account.id, kind, window) for kind, window in reads)
    found = totals(facts, selection)
    return Unmade(rows, summed(found.now) if found else None)
