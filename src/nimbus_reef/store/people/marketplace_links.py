"""Which marketplace an account is linked to, and what it is signed in to with: encrypted, never shown again."""

from __future__ import annotations

import base64
import hashlib
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from typing import Any, Final
from urllib.parse import urlsplit

from cryptography.fernet import Fernet, InvalidToken
from sqlalchemy import delete, select, update
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.errors import BadInput, NotFound
from nimbus_reef.store.people import trail
from nimbus_reef.store.record.clock import utc_now
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import marketplace_link as table

LEAST_MINUTES, MOST_MINUTES = 1, 7 * 24 * 60
USUAL_MINUTES: Final = 360


@dataclass(frozen=True, slots=True)
class MarketplaceLink:
    """
    An account's link. active: reports are fetched by themselves, every so many minutes; asked_at, today: when it was
    asked last, and what day it was there; said: what went wrong then; simulated: its days pass on request.
    """

    account_id: int
    url: str
    client_id: str
    active: bool
    every_minutes: int
    simulated: bool
    asked_at: datetime | None
    today: date | None
    said: str

    @property
    def due_at(self) -> datetime | None:
        """When reports are fetched next; None where they are not."""
        if not self.active:
            return None
        return datetime.min if self.asked_at is None else self.asked_at + timedelta(minutes=self.every_minutes)


def _link(row: Any) -> MarketplaceLink:
    return MarketplaceLink(
        row.account_id,
        row.url,
        row.client_id,
        bool(row.active),
        row.every_minutes,
        bool(row.simulated),
        row.asked_at,
        row.today,
        row.said,
    )


def _box(key: str) -> Fernet:
    return Fernet(base64.urlsafe_b64encode(hashlib.sha256(key.encode()).digest()))


def save(
    store: Store,
    account_id: int,
    person_id: int | None,
    *,
    url: str,
    client_id: str,
    secret: str,
    key: str,
    every_minutes: int = USUAL_MINUTES,
    active: bool = True,
    simulated: bool = False,
    today: date | None = None,
) -> None:
    """
    Links an account. secret: empty keeps the one before; key: what it is encrypted with; today: the day there that what
    is loaded was told on, where that is known. BadInput for an address that is none, or no secret at all.
    """
    address = urlsplit(url.strip())
    if address.scheme not in ("http", "https") or not address.hostname or address.query or address.fragment:
        raise BadInput(f"“{url}” is not an address.", remedy="Enter one such as https://api.example.com.")
    if address.scheme == "http" and address.hostname not in ("localhost", "127.0.0.1", "::1"):
        raise BadInput(
            "An address outside this machine needs HTTPS: the secret would be readable on the way.",
            remedy="Enter it with https://.",
        )
    if not LEAST_MINUTES <= every_minutes <= MOST_MINUTES:
        raise BadInput(f"{every_minutes} minutes cannot be kept to.", remedy=f"Enter 1 to {MOST_MINUTES}.")
    if not client_id.strip():
        raise BadInput("The client is missing.", remedy="Enter the client that the marketplace gave you.")
    values = {
        "url": url.strip().rstrip("/"),
        "client_id": client_id.strip(),
        "every_minutes": every_minutes,
        "active": active,
        "simulated": simulated,
        "today": today,
        "asked_at": None,
        "said": "",
    }
    if secret:
        values["secret"] = _box(key).encrypt(secret.encode()).decode()

    def work(connection: Any) -> None:
        before = connection.execute(select(table.c.secret).where(table.c.account_id == account_id)).scalar()
        if before is None and not secret:
            raise BadInput("The secret is missing.", remedy="Enter the secret that belongs to the client.")
        all_of_it = {"account_id": account_id, "secret": before, **values}
        connection.execute(insert(table).values(**all_of_it).on_duplicate_key_update(**values))
        detail = {"url": values["url"], "client": values["client_id"], "every minutes": every_minutes}
        trail.write(connection, "marketplace linked", person_id, account_id, detail)

    store.transact(work)


def link(store: Store, account_id: int) -> MarketplaceLink | None:
    """An account's link; None where it has none."""
    with store.read() as connection:
        row = connection.execute(select(table).where(table.c.account_id == account_id)).first()
    return _link(row) if row else None


def links(store: Store) -> list[MarketplaceLink]:
    """The links of all accounts."""
    with store.read() as connection:
        return [_link(row) for row in connection.execute(select(table).order_by(table.c.account_id))]


def secret_of(store: Store, account_id: int, key: str) -> str:
    """What the account is signed in with; BadInput where it was encrypted with another key."""
    with store.read() as connection:
        kept = connection.execute(select(table.c.secret).where(table.c.account_id == account_id)).scalar()
    if kept is None:
        raise NotFound("This account is not linked to a marketplace.", remedy="Link it under Accounts.")
    try:
        return _box(key).decrypt(kept.encode()).decode()
    except InvalidToken:
        raise BadInput(
            "The secret of this marketplace cannot be read: REEF_CREDENTIALS_KEY has changed.",
            remedy="Enter the secret again under Accounts, or set the key back.",
        ) from None


def note(store: Store, account_id: int, today: date, *, simulated: bool) -> None:
    """Notes that the marketplace was asked, and what day it is there."""
    values = {"asked_at": utc_now(), "said": "", "today": today, "simulated": simulated}
    store.execute(update(table).where(table.c.account_id == account_id).values(**values))


def note_trouble(store: Store, account_id: int, said: str) -> None:
    """Notes what went wrong; it is asked again."""
    store.execute(update(table).where(table.c.account_id == account_id).values(said=said[:512]))


def hurry(store: Store, account_id: int) -> None:
    """Has its reports fetched with the next minute."""
    store.execute(update(table).where(table.c.account_id == account_id).values(asked_at=None))


def move(store: Store, account_id: int, url: str) -> None:
    """Another address of the same marketplace."""
    store.execute(update(table).where(table.c.account_id == account_id).values(url=url))


def remove(store: Store, account_id: int, person_id: int | None) -> None:
    """Unlinks an account; its secret is gone."""

    def work(connection: Any) -> None:
        connection.execute(delete(table).where(table.c.account_id == account_id))
        trail.write(connection, "marketplace unlinked", person_id, account_id, {})

    store.transact(work)
