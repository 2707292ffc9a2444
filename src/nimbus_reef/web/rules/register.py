"""The lists whose rows are acted on by hand or by rules, by their views."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Final

from nimbus_reef.errors import NotFound
from nimbus_reef.web.catalog.routes import VIEWS as CATALOG
from nimbus_reef.web.delivery.routes import VIEWS as DELIVERY
from nimbus_reef.web.kit.actions import RowActions
from nimbus_reef.web.kit.lists import ListSpec
from nimbus_reef.web.targeting.routes import LISTS as TARGETING

_EVERY: Final = (*TARGETING.values(), *(view.rows for views in (CATALOG, DELIVERY) for view in views.values()))
LISTS: Final[Mapping[str, ListSpec]] = {each.view: each for each in _EVERY if each is not None and each.actions}
TITLES: Final[Mapping[str, str]] = {
    "campaigns": "Campaigns",
    "ad-groups": "Ad groups",
    "targets": "Targets",
    "terms": "Search terms",
    "families": "Families",
    "ads": "Product ads",
    "placements": "Placements",
}


def acted(view: str) -> tuple[ListSpec, RowActions]:
    """A list and what is done to its rows; NotFound where nothing is."""
    spec = LISTS.get(view)
    if spec is None or spec.actions is None:
        raise NotFound(f"There are no actions on “{view}”.", remedy=f"Choose {', '.join(LISTS)}.")
    return spec, spec.actions
