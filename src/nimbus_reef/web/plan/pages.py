"""The plan as a table: its changes by campaign, a page at a time."""

from __future__ import annotations

from collections.abc import Sequence

from nimbus_reef.analysis.tables import PAGE_ROWS, page_of
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.web.kit.figures import Figures
from nimbus_reef.web.kit.planned import lines
from nimbus_reef.web.kit.tables import Head, TableView


def campaigns(planned: Sequence[Planned]) -> int:
    """How many campaigns the plan changes."""
    return len({each.change.campaign for each in planned})


def table(planned: Sequence[Planned], number: int, here: str, figures: Figures) -> TableView:
    """A page of the plan; the last where there are not so many."""
    order = {name: place for place, name in enumerate(dict.fromkeys(p.change.campaign for p in planned))}
    by_campaign = sorted(planned, key=lambda each: order[each.change.campaign])
    number, pages = page_of(len(planned), number)
    shown = by_campaign[(number - 1) * PAGE_ROWS : number * PAGE_ROWS]
    return TableView(
        here=here, name="plan", heads=_heads(figures.symbol), groups=lines(shown, figures, planned), page=number,
        pages=pages, opens=False, things="changes",
    )  # fmt: skip


def _heads(symbol: str) -> tuple[Head, ...]:
    return (
        Head("row", css="num"), Head("what", css="first"), Head("change", css="words"),
        Head("old"), Head("new"), Head(f"spend {symbol} per 30 days"),
        Head(f"sales {symbol} per 30 days"), Head("reason", css="words"),
        Head("", spoken="take out"),
    )  # fmt: skip
