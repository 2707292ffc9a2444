"""What is wrong with the reports that should come by themselves."""

from __future__ import annotations

from typing import Final

from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.store.loading import report_orders
from nimbus_reef.store.loading.report_orders import OrderState
from nimbus_reef.store.people import marketplace_links
from nimbus_reef.store.record.engine import Store

_MOST: Final = 3


def trouble(store: Store, account_id: int) -> str:
    """In a sentence, why reports do not come; empty where they do, or none are to come."""
    link = marketplace_links.link(store, account_id)
    if link is None:
        return ""
    if link.said:
        return f"Reports do not come: {link.said}"
    failed = [each for each in report_orders.newest(store, account_id) if each.state is OrderState.FAILED]
    if not failed:
        return ""
    names = ", ".join(KINDS[each.kind].title.lower() for each in failed[:_MOST])
    more = f" and {len(failed) - _MOST} more" if len(failed) > _MOST else ""
    return f"These reports could not be fetched: {names}{more}."
