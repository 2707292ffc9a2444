"""Where things of each kind are shown, by the view whose rows they are."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from nimbus_reef.web.kit.context import Context

OPENED: Final[Mapping[str, tuple[str, str]]] = {
    **dict.fromkeys(("targets", "terms", "words", "campaigns", "ad-groups"), ("targeting.table", "open")),
    **dict.fromkeys(("families", "ads", "gaps", "listings", "duplicates", "structure"), ("catalog.view", "open")),
    **dict.fromkeys(("names", "catch-all"), ("catalog.view", "")),
    "products": ("standing.view", "open"),
    "phrases": ("reach.view", "open"),
    **dict.fromkeys(("ranks", "rival-ads"), ("reach.view", "open")),
    **dict.fromkeys(("top-of-search", "small-shares", "coverage", "own-against-own"), ("reach.view", "")),
    "placements": ("delivery.view", "open"),
    "budgets": ("delivery.view", ""),
    "boosts": ("delivery.view", "whose"),
}
"""Endpoint, and what of the address says which row."""
KINDS_OF_ROWS: Final[Mapping[str, str]] = {
    "targets": "target",
    "terms": "search term",
    "words": "word",
    "campaigns": "campaign",
    "ad-groups": "ad group",
    "families": "family",
    "ads": "product ad",
    "gaps": "product without ads",
    "listings": "listing",
    "duplicates": "duplicate keyword",
    "products": "product",
    "phrases": "new phrase",
    "ranks": "phrase",
    "rival-ads": "phrase",
    "top-of-search": "target",
    "small-shares": "search term",
    "coverage": "product",
    "own-against-own": "phrase",
    "placements": "placement",
}
"""What a row of a view is called."""


def path(ask: Context, view: str) -> str:
    """The path of a view."""
    return ask.url(OPENED[view][0], name=view)


def address(ask: Context, view: str, row_id: str) -> str:
    """Where a row is open; empty where its view is none any more."""
    if view not in OPENED:
        return ""
    key = OPENED[view][1]
    return ask.scope.elsewhere(path(ask, view), **({key: row_id} if key else {}))
