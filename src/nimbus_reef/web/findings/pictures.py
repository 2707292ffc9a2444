"""The pictures of the report's first page: the metric tree, the drift of products, the largest findings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.selection import Selection
from nimbus_reef.analysis.totals import totals
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.findings.pages import FindingBlock
from nimbus_reef.web.kit import movers, tree
from nimbus_reef.web.kit.drift import Drift, drift

_PRODUCTS = "product_ad_daily"


def nodes(facts: Facts, selection: Selection, figures: Figures) -> dict[str, Any] | None:
    """The metric tree; None where no report gives totals."""
    found = totals(facts, selection)
    if found is None:
        return None
    present = facts.held_days(selection.account.id, _PRODUCTS, selection.window) > 0
    placed = (
        standing.account_places(facts, selection)
        if present and len(standing.standing_data(facts, selection).ads)
        else {}
    )
    return dict(tree.nodes(found, placed, selection.aims.account, figures))


def moved(facts: Facts, selection: Selection, target_acos: float) -> Drift | None:
    """The drift of the products with the largest effect on profit; None where nothing can be compared."""
    windows = [selection.window, selection.against] if selection.against else []
    if not windows or not all(facts.held_days(selection.account.id, _PRODUCTS, each) for each in windows):
        return None
    sides = movement.sides(facts, selection, "product")
    rows = movers.ranked(sides, *movement.held_days(facts, selection, "product")) if len(sides) else sides
    if rows.is_empty():
        return None
    return drift(movers.movers(rows.head(movers.LARGEST), _words(selection)), target_acos, movers.break_even(sides))


def _words(selection: Selection) -> Figures:
    return Figures(selection.account.locale, selection.account.currency)


@dataclass(frozen=True, slots=True)
class Bar:
    """A group of findings as a bar: its weight is 0 … 100 of the largest."""

    title: str
    to_do: str
    amount: str
    is_what: str
    weight: float
    gain: bool


def bars(blocks: Sequence[FindingBlock], stakes: Sequence[int], most: int = 7) -> list[Bar]:
    """The largest groups of findings; stakes: of each block, in micro-units."""
    largest = max([*stakes, 1])
    return [
        Bar(block.title, block.to_do, block.amount, block.is_what, round(100 * stake / largest, 1), block.gain)
        for block, stake in list(zip(blocks, stakes, strict=True))[:most]
        if not block.gain
    ]
