"""The frame around every page: the audit line, the scope bar, the plan strip."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Final

from flask import request, url_for

from nimbus_reef.core.evidence import STAKE_DAYS
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.windows import LAST_N_DAYS
from nimbus_reef.jobs import audit, products
from nimbus_reef.jobs.recurring import news_known
from nimbus_reef.store import plans, target_frames
from nimbus_reef.store.accounts import Account
from nimbus_reef.web.figures import Figures
from nimbus_reef.web.params import Scope
from nimbus_reef.web.parts import figures, my_accounts, parts, scope
from nimbus_reef.web.plan.pages import Strip, overlaps, own_shares, strip

AREAS: Final = (
    ("pulse.look", "Pulse"), ("intake.look", "Intake"), ("standing.look", "Standing"),
    ("movement.look", "Movement"), ("targeting.home", "Targeting"),
    ("findings.look", "Findings"), ("plan.look", "Plan"),
)  # fmt: skip
"""The areas that there are, in the order of the audit."""
_FOUND_THERE: Final = {
    "Standing": (products.BOTTOM.key,), "Movement": (products.LEAKING.key, products.NOT_WORTH.key),
}  # fmt: skip
"""Findings whose own money stands beside an area that is not Targeting."""


@dataclass(frozen=True, slots=True)
class Stop:
    """One area on the audit line; stake and count are empty where there is nothing to say; news: new since the last audit."""

    title: str
    href: str
    here: bool
    stake: str
    count: str
    news: int = 0


class Frame:
    """
    Worked out part by part when the template asks, so that a partial or an error page
    pays for nothing it does not show.
    """

    windows = LAST_N_DAYS

    @property
    def scope(self) -> Scope:
        """What is looked at."""
        return scope()

    @property
    def figures(self) -> Figures:
        """Writes figures for the account in scope."""
        return figures()

    @property
    def accounts(self) -> list[Account]:
        """The accounts to choose from."""
        return my_accounts()

    @cached_property
    def strip(self) -> Strip:
        """The waiting changes together."""
        what = self.scope
        facts, account = parts().facts, what.account
        now = (facts.generation(account.id), plans.generation(facts.store, account.id))
        key = ("strip", account.id, *now, what.window, self.figures)

        def make() -> Strip:
            planned = plans.planned(facts.store, account.id)
            month = self._month() if planned else (0.0, 0.0)
            shared = what.newest is not None and overlaps(planned)
            own = (
                own_shares(planned, target_frames.term_shares(facts, account.id, what.window))
                if shared
                else {}
            )
            return strip(planned, month, self.figures, own)

        return facts.cache.get(key, make)

    def _month(self) -> tuple[float, float]:
        """Spend and sales of all targets in scope per 30 days, in units."""
        what, facts = self.scope, parts().facts
        if what.newest is None:
            return 0.0, 0.0
        source = facts.held(what.account.id, what.window).kind
        days = facts.by_day(what.account.id, source, what.window, ("spend", "sales"))
        spend, sales = (from_micro(int(days[name].sum())) for name in ("spend", "sales"))
        monthly = STAKE_DAYS / what.window.days
        return spend * monthly, sales * monthly

    @cached_property
    def _targets_stake(self) -> int | None:
        what = self.scope
        return audit.stake_known(parts().facts, what.account, what.window, what.aims)

    @property
    def rail_pending(self) -> bool:
        """Whether the rail lacks what it would have to work out; it is asked for after the page."""
        return self.scope.newest is not None and self._targets_stake is None

    def _stake(self, title: str) -> float:
        """Units a month at stake in an area, as far as is known without working it out for the rail."""
        if self.scope.newest is None:
            return 0.0
        if title == "Targeting":
            return from_micro(self._targets_stake or 0)
        known = self._known
        if known is None:
            return 0.0
        if title == "Findings":
            return from_micro(known.overspend)
        return from_micro(known.stake_of(_FOUND_THERE.get(title, ())))

    @cached_property
    def _known(self) -> audit.Findings | None:
        what = self.scope
        return audit.findings_known(parts().facts, what.account, what.window, what.aims)

    @property
    def area(self) -> str:
        """The area that is looked at; where the rail is fetched alone, the one it was asked for from."""
        if request.endpoint == "bar.rail":
            return request.args.get("area", "")
        return (request.endpoint or "").partition(".")[0]

    @cached_property
    def rail(self) -> list[Stop]:
        """The audit line."""
        here = self.area
        waiting = self.strip.count
        return [
            Stop(
                title=title,
                href=self.scope.elsewhere(url_for(endpoint)),
                here=endpoint.partition(".")[0] == here,
                stake=self.figures.short(stake) if (stake := self._stake(title)) >= 1 else "",
                count=str(waiting) if title == "Plan" and waiting else "",
                news=news_known(parts().facts, self.scope.account) if title == "Findings" else 0,
            )
            for endpoint, title in AREAS
        ]
