"""What stands beside a proposal of Catalog: negatives in the plan that meet it, and the product's own page."""

from __future__ import annotations

from collections.abc import Collection

from nimbus_reef.core.changes import Entity
from nimbus_reef.core.proposals import Home
from nimbus_reef.web.kit.context import Context


def planned_there(ask: Context, homes: Collection[Home]) -> tuple[str, ...]:
    """Negatives in the plan that fall on the same ad groups: what is shifted meets them."""
    there = [
        each
        for each in ask.planned_changes()
        if each.entity is Entity.NEGATIVE and (each.campaign, each.ad_group) in homes
    ]
    if not there:
        return ()
    falls = "falls" if len(there) == 1 else "fall"
    negatives = ask.figures.counted(len(there), "negative")
    return (f"{negatives} in the plan {falls} on the products that stay. Decide this first.",)


def product_link(ask: Context, name: str, sku: str) -> tuple[str, str]:
    """A product beside its peers: words and address."""
    return f"{name}, beside peers", ask.scope.elsewhere(ask.url("standing.view", name="products"), open=sku)
