"""The pictures of the report's first page: the metric tree, the drift of products, the largest findings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from nimbus_reef.analysis import movement, standing
from nimbus_reef.analysis.look import Look
from nimbus_reef.analysis.totals import totals
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.findings.pages import FindingBlock
from nimbus_reef.web.kit import movers, tree
from nimbus_reef.web.kit.drift import Drift, drift

_PRODUCTS = "product_ad_daily"


def nodes(facts: Facts, look: Look, figures: Figures) -> dict[str, Any] | None:
    """The metric tree; None where no report gives totals."""
    found = totals(facts, look)
    if found is None:
        return None
    held = facts.held_days(look.account.id, _PRODUCTS, look.window) > 0
    placed = standing.account_places(facts, look) if held and len(standing.standing_data(facts, look).ads) else {}
    return dict(tree.nodes(found, placed, figures))


def moved(facts: Facts, look: Look, target_acos: float) -> Drift | None:
    """The drift of the products with the largest effect on profit; None where nothing can be compared."""
    windows = [look.window, look.against] if look.against else []
    if not windows or not all(facts.held_days(look.account.id, _PRODUCTS, each) for each in windows):
        return None
    sides = movement.sides(facts, look, "product")
    rows = movers.ranked(sides, *movement.held_days(facts, look, "product")) if len(sides) else sides
    if rows.is_empty():
        return None
    return drift(movers.movers(rows.head(movers.LARGEST), _words(look)), target_acos, movers.break_even(sides))


def _words(look: Look) -> Figures:
    return Figures(look.account.locale, look.account.currency)


@dataclass(frozen=True, slots=True)
class Bar:
    """A group of findings as a bar: its weight is 0 … 100 of the largest."""

    title: str
    to_do: str
    amount: str
    weight: float
    gain: bool


def bars(blocks: Sequence[FindingBlock], stakes: Sequence[int], most: int = 7) -> list[Bar]:
    """The largest groups of findings; stakes: of each block, in micro-units."""
    largest = max([*stakes, 1])
    return [
        Bar(block.title, block.to_do, block.amount, round(100 * stake / largest, 1), block.gain)
        for block, stake in list(zip(blocks, stakes, strict=True))[:most]
        if not block.gain
    ]
