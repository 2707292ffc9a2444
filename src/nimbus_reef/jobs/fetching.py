"""Reports that come by themselves: what is missing is ordered at the marketplace, fetched when it is ready, loaded."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from dataclasses import replace
from datetime import date, timedelta
from pathlib import Path
from typing import Final

import structlog

from nimbus_reef.config import Config
from nimbus_reef.core.fetching import REFETCH, Refetch, wanted
from nimbus_reef.core.windows import Window
from nimbus_reef.errors import MarketplaceAway, MarketplaceRefused, ReefError
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.jobs import intake
from nimbus_reef.outside.protocol import MarketAccountDays, Marketplace, ReportState
from nimbus_reef.store.loading import report_orders
from nimbus_reef.store.loading.report_orders import OrderState, ReportOrder
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.record import loads
from nimbus_reef.store.record.engine import Store

log = structlog.get_logger("jobs")

_ASKED_EVERY: Final = 0.5
_PATIENCE: Final = 60.0
"""Seconds for which one job waits for reports; the next goes on."""

Note = Callable[[float, str], None]


def order_missing(store: Store, account: Account, told: MarketAccountDays, *, new_day: bool) -> int:
    """
    Notes every report that is missing as an order; how many are new. new_day: it is another day there than at the last
    time, so that what matures, and what has no days, is asked for again.
    """
    offered = Window(told.first_day, told.today - timedelta(days=1))
    if offered.first > offered.last:
        return 0
    spans = loads.spans(store, account.id, account.timezone)
    tried = [
        each
        for each in report_orders.of_account(store, account.id, told.first_day)
        if each.state in (OrderState.LOADED, OrderState.EMPTY)
    ]
    asked: list[tuple[str, Window]] = []
    maturing = told.maturing_days if new_day else 0
    for kind in (each for each in told.kinds if each in KINDS):
        if not new_day and REFETCH.get(kind) is Refetch.WHOLE:
            continue
        loaded = {day for span in spans.get(kind, []) for day in _days(span.days)}
        loaded |= {day for each in tried if each.kind == kind for day in _days(each.window)}
        asked += [(kind, window) for window in wanted(kind, loaded, offered, maturing)]
    return report_orders.add(store, account.id, told.today, asked)


def _days(window: Window) -> list[date]:
    return [window.first + timedelta(days=number) for number in range(window.days)]


def fetch(config: Config, store: Store, market: Marketplace, account: Account, note: Note) -> int:
    """Fetches and loads what is ordered, until nothing is left or the time is over; how many reports were loaded."""
    orders = [_ordered(store, market, each) for each in report_orders.waiting(store, account.id)]
    waiting, done, began = [each for each in orders if each is not None], 0, time.monotonic()
    count = max(1, len(waiting))
    while waiting:
        left = []
        for order in waiting:
            note(done / count, f"fetching {KINDS[order.kind].title.lower()}: {done} of {count} reports")
            if _settled(config, store, market, account, order):
                done += 1
            else:
                left.append(order)
        waiting = left
        if waiting and time.monotonic() - began > _PATIENCE:
            break
        if waiting:
            time.sleep(_ASKED_EVERY)
    return done


def _ordered(store: Store, market: Marketplace, order: ReportOrder) -> ReportOrder | None:
    """The order with a handle; None where the marketplace does not make such a report."""
    if order.handle is not None:
        return order
    try:
        handle = market.request(order.kind, order.window.first, order.window.last, order.key)
    except MarketplaceRefused as problem:
        report_orders.note_end(store, order.id, OrderState.FAILED, problem.message)
        return None
    report_orders.note_handle(store, order.id, handle)
    return replace(order, handle=handle)


def _settled(config: Config, store: Store, market: Marketplace, account: Account, order: ReportOrder) -> bool:
    """Loads a report that is ready; whether nothing is left to do for it now."""
    try:
        state = market.report_state(order.handle or "")
        if state is ReportState.WAITING:
            return False
        if state is ReportState.GONE:
            # It was ready and nobody came: it is ordered anew, in the next round.
            report_orders.note_handle(store, order.id, None)
            return True
        _load(config, store, market, account, order)
    except MarketplaceAway as problem:
        report_orders.note_try(store, order, problem.message)
        raise
    except ReefError as problem:
        log.warning("a report could not be loaded", account=account.key, kind=order.kind, why=str(problem))
        report_orders.note_try(store, order, str(problem))
    return True


def _load(config: Config, store: Store, market: Marketplace, account: Account, order: ReportOrder) -> None:
    window = order.window
    name = f"{order.kind} {window.first} to {window.last}.csv"
    config.scratch.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory(dir=config.scratch) as folder:
        file = market.report(order.handle or "", Path(folder) / "report.csv")
        if _is_empty(file.path):
            report_orders.note_end(store, order.id, OrderState.EMPTY)
            return
        kept = intake.keep_file(config.uploads, file.path)
    before = loads.same_file(store, account.id, kept.sha256)
    if before is None or before.loaded_at < order.at:
        intake.take(store, account, kept.path, name, order.kind, today=file.as_of)
    report_orders.note_end(store, order.id, OrderState.LOADED)


def _is_empty(path: Path) -> bool:
    """Whether a report has no row under its header."""
    with path.open("rb") as stream:
        return not stream.readline().strip() or not stream.readline().strip()
