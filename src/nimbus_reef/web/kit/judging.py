"""A page whose rows are not judged yet: its sums at once, in its frame, and the page itself as a second answer."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, Final

from nimbus_reef.analysis.judged import Judged
from nimbus_reef.analysis.unjudged import Unjudged, unjudged
from nimbus_reef.core.model import MICRO
from nimbus_reef.errors import ReefError
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.params import Scope

THINGS: Final = {
    Judged.TARGETS: ("target", ""),
    Judged.TERMS: ("search term", ""),
    Judged.ADS: ("product ad", ""),
}


class NotJudgedYet(ReefError):
    """A page's rows have to be judged first; shown in the frame, with what they come to meanwhile."""

    def __init__(self, rows: Unjudged) -> None:
        super().__init__("These days are not judged yet.", remedy="Ask again in a moment.")
        self.rows = rows


def judged_first(facts: Facts, scope: Scope, *wanted: Judged, first: bool, more: bool = False) -> None:
    """
    NotJudgedYet where a page needs rows that are not judged and too many to be judged at once. first: this is the first answer of a
    page, not its second, a part of it or a file; more: see `unjudged`.
    """
    rows = unjudged(facts, scope.look, wanted, more=more) if first else None
    if rows is not None:
        raise NotJudgedYet(rows)


@dataclass(frozen=True, slots=True)
class Waiting:
    """What is said while rows are judged. what: how many of what; figures: label and text; lines: names, then figures."""

    what: str
    figures: tuple[tuple[str, str], ...]
    names: str
    heads: tuple[str, ...]
    lines: tuple[tuple[str, str, tuple[str, ...]], ...]


def waiting(rows: Unjudged, write: Figures) -> Waiting:
    """Rows without verdicts in words and figures."""
    counts = [write.counted(count, *THINGS[what]) for what, count in rows.counts.items()]
    sums = rows.sums
    told: tuple[tuple[str, str], ...] = ()
    if sums is not None:
        told = (
            ("spend", write.micro(sums["spend"])),
            ("sales", write.micro(sums["sales"])),
            ("orders", write.count(sums["orders"])),
            ("ACOS", write.rate(sums["spend"] / sums["sales"] if sums["sales"] else None)),
        )
    heads = (f"spend {write.symbol}", "clicks", "orders", f"sales {write.symbol}", "ACOS %")
    return Waiting(
        " and ".join(counts),
        told,
        "largest by spend",
        heads,
        tuple(_line(row, write) for row in rows.largest.to_dicts()),
    )


def _line(row: Mapping[str, Any], write: Figures) -> tuple[str, str, tuple[str, ...]]:
    name = next((row[key] for key in ("search_term", "target", "sku") if row.get(key)), "–")
    where = " · ".join(row[key] for key in ("campaign", "ad_group") if row.get(key))
    spend, sales = row["spend"], row["sales"]
    return (
        name, where,
        (
            write.number(spend / MICRO, 0), write.count(row["clicks"]), write.count(row["orders"]), write.number(sales / MICRO, 0),
            write.percent(spend / sales if sales else None),
        ),
    )  # fmt: skip
