"""The pulse of one brand account: what it spends and sells, how that moved, what is at stake."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date

import polars as pl

from nimbus_reef.core.metrics import difference
from nimbus_reef.core.windows import Window
from nimbus_reef.jobs import audit
from nimbus_reef.store import aims, loads, plans
from nimbus_reef.store.accounts import Account
from nimbus_reef.store.facts import Facts

_TRADE = "product_sales_daily"


@dataclass(frozen=True, slots=True)
class Sums:
    """Money of one window in micro-units; total_sales null where all trade is not held whole."""

    days: int
    spend: int
    sales: int
    total_sales: int | None

    @property
    def acos(self) -> float | None:
        """Spend ÷ sales."""
        return self.spend / self.sales if self.sales else None

    @property
    def tacos(self) -> float | None:
        """Spend ÷ total sales."""
        return self.spend / self.total_sales if self.total_sales else None


@dataclass(frozen=True, slots=True)
class Beat:
    """
    One account. source: the report its totals come from. days: day, spend, sales of the
    window. overspend: micro-units per 30 days where it is known without working it out.
    """

    account: Account
    newest: date | None
    window: Window | None = None
    source: str | None = None
    days: pl.DataFrame | None = None
    now: Sums | None = None
    then: Sums | None = None
    overspend: int | None = None
    planned: int = 0
    loaded_at: date | None = None

    def moved(self, name: str) -> float | None:
        """Relative change of spend or sales per day; null without a base."""
        if self.now is None or self.then is None:
            return None
        now, then = getattr(self.now, name) / self.now.days, getattr(self.then, name) / self.then.days
        return difference(now, then).relative


def beat(
    facts: Facts, account: Account, window: Window | None, against: Window | None, newest: date | None
) -> Beat:
    """The pulse of an account; little more than its name where nothing is loaded."""
    planned = len(plans.planned(facts.store, account.id))
    batches = loads.batches(facts.store, account.id, limit=1)
    loaded_at = batches[0].loaded_at.date() if batches else None
    if newest is None or window is None:
        return Beat(account, newest, planned=planned, loaded_at=loaded_at)
    windows = [window, *([against] if against else [])]
    source = facts.total_source(account.id, windows)
    if source is None:
        return Beat(account, newest, window, planned=planned, loaded_at=loaded_at)
    return Beat(
        account=account,
        newest=newest,
        window=window,
        source=source,
        days=facts.by_day(account.id, source, window, ("spend", "sales")),
        now=_sums(facts, account, source, window),
        then=_sums(facts, account, source, against) if against else None,
        overspend=audit.overspend_known(facts, account, window, aims.aims(facts.store, account)),
        planned=planned,
        loaded_at=loaded_at,
    )


def _sums(facts: Facts, account: Account, source: str, window: Window) -> Sums:
    ads = facts.by_day(account.id, source, window, ("spend", "sales"))
    trade = facts.by_day(account.id, _TRADE, window, ("total_sales",))
    whole = len(trade) == window.days
    return Sums(
        window.days, int(ads["spend"].sum()), int(ads["sales"].sum()),
        int(trade["total_sales"].sum()) if whole else None,
    )  # fmt: skip
