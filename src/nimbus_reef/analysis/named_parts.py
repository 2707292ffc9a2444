"""Whether what a look is narrowed to is there, and what it may have been meant to be."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Final

from rapidfuzz import fuzz, process

from nimbus_reef.analysis.look import Look
from nimbus_reef.store.reading import product_frames, setting_frames
from nimbus_reef.store.reading.facts import Facts

_NEAR: Final = 3
_LEAST_ALIKE: Final = 55


@dataclass(frozen=True, slots=True)
class Unknown:
    """A name that nothing of its kind has: portfolio, product or campaign; near: the most alike, best first."""

    kind: str
    name: str
    near: tuple[str, ...]


def names(facts: Facts, look: Look, kind: str) -> list[str]:
    """Every portfolio, product (SKU) or campaign by name, in order."""
    if kind == "product":
        return sorted(product_frames.skus(facts, look.account.id)["sku"].to_list())
    column = setting_frames.campaign_settings(facts, look.account.id, look.window)[kind]
    return sorted({str(each) for each in column.drop_nulls()})


def unknown(facts: Facts, look: Look) -> Unknown | None:
    """The first part of a look that is not there; None where all are, or none of the kind is known at all."""
    part = look.part
    for kind, name in (("portfolio", part.portfolio), ("product", part.product), ("campaign", part.campaign)):
        known = names(facts, look, kind) if name else []
        if known and name not in known:
            found = process.extract(name, known, scorer=fuzz.WRatio, limit=_NEAR, score_cutoff=_LEAST_ALIKE)
            return Unknown(kind, name, tuple(each[0] for each in found))
    return None
