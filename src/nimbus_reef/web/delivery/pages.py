"""The views of Delivery."""

from __future__ import annotations

from typing import Final

VIEWS: Final = {"placements": "Placements", "hours": "Hours", "budgets": "Budgets", "boosts": "Boosts"}
