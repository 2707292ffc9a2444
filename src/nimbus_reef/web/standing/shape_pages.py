"""The account's shape: its campaigns by format and by how they target."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from nimbus_reef.analysis import shape as account_shape
from nimbus_reef.analysis.shape import NOT_HELD
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context


@dataclass(frozen=True, slots=True)
class ShapeLine:
    """How many of a thing there are, by state; bar parts are 0 … 100 of the largest."""

    name: str
    total: str
    states: tuple[tuple[str, str], ...]


def shape_lines(counts: Mapping[str, Mapping[str, int]], figures: Figures) -> list[ShapeLine]:
    """Counts of campaigns, ad groups, targets and products, by state or format."""
    return [
        ShapeLine(
            name,
            figures.count(sum(by.values())),
            tuple((state, figures.count(number)) for state, number in sorted(by.items(), key=lambda each: -each[1])),
        )
        for name, by in counts.items()
    ]


def shape_answer(counts: Mapping[str, Mapping[str, int]], figures: Figures) -> Answer:
    """What of the account lies idle: products that could be advertised, ad groups where nothing runs."""
    products, groups = counts["Products"], counts["Ad groups"]
    idle_products, idle_groups = products.get("eligible, not advertised", 0), groups.get("without one", 0)
    if NOT_HELD in products:
        bold = "Unknown which products are advertised: that needs the catalog and product ads by day."
    elif idle_products:
        are = "is" if idle_products == 1 else "are"
        bold = f"{figures.counted(idle_products, 'eligible product')} {are} not advertised."
    else:
        bold = f"Every product that may be is advertised, {figures.count(products['advertised'])} in all."
    rest = "Every ad group has a live target."
    if NOT_HELD in groups:
        rest = "Which targets are live is told by the targets report."
    elif idle_groups:
        has = "has" if idle_groups == 1 else "have"
        rest = f"{figures.counted(idle_groups, 'ad group')} {has} no live target: nothing can run there."
    return Answer(bold, rest)


@dataclass(frozen=True, slots=True)
class ShapeView:
    """The account's shape: what it says, and a line per format."""

    answer: Answer
    lines: list[ShapeLine]


def page(ask: Context) -> ShapeView:
    """The view."""
    counts = account_shape.shape(ask.facts, ask.account, ask.scope.window)
    return ShapeView(shape_answer(counts, ask.figures), shape_lines(counts, ask.figures))
