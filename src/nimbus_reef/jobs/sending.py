"""
Changes on their way to a marketplace.

Each step is noted before the next, and each can be done again without harm: what is sent carries a key under which the
marketplace takes it once, and what it answers is asked for by the receipt. So a worker that dies anywhere is followed
by another that goes on.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Final

from nimbus_reef.core.changes import ChangeState
from nimbus_reef.errors import MarketplaceAway, MarketplaceRefused
from nimbus_reef.formats import change_sheet
from nimbus_reef.outside.protocol import Marketplace, Results, RowState
from nimbus_reef.store.people import sendings
from nimbus_reef.store.people.sendings import RowAnswer, Sending
from nimbus_reef.store.record.engine import Store

_ASKED_EVERY: Final = (0.2, 0.3, 0.5, 1.0, 2.0)
_PATIENCE: Final = 300.0
"""Seconds for which one job waits for answers; the next goes on."""


def deliver(store: Store, market: Marketplace, entry: Sending, progress: Callable[[float, str], None]) -> None:
    """Sends what is to be sent, and notes what is answered, until every row is or the time is over."""
    if not sendings.leave(store, entry.id):
        return
    try:
        results = _left(store, market, entry)
        began, tries = time.monotonic(), 0
        while True:
            known = _noted(store, entry, results)
            progress(known / max(1, entry.changes), f"{known:,} of {entry.changes:,} changes answered")
            if results.done or time.monotonic() - began > _PATIENCE:
                return
            time.sleep(_ASKED_EVERY[min(tries, len(_ASKED_EVERY) - 1)])
            tries += 1
            results = market.results(results.receipt)
    except MarketplaceAway as problem:
        sendings.note_trouble(store, entry.id, problem.message)
        raise
    except MarketplaceRefused as problem:
        # Nothing of it was carried out: the marketplace answers no row of what it does not take.
        answers = [RowAnswer(each.change.row, False, "refused", problem.message) for each in _unanswered(store, entry)]
        sendings.note_answers(store, entry.account_id, entry.person_id, entry.id, answers, last=True)


def _left(store: Store, market: Marketplace, entry: Sending) -> Results:
    """Sends a sending, or asks about one that was sent before."""
    if entry.receipt is not None:
        return market.results(entry.receipt)
    changes = [each.change for each in sendings.changes_of(store, entry.id)]
    results = market.send([change_sheet.as_row(each) for each in changes], entry.key)
    sendings.note_receipt(store, entry.id, results.receipt, results.day)
    return results


def _unanswered(store: Store, entry: Sending) -> list[sendings.SentChange]:
    return [each for each in sendings.changes_of(store, entry.id) if each.result is ChangeState.SENT]


def _noted(store: Store, entry: Sending, results: Results) -> int:
    """Notes the rows that are answered; how many of all."""
    answered = [
        RowAnswer(each.row, each.state is RowState.APPLIED, each.code, each.message)
        for each in results.rows
        if each.state is not RowState.PENDING
    ]
    sendings.note_answers(store, entry.account_id, entry.person_id, entry.id, answers=answered, last=results.done)
    return len(answered)
