"""An account's link to its marketplace, and the reports that come from there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Final

from nimbus_reef.core.coverage import Span
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.loading.report_orders import OrderState, ReportOrder
from nimbus_reef.store.people.marketplace_links import MarketplaceLink
from nimbus_reef.store.record.loads import Job
from nimbus_reef.web.kit.answers import Answer


@dataclass(frozen=True, slots=True)
class FetchedLine:
    """A kind of report: the newest day that is loaded, what was fetched last, and what went wrong."""

    title: str
    newest: date | None
    days: str
    state: str
    said: str
    failed: bool


@dataclass(frozen=True, slots=True)
class MarketplaceView:
    """The page. link: None where there is none yet; every: how often, in words; fetching: a job is at it now."""

    link: MarketplaceLink | None
    answer: Answer
    every: str
    lines: Sequence[FetchedLine]
    failed: int
    fetching: Job | None
    manages: bool

    @property
    def moves(self) -> bool:
        """Whether something comes by itself soon, so that the page is to follow it."""
        if self.link is None:
            return False
        soon = self.link.active and self.link.asked_at is None
        return soon or self.fetching is not None or any(each.state == _STATES[OrderState.OPEN] for each in self.lines)


_STATES: Final[Mapping[OrderState, str]] = {
    OrderState.OPEN: "on its way",
    OrderState.LOADED: "loaded",
    OrderState.EMPTY: "nothing in it",
    OrderState.FAILED: "failed",
}


def every_words(minutes: int) -> str:
    """How often reports are fetched."""
    for of, word in ((24 * 60, "day"), (60, "hour"), (1, "minute")):
        if minutes % of == 0:
            count = minutes // of
            return f"every {word}" if count == 1 else f"every {count} {word}s"
    return ""


def page(
    link: MarketplaceLink | None,
    orders: Sequence[ReportOrder],
    spans: Mapping[str, Sequence[Span]],
    job: Job | None,
    now: datetime,
    figures: Figures,
    *,
    manages: bool,
) -> MarketplaceView:
    """The link and what came by it. orders: the newest of each kind."""
    lines = [_line(each, spans) for each in sorted(orders, key=lambda each: list(KINDS).index(each.kind))]
    failed = sum(each.failed for each in lines)
    every = every_words(link.every_minutes) if link else ""
    return MarketplaceView(link, _answer(link, lines, failed, now, figures), every, lines, failed, job, manages)


def _line(order: ReportOrder, spans: Mapping[str, Sequence[Span]]) -> FetchedLine:
    newest = max((span.days.last for span in spans.get(order.kind, [])), default=None)
    first, last = order.window.first, order.window.last
    days = f"{first} to {last}" if first != last else str(last)
    return FetchedLine(
        KINDS[order.kind].title, newest, days, _STATES[order.state], order.said, order.state is OrderState.FAILED
    )


def _answer(
    link: MarketplaceLink | None, lines: Sequence[FetchedLine], failed: int, now: datetime, figures: Figures
) -> Answer:
    if link is None:
        return Answer("No marketplace linked.", "Link one, and its reports come by themselves.")
    if link.said:
        return Answer("The last try failed.", f"{link.said} It is tried again within a minute.")
    if not link.active:
        return Answer("Reports are not fetched.", "Switch the schedule on, or fetch them by hand.")
    if failed:
        return Answer(f"{figures.counted(failed, 'report')} failed.", "See why below, then try them again.")
    if link.asked_at is None:
        return Answer("Not asked yet.", "The first reports come within a minute.")
    ago = max(0, round((now - link.asked_at) / timedelta(minutes=1)))
    asked = "just now" if not ago else f"{figures.counted(ago, 'minute')} ago"
    waits = sum(each.state == _STATES[OrderState.OPEN] for each in lines)
    rest = f"{figures.counted(waits, 'report')} on the way." if waits else "All reports are loaded."
    return Answer(f"Asked {asked}.", rest)
