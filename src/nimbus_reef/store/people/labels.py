"""Labels of one's own on products and campaigns: a season, a range, an owner, whatever tells them apart."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Final

from sqlalchemy import Connection, delete, select
from sqlalchemy.dialects.mysql import insert

from nimbus_reef.errors import BadInput
from nimbus_reef.store.people import trail
from nimbus_reef.store.record.engine import Store
from nimbus_reef.store.record.models import label as label_table

PRODUCT: Final = "product"
CAMPAIGN: Final = "campaign"
KINDS: Final = (PRODUCT, CAMPAIGN)
LONGEST: Final = 64
PURPOSES: Final = ("launch", "defence", "test", "harvest")
"""Labels that say what a campaign is for."""


@dataclass(frozen=True, slots=True)
class Labels:
    """The labels of an account: of products by SKU, of campaigns by name, each in order."""

    products: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    campaigns: Mapping[str, tuple[str, ...]] = field(default_factory=dict)

    @property
    def names(self) -> list[str]:
        """Every label there is, in order."""
        return sorted({each for of in (self.products, self.campaigns) for own in of.values() for each in own})

    def with_label(self, name: str) -> tuple[frozenset[str], frozenset[str]]:
        """The products and the campaigns that have a label."""
        products, campaigns = (
            frozenset(each for each, own in of.items() if name in own) for of in (self.products, self.campaigns)
        )
        return products, campaigns


def of_account(store: Store, account_id: int) -> Labels:
    """All labels of an account."""
    with store.read() as connection:
        return kept(connection, account_id)


def kept(connection: Connection, account_id: int) -> Labels:
    """The same on a connection that is open."""
    query = (
        select(label_table.c.kind, label_table.c.name, label_table.c.label)
        .where(label_table.c.account_id == account_id)
        .order_by(label_table.c.label)
    )
    found: dict[str, dict[str, tuple[str, ...]]] = {kind: {} for kind in KINDS}
    for kind, name, text in connection.execute(query):
        found[kind][name] = (*found[kind].get(name, ()), text)
    return Labels(found[PRODUCT], found[CAMPAIGN])


def put(store: Store, account_id: int, person_id: int, wanted: Sequence[tuple[str, str, str]]) -> int:
    """
    Adds labels, given as kind, name and label; those that are there stay. Says how many they are; BadInput for what
    cannot be a label.
    """
    rows = [
        {"account_id": account_id, "kind": kind, "name": name, "label": _checked(text)}
        for kind, name, text in dict.fromkeys(wanted)
    ]
    if not rows:
        return 0

    def work(connection: Connection) -> None:
        added = insert(label_table).values(rows)
        connection.execute(added.on_duplicate_key_update(label=added.inserted.label))
        detail = {"labels": sorted({str(row["label"]) for row in rows}), "things": len({row["name"] for row in rows})}
        trail.write(connection, "labelled", person_id, account_id, detail)

    store.transact(work)
    return len(rows)


def remove(store: Store, account_id: int, person_id: int, things: Sequence[tuple[str, str]], text: str) -> None:
    """Takes a label off things, given as kind and name."""

    def work(connection: Connection) -> None:
        for kind in KINDS:
            names = [name for own, name in things if own == kind]
            if not names:
                continue
            connection.execute(
                delete(label_table).where(
                    label_table.c.account_id == account_id,
                    label_table.c.kind == kind,
                    label_table.c.name.in_(names),
                    label_table.c.label == text,
                )
            )
        detail = {"labels": [text], "things": len(things)}
        trail.write(connection, "labels removed", person_id, account_id, detail)

    store.transact(work)


def _checked(text: str) -> str:
    text = " ".join(text.split())
    if not text or len(text) > LONGEST:
        raise BadInput(f"A label has 1 to {LONGEST} characters.", remedy="Enter a shorter label.")
    return text
