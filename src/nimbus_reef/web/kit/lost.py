"""Losses of product pages in words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Final

_NAMES: Final[Mapping[str, str]] = {
    "eligible": "ineligible for ads",
    "in_stock": "out of stock",
    "main_offer": "another seller’s offer is shown first",
    "rich_content": "rich content gone",
    "brand_section": "brand section gone",
}
_COUNTED: Final[Mapping[str, str]] = {"images": "pictures", "bullets": "bullets", "rating": "rating"}


def lost_words(lost: Sequence[Mapping[str, str]]) -> str:
    """Losses of a page, most severe first; each: field, old, new."""
    return ", ".join(_words(each) for each in lost)


def _words(each: Mapping[str, str]) -> str:
    field = each["field"]
    if field == "title":
        return f"title without “{each['old']}”"
    if field in _COUNTED:
        return f"{_COUNTED[field]} {each['old']} → {each['new']}"
    return _NAMES[field]
