"""The marketplaces that accounts are linked to, signed in to: where the protocol meets its client."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime

from nimbus_reef.config import Config
from nimbus_reef.errors import NotFound
from nimbus_reef.outside.http import HttpMarketplace
from nimbus_reef.outside.protocol import Marketplace
from nimbus_reef.store.loading import report_orders
from nimbus_reef.store.people import marketplace_links, sendings
from nimbus_reef.store.record import server
from nimbus_reef.store.record.engine import Store

PATIENT, HURRIED = 60.0, 8.0
"""Seconds that a worker, and that a page, waits for an answer in all."""


def credentials_key(config: Config) -> str:
    """What secrets of marketplaces are encrypted with: from the settings, or made once and kept."""
    return config.credentials_key or server.kept_secret(config.var / "credentials-key")


@contextmanager
def connected(config: Config, store: Store, account_id: int, seconds: float = PATIENT) -> Iterator[Marketplace]:
    """An account's marketplace; NotFound where it is linked to none. seconds: for how long an answer is waited for."""
    link = marketplace_links.link(store, account_id)
    if link is None:
        raise NotFound("This account is not linked to a marketplace.", remedy="Link it under Accounts.")
    secret = marketplace_links.secret_of(store, account_id, credentials_key(config))
    market = HttpMarketplace(link.url, link.client_id, secret, seconds=seconds)
    try:
        yield market
    finally:
        market.close()


def accounts_with_work(store: Store, now: datetime) -> list[int]:
    """The linked accounts that have something to send, reports to fetch, or reports that are due."""
    links = {each.account_id: each for each in marketplace_links.links(store)}
    due = {number for number, each in links.items() if each.due_at is not None and each.due_at <= now}
    sending = {each.account_id for each in sendings.left_open(store)}
    fetching = set(report_orders.accounts_waiting(store))
    return sorted((due | sending | fetching) & set(links))
