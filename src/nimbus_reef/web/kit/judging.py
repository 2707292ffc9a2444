"""
A page that has to be judged or worked out first: its sums at once, in its frame, and the page itself as a second
answer.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Final

from nimbus_reef.analysis.judged import Judged
from nimbus_reef.analysis.pending_results import Unmade, unmade
from nimbus_reef.analysis.pending_verdicts import Unjudged, unjudged
from nimbus_reef.core.metrics import ratio
from nimbus_reef.core.model import MICRO
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import ReefError
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.params import Scope

THINGS: Final = {Judged.TARGETS: ("target", ""), Judged.TERMS: ("search term", ""), Judged.ADS: ("product ad", "")}


class NotYet(ReefError):
    """
    A page's rows have to be judged, or it worked out from very many; shown in the frame, with what they come to
    meanwhile.
    """

    def __init__(self, rows: Unjudged | Unmade) -> None:
        super().__init__("This period is not calculated yet.", remedy="Try again in a moment.")
        self.rows = rows


def judged_first(facts: Facts, scope: Scope, *wanted: Judged, first: bool, more: bool = False) -> None:
    """
    NotYet where a page needs rows that are not judged and too many to be judged at once. first: this is the first
    answer of a page, not its second, a part of it or a file; more: see `unjudged`.
    """
    rows = unjudged(facts, scope.selection, wanted, more=more) if first else None
    if rows is not None:
        raise NotYet(rows)


def worked_out_first(
    facts: Facts, scope: Scope, make: Callable[[], bool], reads: Sequence[tuple[str, Window]], *, first: bool
) -> None:
    """
    NotYet where what a page shows is not made and is made from very many rows. reads: report and days; first: as in
    `judged_first`.
    """
    if first and not make() and (rows := unmade(facts, scope.selection, reads)) is not None:
        raise NotYet(rows)


@dataclass(frozen=True, slots=True)
class Waiting:
    """What is said meanwhile. doing: what is done, of how much; figures: label and text; lines: names, then figures."""

    doing: str
    follows: str
    figures: tuple[tuple[str, str], ...]
    names: str = ""
    heads: tuple[str, ...] = ()
    lines: tuple[tuple[str, str, tuple[str, ...]], ...] = ()


def waiting(rows: Unjudged | Unmade, figures: Figures) -> Waiting:
    """What is not there yet in words and figures."""
    if isinstance(rows, Unmade):
        return Waiting(
            f"Reading {figures.counted(rows.rows, 'row')}",
            "The full page follows in a moment. The totals are here already.",
            _sums(rows.sums, figures),
        )
    counts = [figures.counted(count, *THINGS[what]) for what, count in rows.counts.items()]
    heads = (f"spend {figures.symbol}", "clicks", "orders", f"sales {figures.symbol}", "ACOS %")
    return Waiting(
        f"Judging {' and '.join(counts)}",
        "Verdicts follow in a moment. The sums are here already.",
        _sums(rows.sums, figures),
        "largest by spend",
        heads,
        tuple(_line(row, figures) for row in rows.largest.to_dicts()),
    )


def _sums(sums: Mapping[str, int] | None, figures: Figures) -> tuple[tuple[str, str], ...]:
    if sums is None:
        return ()
    return (
        ("spend", figures.micro(sums["spend"])),
        ("sales", figures.micro(sums["sales"])),
        ("orders", figures.count(sums["orders"])),
        ("ACOS", figures.rate(ratio(sums["spend"], sums["sales"]))),
    )


def _line(row: Mapping[str, Any], figures: Figures) -> tuple[str, str, tuple[str, ...]]:
    name = next((row[key] for key in ("search_term", "target", "sku") if row.get(key)), "–")
    where = " · ".join(row[key] for key in ("campaign", "ad_group") if row.get(key))
    spend, sales = row["spend"], row["sales"]
    return (
        name,
        where,
        (
            figures.number(spend / MICRO, 0),
            figures.count(row["clicks"]),
            figures.count(row["orders"]),
            figures.number(sales / MICRO, 0),
            figures.percent(ratio(spend, sales)),
        ),
    )
