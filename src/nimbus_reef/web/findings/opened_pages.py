"""A finding, or all of a check, opened as a thing to do: its rows and what is proposed on each and together."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from nimbus_reef.analysis.acceptance import assess
from nimbus_reef.analysis.findings import Group, named
from nimbus_reef.analysis.judged_proposals import FILED_AS
from nimbus_reef.analysis.judged_tables import VIEWS
from nimbus_reef.analysis.opened_findings import Opened, opened
from nimbus_reef.analysis.wording import ahead_words, metric_words
from nimbus_reef.core.changes import Change
from nimbus_reef.core.checks import Check, Money
from nimbus_reef.core.peers import RATED
from nimbus_reef.errors import NotFound
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.findings.opens import Opens, opens
from nimbus_reef.web.findings.pages import IS, finding_line
from nimbus_reef.web.kit import product
from nimbus_reef.web.kit.context import Context
from nimbus_reef.web.kit.previews import AcceptancePreview, preview
from nimbus_reef.web.kit.product import ProductDrawer


@dataclass(frozen=True, slots=True)
class OpenedLine:
    """
    A row of a check that is not judged: what it is called, where, its money and why; key and open: how it is accepted
    and opened.
    """

    key: str
    open: str
    name: str
    where: str
    mark: str
    amount: str
    why: str


def opened_lines(group: Group, days: int, figures: Figures) -> list[OpenedLine]:
    """The rows of a finding as its group shows them."""
    largest = max([*group.rows["stake"].to_list(), 1])
    return [
        OpenedLine(line.row_id, line.open, line.name, line.where, line.mark, line.amount, line.why)
        for line in (finding_line(row, group, largest, days, figures) for row in group.rows.to_dicts())
    ]


def opened_title(group: Group, row_id: str) -> tuple[str, str]:
    """What an opened finding is called, and what under it: of all of a check its title."""
    if not row_id:
        return group.check.title, ""
    name, where = named(group.check, group.rows.row(0, named=True))
    return f"{name}: {group.check.title[0].lower()}{group.check.title[1:]}", where


def gap_lines(row: Mapping[str, Any], figures: Figures) -> list[dict[str, str]]:
    """The metrics of a category that lie behind its peers, each in words; none of other findings."""
    return [
        {
            "metric": RATED[each["metric"]].label,
            "words": (
                f"{metric_words(each['metric'], each['value'], figures)} against "
                f"{metric_words(each['metric'], each['typical'], figures)}, {ahead_words(each['percentile'], figures)}"
            ),
        }
        for each in row.get("gaps") or []
    ]


def opened_words(group: Group, figures: Figures) -> str:
    """What is at stake in it."""
    if group.check.money in (Money.EARNED, Money.SPENT):
        return figures.counted(len(group.rows), "finding")
    return f"{figures.micro(group.stake)} {IS[group.check.money]} per 30 days"


@dataclass(frozen=True, slots=True)
class OpenedView:
    """
    What opens. preview: what is proposed on its rows, None where nothing is; lines: its rows where nothing is proposed;
    raises: key, change, day and row of bids raised where the product is advertised; itself: it is accepted as one.
    """

    check: Check
    group: Group
    title: str
    where: str
    row_id: str
    stake: str
    preview: AcceptancePreview | None
    acting: Sequence[Any]
    opens: Opens
    itself: bool
    lines: Sequence[OpenedLine]
    raises: Sequence[tuple[str, Change, str, Mapping[str, Any]]]
    product: ProductDrawer | None
    sku: str
    gaps: Sequence[Mapping[str, str]]


def page(ask: Context, group: Group, row_id: str) -> OpenedView:
    """The view of a group of findings, or of one row of it."""
    found, check, figures = opened(ask.facts, ask.selection, group, row_id), group.check, ask.figures
    title, where = opened_title(group, row_id)
    acceptance_preview = _told(ask, found) if found.proposed else None
    return OpenedView(
        check,
        group,
        title,
        where,
        row_id,
        opened_words(group, figures),
        acceptance_preview,
        acceptance_preview.acting if acceptance_preview else (),
        opens(check),
        check.by_itself,
        []
        if acceptance_preview and acceptance_preview.count
        else opened_lines(group, ask.days("search_term_daily"), figures),
        [(each.row_id, each.changes[0], figures.day(row["day"]), row) for each, row in found.raises],
        _product(ask, found.product) if found.product else None,
        found.product,
        gap_lines(group.rows.row(0, named=True), figures) if row_id else [],
    )


def _told(ask: Context, found: Opened) -> AcceptancePreview:
    """What is proposed on the rows of a finding, and what all of it would do beside what is planned."""
    asked = assess(ask.facts, ask.selection, found.proposed)
    thing = VIEWS[FILED_AS[found.check.subject]].thing
    return preview(asked, "", thing, ask.scope.window.days, ask.account.settings, ask.figures)


def _product(ask: Context, sku: str) -> ProductDrawer | None:
    """What is known of a product that a finding is about; None where it has no ads in the window."""
    try:
        return product.drawer(ask.facts, ask.scope, sku, "", ask.figures)
    except NotFound:
        return None
