"""The catch-all as its page shows it: what it would hold, at which bid, and what that is likely to bring."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from werkzeug.datastructures import MultiDict

from nimbus_reef.analysis.acceptance import InPlan, made_in_plan
from nimbus_reef.analysis.catalog import catch_all
from nimbus_reef.analysis.catalog.catch_all import CatchAll
from nimbus_reef.analysis.wording import Worded, worded
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.catalog.forms import CatchAllForm
from nimbus_reef.web.kit.answers import Answer
from nimbus_reef.web.kit.context import Context

SHOWN = 12


@dataclass(frozen=True, slots=True)
class CatchAllView:
    """The catch-all; skus: SKU and title of the first of its products, and how many more."""

    campaign: CatchAll
    answer: Answer
    worded: Worded
    planned: InPlan
    bid: str
    budget: str
    skus: list[Any]
    skus_more: int


def page(ask: Context) -> CatchAllView:
    """The view."""
    given = {"bid": "bid", "budget": "budget", "without": "without", "name": "what"}
    result = built(ask, {name: ask.scope.own_value(param) for name, param in given.items()})
    proposal = catch_all.proposal(ask.facts, ask.selection, result)
    return CatchAllView(
        result,
        answer(result, ask.figures),
        worded(proposal, ask.figures),
        made_in_plan(ask.planned(), proposal),
        ask.figures.number(result.bid),
        ask.figures.number(result.budget),
        result.products.head(SHOWN).rows(),
        max(0, len(result.products) - SHOWN),
    )


def answer(campaign: CatchAll, figures: Figures) -> Answer:
    """What the catch-all is likely to bring at its bid."""
    bold, found = "Effect unknown: the account has no clicks this cheap.", campaign.expected
    if found:
        bold = (
            f"At {figures.money(campaign.bid, 2)} a click: about {figures.count(found.clicks)} clicks,"
            f" {figures.count(found.orders)} orders a month, ACOS {figures.rate(found.acos, 0)}."
        )
    rest = "One automatic campaign with a low bid finds searches nobody bids on, for every eligible product."
    if campaign.fits_at:
        rest += f" It stays within target up to {figures.money(campaign.fits_at, 2)}."
    return Answer(bold, rest)


def built(ask: Context, given: Mapping[str, str]) -> CatchAll:
    """The catch-all as the form asks for it; BadInput for what it cannot be."""
    form = CatchAllForm(MultiDict(given), ask.account.locale).checked()
    without = [sku for sku in (form.without.data or "").replace(",", " ").split() if sku]
    return catch_all.built(
        ask.facts,
        ask.selection,
        bid=float(form.bid.data) if form.bid.data is not None else None,
        budget=float(form.budget.data) if form.budget.data is not None else None,
        without=without,
        name=form.name.data or f"{ask.account.brand} · catch-all · auto",
    )
