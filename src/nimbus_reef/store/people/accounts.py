"""Brand accounts: a brand on one marketplace in one country, with its settings."""

from __future__ import annotations

import itertools
import re
import unicodedata
from collections.abc import Hashable, Mapping
from dataclasses import dataclass
from typing import Final
from zoneinfo import available_timezones

from babel import Locale, UnknownLocaleError
from babel.numbers import is_currency
from sqlalchemy import Connection, insert, select, update
from sqlalchemy.engine import Row

from nimbus_reef.core import naming
from nimbus_reef.core.bids import BidLimits
from nimbus_reef.core.own_limits import OwnLimit
from nimbus_reef.core.settings import USUAL, Settings
from nimbus_reef.core.targeting import ASSUMED_TARGET
from nimbus_reef.errors import BadInput, Conflict
from nimbus_reef.store.people import account_settings, labels, own_limits, trail
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import account, brand


@dataclass(frozen=True, slots=True)
class Account:
    """
    One account; target_acos is a fraction, assumed where target_set is False; days are in its own time zone.

    own_limits: of bids, below its own; purposes: of campaigns by their labels, read where settings ask for them.
    """

    id: int
    key: str
    brand_id: int
    brand: str
    marketplace: str
    country: str
    currency: str
    locale: str
    timezone: str
    target_acos: float
    min_clicks: int
    maturing_days: int
    bid_limits: BidLimits
    naming: str = ""
    settings: Settings = USUAL
    resting: bool = False
    target_set: bool = True
    own_limits: tuple[OwnLimit, ...] = ()
    purposes: tuple[tuple[str, str], ...] = ()

    @property
    def waits(self) -> tuple[Hashable, ...]:
        """What young campaigns are held back by: settings, purposes by hand and by name; nothing where none is."""
        own = self.settings.least_days_of
        return (own, self.purposes, self.naming) if own else ()


_QUERY = select(account, brand.c.name.label("brand")).join(brand, brand.c.id == account.c.brand_id)


def _account(
    connection: Connection, row: Row[tuple[object, ...]], own: Mapping[str, str], limits: tuple[OwnLimit, ...]
) -> Account:
    settings = account_settings.of_row(row, own)
    labelled = labels.kept(connection, row.id).campaigns if settings.least_days_of else {}
    return Account(
        id=row.id,
        key=row.key,
        brand_id=row.brand_id,
        brand=row.brand,
        marketplace=row.marketplace,
        country=row.country,
        currency=row.currency,
        locale=row.locale,
        timezone=row.timezone,
        target_acos=ASSUMED_TARGET if row.target_acos is None else row.target_acos,
        min_clicks=row.min_clicks,
        maturing_days=row.maturing_days,
        bid_limits=settings.bid_limits,
        naming=row.naming,
        settings=settings,
        resting=bool(row.resting),
        target_set=row.target_acos is not None,
        own_limits=limits,
        purposes=tuple((name, text) for name, texts in labelled.items() for text in texts if text in labels.PURPOSES),
    )


def all_accounts(store: Store, *, resting: bool = False) -> list[Account]:
    """Every account, by brand, country and key; resting: also those put to rest."""
    query = _QUERY.order_by(brand.c.name, account.c.country, account.c.key)
    with store.read() as connection:
        rows = connection.execute(query if resting else query.where(~account.c.resting)).all()
        own, limits = account_settings.kept(connection), own_limits.limits(connection)
        return [_account(connection, row, own.get(row.id, {}), limits.get(row.id, ())) for row in rows]


def by_key(store: Store, key: str) -> Account | None:
    """The account of that key."""
    with store.read() as connection:
        row = connection.execute(_QUERY.where(account.c.key == key)).first()
        if row is None:
            return None
        own, limits = account_settings.kept(connection, row.id), own_limits.limits(connection, row.id)
        return _account(connection, row, own.get(row.id, {}), limits.get(row.id, ()))


_KEY: Final = re.compile(r"[a-z0-9][a-z0-9-]{0,62}")


