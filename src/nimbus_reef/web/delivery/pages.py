"""The views of Delivery."""

from __future__ import annotations

from typing import Final

VIEWS: Final = {"placements": "Placements", "hours": "Hours", "budgets": "Budgets", "boosts": "Boosts"}
WEEKDAYS: Final = {1: "Mon", 2: "Tue", 3: "Wed", 4: "Thu", 5: "Fri", 6: "Sat", 7: "Sun"}
