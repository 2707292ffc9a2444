"""Whether what a look is narrowed to is there, and what it may have been meant to be."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from rapidfuzz import fuzz, process

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.store.people import labels
from nimbus_reef.store.reading import product_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

_NEAR: Final = 3
_LEAST_ALIKE: Final = 55


@dataclass(frozen=True, slots=True)
class Unknown:
    """A name that nothing of its kind has: one of PARTS; near: the most alike, best first."""

    kind: str
    name: str
    near: tuple[str, ...]


PARTS: Final = ("portfolio", "category", "label", "product", "campaign")
"""What a look is narrowed to by name."""


def names(facts: Facts, selection: Selection, kind: str) -> list[str]:
    """Every portfolio, category, label, product (SKU) or campaign by name, in order."""
    if kind == "label":
        return labels.of_account(facts.store, selection.account.id).names
    if kind == "category":
        column = product_frames.catalog(facts, selection.account.id)["category"]
        return sorted({str(each) for each in column.drop_nulls()})
    if kind == "product":
        return sorted(product_frames.skus(facts, selection.account.id)["sku"].to_list())
    column = setting_frames.campaign_settings(facts, selection.account.id, selection.window)[kind]
    return sorted({str(each) for each in column.drop_nulls()})


def unknown(facts: Facts, selection: Selection) -> Unknown | None:
    """The first part of a look that is not there; None where all are, or none of the kind is known at all."""
    part = selection.part
    for kind in PARTS:
        name = getattr(part, kind)
        known = names(facts, selection, kind) if name else []
        if known and name not in known:
            found = process.extract(name, known, scorer=fuzz.WRatio, limit=_NEAR, score_cutoff=_LEAST_ALIKE)
            return Unknown(kind, name, tuple(each[0] for each in found))
    return None