def must_be_good(key: str, country: str, currency: str, locale: str, timezone: str) -> None:
    """BadInput for what no account can have."""
    if not _KEY.fullmatch(key):
        raise BadInput(f"“{key}” is not a valid key.", remedy="Use small letters, digits and -, such as acme-de.")
    if not re.fullmatch(r"[A-Z]{2}", country):
        raise BadInput(f"“{country}” is not a country code.", remedy="Enter two letters such as DE.")
    if not is_currency(currency):
        raise BadInput(f"“{currency}” is not a currency.", remedy="Enter three letters such as EUR.")
    try:
        Locale.parse(locale)
    except (UnknownLocaleError, ValueError):
        raise BadInput(f"“{locale}” is not a locale.", remedy="Enter one such as en_GB or de_DE.") from None
    if timezone not in available_timezones():
        raise BadInput(f"“{timezone}” is not a time zone.", remedy="Enter one such as Europe/Berlin.")


def add(
    store: Store,
    *,
    key: str,
    brand_name: str,
    marketplace: str,
    country: str,
    currency: str,
    locale: str,
    timezone: str,
    target_acos: float | None = None,
    person_id: int | None = None,
) -> Account:
    """
    Makes an account, and its brand when that is new. target_acos: None where it is to be said later. BadInput for what
    no account can have, Conflict where the key is taken.
    """
    must_be_good(key, country, currency, locale, timezone)
    if by_key(store, key) is not None:
        raise Conflict(f"An account “{key}” already exists.", remedy="Choose another key, or use that account.")
    if target_acos is not None and not 0 < target_acos < 5:
        raise BadInput(f"{target_acos} is not a possible target ACOS.", remedy="Enter a fraction such as 0.28.")

    def work(connection: Connection) -> None:
        found = connection.execute(select(brand.c.id).where(brand.c.name == brand_name)).scalar()
        if found is None:
            cursor = connection.execute(insert(brand).values(name=brand_name))
            found = cursor.inserted_primary_key[0]  # type: ignore[index]
        cursor = connection.execute(
            insert(account).values(
                key=key,
                brand_id=found,
                marketplace=marketplace,
                country=country,
                currency=currency,
                locale=locale,
                timezone=timezone,
                target_acos=target_acos,
            )
        )
        trail.write(connection, "account added", person_id, cursor.inserted_primary_key[0], {"key": key})  # type: ignore[index]

    store.transact(work)
    cursor = by_key(store, key)
    assert cursor is not None
    return cursor


def set_naming(store: Store, account_id: int, person_id: int | None, text: str) -> None:
    """Sets how an account's campaigns are called, empty for no pattern; BadInput for what cannot be read."""
    if text and (wrong := naming.pattern_problem(text)):
        raise BadInput(f"The pattern {wrong}.", remedy="Write it like {product} · {purpose} · {match}.")

    def work(connection: Connection) -> None:
        connection.execute(update(account).where(account.c.id == account_id).values(naming=text))
        trail.write(connection, "naming set", person_id, account_id, {"pattern": text})

    store.transact(work)


def rest(store: Store, account_id: int, person_id: int | None, *, resting: bool) -> None:
    """Puts an account to rest, kept but shown nowhere, or wakes it."""

    def work(connection: Connection) -> None:
        connection.execute(update(account).where(account.c.id == account_id).values(resting=resting))
        trail.write(connection, "put to rest" if resting else "woken", person_id, account_id, {})

    store.transact(work)


def describe(store: Store, account_id: int, person_id: int | None, **values: str) -> None:
    """
    How an account is called and how its figures and days are written: any of marketplace, currency, locale, timezone;
    the others stay.

    Raises BadInput for what no account can have.
    """
    must_be_good("x", "XX", values.get("currency", "EUR"), values.get("locale", "en"), values.get("timezone", "UTC"))
    if not values:
        return

    def work(connection: Connection) -> None:
        connection.execute(
            update(account)
            .where(account.c.id == account_id)
            .values(**values, settings_version=account.c.settings_version + 1)
        )
        trail.write(connection, "account described", person_id, account_id, values)

    store.transact(work)


def free_key(store: Store, brand_name: str, country: str) -> str:
    """A key for a new account that nobody has yet: the brand's name and the country."""
    plain = unicodedata.normalize("NFKD", brand_name).encode("ascii", "ignore").decode().lower()
    stem = re.sub(r"[^a-z0-9]+", "-", plain).strip("-")[:50] or "brand"
    taken = {each.key for each in all_accounts(store, resting=True)}
    wanted = f"{stem}-{country.lower()}"
    return next(key for n in itertools.count(1) if (key := wanted if n == 1 else f"{wanted}-{n}") not in taken)
