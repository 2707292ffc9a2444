"""The views of Catalog."""

from __future__ import annotations

from typing import Final

VIEWS: Final = {
    "families": "Families",
    "ads": "Product ads",
    "eligibility": "Eligibility",
    "gaps": "Gaps",
    "listings": "Listings",
    "structure": "Structure",
    "names": "Names",
    "catch-all": "Catch-all",
}
