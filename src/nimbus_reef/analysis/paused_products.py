"""Ad groups in which a product ad was paused lately: their mix changed, so their rows are judged anew."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import timedelta

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.changes import Action, Entity
from nimbus_reef.core.outcome import FIRST_DAYS
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import sendings
from nimbus_reef.store.reading.facts import Facts


def waiting(facts: Facts, selection: Selection) -> Mapping[tuple[str, str], str]:
    """By campaign and ad group, why its targets and search terms wait: until two weeks after the pause are mature."""
    account = selection.account
    newest = facts.newest_day(account.id)
    figures = Figures(account.locale, account.currency)
    found: dict[tuple[str, str], str] = {}
    if newest is None:
        return found
    for done in sendings.carried_out(facts.store, account.id):
        change = done.change
        about = (change.entity, change.field, change.new_value)
        if change.action is not Action.UPDATE or about != (Entity.PRODUCT_AD, "state", "paused"):
            continue
        again = done.earliest + timedelta(days=FIRST_DAYS + account.maturing_days)
        if newest < again - timedelta(days=1):
            paused, anew = figures.day(done.earliest), figures.day(again)
            found[change.campaign, change.ad_group] = f"{change.sku} was paused on {paused}, judged anew from {anew} on"
    return found
