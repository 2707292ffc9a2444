"""The register of areas, in the order of the audit: what the rail, the frame, errors and the factory know of each."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Final

from flask import Blueprint

from nimbus_reef.analysis.findings import SOURCES
from nimbus_reef.analysis.reach.market import SOURCES as MARKET_SOURCES
from nimbus_reef.core.checks import AreaKey
from nimbus_reef.store.reading.facts import TARGET_SOURCES, TOTAL_SOURCES
from nimbus_reef.web.catalog.routes import VIEWS as CATALOG_VIEWS
from nimbus_reef.web.catalog.routes import catalog
from nimbus_reef.web.delivery.routes import VIEWS as DELIVERY_VIEWS
from nimbus_reef.web.delivery.routes import delivery
from nimbus_reef.web.findings.routes import findings
from nimbus_reef.web.intake.routes import intake
from nimbus_reef.web.kit.views import AreaView
from nimbus_reef.web.movement.routes import VIEWS as MOVEMENT_VIEWS
from nimbus_reef.web.movement.routes import movement
from nimbus_reef.web.outcome.routes import VIEWS as OUTCOME_VIEWS
from nimbus_reef.web.outcome.routes import outcome
from nimbus_reef.web.plan.routes import plan
from nimbus_reef.web.pulse.routes import pulse
from nimbus_reef.web.reach.routes import VIEWS as REACH_VIEWS
from nimbus_reef.web.reach.routes import reach
from nimbus_reef.web.standing.routes import VIEWS as STANDING_VIEWS
from nimbus_reef.web.standing.routes import standing
from nimbus_reef.web.targeting.routes import TABS as TARGETING_VIEWS
from nimbus_reef.web.targeting.routes import targeting


@dataclass(frozen=True, slots=True)
class Area:
    """
    An area. blueprint: its name is the area's in URLs, folders and templates; home: the endpoint that it opens on.

    sources: reports that its figures come from. found: where findings of their own money stand beside it; stake: what
    the figure beside it in the rail is. views: its views by name. most: where that figure is the most
    that one kind of finding has at stake; wins: where it is the sales that could be won.
    """

    blueprint: Blueprint
    title: str
    home: str
    sources: tuple[str, ...] = ()
    found: AreaKey | None = None
    stake: str = ""
    views: Mapping[str, Any] = field(default_factory=dict)
    most: AreaKey | None = None
    wins: AreaKey | None = None

    @property
    def name(self) -> str:
        """The area's name."""
        return str(self.blueprint.name)

    @property
    def heads(self) -> Mapping[str, Any]:
        """What the head of its pages shows of each view: the title, or the view where its head says more."""
        return {name: each.title if isinstance(each, AreaView) else each for name, each in self.views.items()}

    @property
    def tables(self) -> Mapping[str, str]:
        """The titles of the views that leave as files."""
        return {name: each.title for name, each in self.views.items() if not isinstance(each, AreaView) or each.leaves}


AREAS: Final = (
    Area(pulse, "Pulse", "pulse.index", TOTAL_SOURCES),
    Area(intake, "Intake", "intake.index"),
    Area(
        standing,
        "Standing",
        "standing.index",
        (*TOTAL_SOURCES, "product_sales_daily"),
        AreaKey.STANDING,
        "what metrics in the bottom quarter of the category cost",
        STANDING_VIEWS,
    ),
    Area(
        movement,
        "Movement",
        "movement.index",
        TOTAL_SOURCES,
        AreaKey.MOVEMENT,
        "spend up with flat sales, and growth above target",
        MOVEMENT_VIEWS,
    ),
    Area(
        catalog,
        "Catalog",
        "catalog.index",
        (*TOTAL_SOURCES, "product_sales_daily", "listings"),
        None,
        "the largest kind of finding here",
        CATALOG_VIEWS,
        AreaKey.CATALOG,
    ),
    Area(
        delivery,
        "Delivery",
        "delivery.index",
        ("placement_daily", "hourly", "campaign_daily"),
        None,
        "what placements waste above target",
        DELIVERY_VIEWS,
        AreaKey.DELIVERY,
    ),
    Area(
        targeting,
        "Targeting",
        "targeting.home",
        (*TARGET_SOURCES, "product_ad_daily"),
        None,
        "what targets above or likely above target ACOS waste",
        TARGETING_VIEWS,
    ),
    Area(
        reach,
        "Reach",
        "reach.index",
        (*MARKET_SOURCES, *TARGET_SOURCES),
        None,
        "sales missed on phrases that you never bought",
        REACH_VIEWS,
        wins=AreaKey.REACH,
    ),
    Area(
        findings, "Findings", "findings.index", SOURCES, None, "wasted spend above target, the same money counted once"
    ),
    Area(plan, "Plan", "plan.index"),
    Area(outcome, "Outcome", "outcome.index", views=OUTCOME_VIEWS),
)
BY_NAME: Final[Mapping[str, Area]] = {area.name: area for area in AREAS}
