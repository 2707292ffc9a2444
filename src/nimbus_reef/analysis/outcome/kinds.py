"""Kinds of changes that were carried out, by what they promised."""

from __future__ import annotations

from enum import StrEnum

from nimbus_reef.core.changes import Action, Change, Entity, number_of


class OutcomeKind(StrEnum):
    """What a change did, as its sum is called."""

    LOWERED = "Bids lowered"
    RAISED = "Bids raised"
    ADJUSTMENTS = "Placement adjustments"
    BOOSTS = "Bid boosts"
    NEW = "New targets"
    CAMPAIGNS = "New campaigns and ads"
    PAUSES = "Pauses"
    NEGATIVES = "Negatives"
    BUDGETS = "Budgets"
    ADS = "Product ads"
    SETTINGS = "Other settings"
    NAMES = "Names"

    @property
    def stops(self) -> bool:
        """Whether it promised spend that stays away, and not profit."""
        return self in (OutcomeKind.PAUSES, OutcomeKind.NEGATIVES)

    @property
    def of_whole(self) -> bool:
        """Whether it is judged on a whole campaign, ad group or family."""
        return self in (OutcomeKind.BUDGETS, OutcomeKind.ADS, OutcomeKind.SETTINGS)


_CREATED = {
    Entity.TARGET: OutcomeKind.NEW,
    Entity.NEGATIVE: OutcomeKind.NEGATIVES,
    Entity.PRODUCT_AD: OutcomeKind.CAMPAIGNS,
    Entity.CAMPAIGN: OutcomeKind.CAMPAIGNS,
    Entity.BID_BOOST: OutcomeKind.BOOSTS,
    Entity.BUDGET_BOOST: OutcomeKind.BUDGETS,
}


_UPDATED = {
    (Entity.BID_BOOST, "percent"): OutcomeKind.BOOSTS,
    (Entity.CAMPAIGN, "daily_budget"): OutcomeKind.BUDGETS,
    (Entity.BUDGET_BOOST, "percent"): OutcomeKind.BUDGETS,
    (Entity.PRODUCT_AD, "state"): OutcomeKind.ADS,
    (Entity.CAMPAIGN, "name"): OutcomeKind.NAMES,
    (Entity.CAMPAIGN, "portfolio"): OutcomeKind.NAMES,
}


def kind_of(change: Change) -> OutcomeKind:
    """The kind of a change."""
    if change.action is Action.CREATE:
        return _CREATED.get(change.entity, OutcomeKind.SETTINGS)
    about = (change.entity, change.field)
    if about == (Entity.TARGET, "bid"):
        old, new = number_of(change.old_value), number_of(change.new_value)
        return OutcomeKind.LOWERED if old is not None and new is not None and new < old else OutcomeKind.RAISED
    if about == (Entity.TARGET, "state") and change.new_value != "enabled":
        return OutcomeKind.PAUSES
    if about == (Entity.PLACEMENT, "adjustment"):
        return OutcomeKind.ADJUSTMENTS
    return _UPDATED.get(about, OutcomeKind.SETTINGS)
