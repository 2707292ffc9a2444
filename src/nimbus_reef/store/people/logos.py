"""The picture at the top of a brand's report."""

from __future__ import annotations

import base64
from dataclasses import dataclass
from typing import Final

from sqlalchemy import Connection, delete, select
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import trail
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import logo

LARGEST: Final = 200_000
"""Bytes of a picture."""
_BEGINS: Final = {b"\x89PNG\r\n\x1a\n": "image/png", b"\xff\xd8\xff": "image/jpeg"}


@dataclass(frozen=True, slots=True)
class Logo:
    """A picture with its media type."""

    media: str
    content: bytes

    @property
    def address(self) -> str:
        """The picture itself as an address, so that a saved report holds it."""
        return f"data:{self.media};base64,{base64.b64encode(self.content).decode()}"


def of_account(store: Store, account_id: int) -> Logo | None:
    """The logo of an account; None where it has none."""
    with store.read() as connection:
        row = connection.execute(select(logo).where(logo.c.account_id == account_id)).one_or_none()
        return Logo(row.media, base64.b64decode(row.content)) if row is not None else None


def put(store: Store, account_id: int, person_id: int, content: bytes) -> None:
    """Saves a logo, or removes it where nothing is given; BadInput for what is no picture."""
    media = next((media for begins, media in _BEGINS.items() if content.startswith(begins)), "")
    if content and not media:
        raise BadInput("This file is not a PNG or JPEG picture.", remedy="Save the logo as PNG or JPEG.")
    if len(content) > LARGEST:
        raise BadInput(f"The logo has {len(content) // 1000:,} KB.", remedy=f"Use at most {LARGEST // 1000} KB.")

    def work(connection: Connection) -> None:
        connection.execute(delete(logo).where(logo.c.account_id == account_id))
        if content:
            text = base64.b64encode(content).decode()
            connection.execute(insert(logo).values(account_id=account_id, media=media, content=text))
        trail.write(connection, "logo changed", person_id, account_id, {"bytes": len(content)})

    store.transact(work)
