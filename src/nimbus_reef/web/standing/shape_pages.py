"""The account's shape: its campaigns by format and by how they target."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Final

from nimbus_reef.analysis import shape as account_shape
from nimbus_reef.analysis.shape import NOT_HELD
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context


@dataclass(frozen=True, slots=True)
class ShapeLine:
    """How many of a thing there are, by state: words, count, and the address of the list of them."""

    name: str
    total: str
    states: tuple[tuple[str, str, str], ...]


_LISTS: Final[Mapping[str, tuple[str, str, str]]] = {
    "Campaigns by state": ("targeting.table", "campaigns", "state:is:{}"),
    "Campaigns by format": ("targeting.table", "campaigns", "format:is:{}"),
    "Targets by state": ("targeting.table", "targets", "state:is:{}"),
    "Targets by match type": ("targeting.table", "targets", "match:is:{}"),
}
_OTHERS: Final[Mapping[tuple[str, str], tuple[str, str, str]]] = {
    ("Ad groups", "with a live target"): ("targeting.table", "ad-groups", "targets:ge:1"),
    ("Ad groups", "without one"): ("targeting.table", "ad-groups", "targets:eq:0"),
    ("Products", "advertised"): ("standing.view", "products", ""),
    ("Products", "eligible, not advertised"): ("catalog.view", "gaps", ""),
    ("Products", "not eligible"): ("catalog.view", "eligibility", "status:is:ineligible"),
}
"""Where what is counted is listed: endpoint, view and filter."""


def address(ask: Context, name: str, state: str) -> str:
    """The list of what is counted; empty where it is none."""
    found = _OTHERS.get((name, state)) or _LISTS.get(name)
    if found is None or state == NOT_HELD or state.startswith("negative"):
        return ""
    endpoint, view, where = found
    return ask.scope.elsewhere(ask.url(endpoint, name=view), **({"where": where.format(state)} if where else {}))


def shape_lines(ask: Context, counts: Mapping[str, Mapping[str, int]]) -> list[ShapeLine]:
    """Counts of campaigns, ad groups, targets and products, by state or format."""
    figures = ask.figures
    return [
        ShapeLine(
            name,
            figures.count(sum(by.values())),
            tuple(
                (state, figures.count(number), address(ask, name, state))
                for state, number in sorted(by.items(), key=lambda each: -each[1])
            ),
        )
        for name, by in counts.items()
    ]


def shape_answer(counts: Mapping[str, Mapping[str, int]], figures: Figures) -> Answer:
    """What of the account lies idle: products that could be advertised, ad groups where nothing runs."""
    products, groups = counts["Products"], counts["Ad groups"]
    idle_products, idle_groups = products.get("eligible, not advertised", 0), groups.get("without one", 0)
    if NOT_HELD in products:
        bold = "Load the catalog and product ads by day to see which products are advertised."
    elif idle_products:
        are = "is" if idle_products == 1 else "are"
        bold = f"{figures.counted(idle_products, 'eligible product')} {are} not advertised."
    else:
        bold = f"Every eligible product is advertised, {figures.count(products['advertised'])} in all."
    rest = "Every ad group has a live target."
    if NOT_HELD in groups:
        rest = "Load the targets report to see which targets are live."
    elif idle_groups:
        has = "has" if idle_groups == 1 else "have"
        rest = f"{figures.counted(idle_groups, 'ad group')} {has} no live target, so nothing can run there."
    return Answer(bold, rest)


@dataclass(frozen=True, slots=True)
class ShapeView:
    """The account's shape: what it says, and a line per format."""

    answer: Answer
    lines: list[ShapeLine]


def page(ask: Context) -> ShapeView:
    """The view."""
    counts = account_shape.shape(ask.facts, ask.account, ask.scope.window)
    return ShapeView(shape_answer(counts, ask.figures), shape_lines(ask, counts))
