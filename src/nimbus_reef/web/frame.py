"""The frame around every page: the audit line, the scope bar, the plan strip."""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from functools import cached_property

from flask import g, request, session, url_for

from nimbus_reef.analysis import products
from nimbus_reef.analysis.catalog import names
from nimbus_reef.analysis.findings import Findings, findings_known
from nimbus_reef.analysis.judged import stake_known
from nimbus_reef.analysis.recurring import news_known
from nimbus_reef.core.checks import CHECKS, Money
from nimbus_reef.core.model import from_micro
from nimbus_reef.core.windows import NAMED, Window
from nimbus_reef.formats.figures import Figures
from nimbus_reef.formats.kinds import KINDS
from nimbus_reef.jobs.intake import today_of
from nimbus_reef.store.people import closed_audits, notes, saved_views
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.notes import Remark
from nimbus_reef.store.people.saved_views import SavedView
from nimbus_reef.web.areas import AREAS, BY_NAME, Area
from nimbus_reef.web.current import away_from, current_scope, figures, here_path, my_accounts, person, services
from nimbus_reef.web.kit.lacking import widened
from nimbus_reef.web.kit.planned import PlanStrip, account_strip
from nimbus_reef.web.params import Scope

_MOST_VALUES = 30


@dataclass(frozen=True, slots=True)
class Stop:
    """
    One area on the audit line; stake and count are empty where there is nothing to say. stake_is: what the stake is, in
    words; wins: whether it is sales to be won; news: new since the last audit; gone: looked at since the last audit or
    load.
    """

    name: str
    title: str
    href: str
    here: bool
    stake: str
    stake_is: str
    wins: bool
    count: str
    news: int = 0
    gone: bool = False


def _as_text(window: Window) -> str:
    return f"{window.first}..{window.last}"


class Frame:
    """
    Worked out part by part when the template asks, so that a partial or an error page
    pays for nothing it does not show.
    """

    windows = NAMED

    @property
    def scope(self) -> Scope:
        """What is looked at."""
        return current_scope()

    @property
    def here(self) -> str:
        """Where the scope bar's links lead: this page, or the start where there is none to come back to."""
        return url_for("start") if g.get("erring") or request.method != "GET" else here_path()

    @cached_property
    def cuts(self) -> list[tuple[str, str]]:
        """Sums left out of this area's figures since the window holds only a part: words, and the wider address."""
        here = BY_NAME.get(self.area)
        scope, kinds = self.scope, here.sources if here else ()
        if scope.newest is None or not kinds:
            return []
        found: dict[Window, list[str]] = {}
        for kind, blocks in services().facts.cut(scope.account.id, scope.window).items():
            for block in blocks if kind in kinds else ():
                found.setdefault(block, []).append(KINDS[kind].title)
        return [
            (
                (
                    f"{', '.join(titles)}: the total of {self.figures.days(block)} is left out. This period covers"
                    " only part of it."
                ),
                scope.link(self.here, window_text=_as_text(widened(scope.window, block)), page=1),
            )
            for block, titles in found.items()
        ]

    @cached_property
    def told_elsewhere(self) -> tuple[str, str] | None:
        """What the rail shows beside an area whose findings have money of their own, in words, and where they stand."""
        here = BY_NAME.get(self.area)
        if here is None or (here.found is None and here.most is None) or (stake := self._stake(here)) < 1:
            return None
        if here.most is not None:
            return (
                f"{self.figures.money(stake)} per 30 days: {here.stake}.",
                self.scope.elsewhere(url_for("findings.index")),
            )
        text = " and ".join(
            f"{check.title[0].lower()}{check.title[1:]}"
            for check in CHECKS.values()
            if check.area is here.found and check.money is Money.OWN
        )
        return (f"{self.figures.money(stake)} per 30 days: {text}.", self.scope.elsewhere(url_for("findings.index")))

    @cached_property
    def whole_groups(self) -> str:
        """Says what a product's part means where rows are targets: the whole ad groups that advertise it."""
        scope, facts = self.scope, services().facts
        if not scope.product or scope.newest is None or self.area not in ("targeting", "findings"):
            return ""
        own = self.figures.micro(products.spend(facts, scope.selection, scope.product))
        return (
            f"These targets and search terms belong to all products of the ad groups that advertise {scope.product}. "
            f"{scope.product} itself spent {own} in this period."
        )

    @property
    def whole_campaigns(self) -> str:
        """Says what a product's part means where reports know no products: the whole campaigns that advertise it."""
        scope = self.scope
        if not scope.product or scope.newest is None or self.area != "delivery":
            return ""
        return (
            f"These are whole campaigns that advertise {scope.product}. Placement, hour and budget reports do not split"
            " by product."
        )

    @cached_property
    def part_held(self) -> str:
        """Says when the area's figures are of fewer days than the window."""
        scope, facts = self.scope, services().facts
        if scope.newest is None or self.area not in ("targeting", "findings"):
            return ""
        result = facts.target_source(scope.account.id, scope.window)
        if not 0 < result.days < result.of:
            return ""
        return (
            f"{KINDS[result.kind].title} cover {result.days} of {result.of} days. Figures per 30 days are scaled"
            " from these."
        )

    def notes(self, view: str, row_id: str) -> list[Remark]:
        """The notes on a row of a view, newest first."""
        return notes.of_account(services().store, self.scope.account.id, view, row_id)

    @cached_property
    def saved_views(self) -> list[SavedView]:
        """The views that are kept of this page's table: one's own, and those shared with the brand's people."""
        return saved_views.views(services().store, person().id, request.path, self.scope.account.brand_id)

    @property
    def figures(self) -> Figures:
        """Writes figures for the account in scope."""
        return figures()

    @property
    def accounts(self) -> list[Account]:
        """The accounts to choose from."""
        return my_accounts()

    @cached_property
    def strip(self) -> PlanStrip:
        """The waiting changes together."""
        return account_strip(services().facts, self.scope, self.figures)

    @cached_property
    def _targets_stake(self) -> int | None:
        scope = self.scope
        return stake_known(services().facts, scope.selection)

    @property
    def rail_pending(self) -> bool:
        """Whether the rail lacks what it would have to work out; it is asked for after the page."""
        return self.scope.newest is not None and self._targets_stake is None

    def _stake(self, area: Area) -> float:
        """Units per 30 days at stake in an area, as far as is known without working it out for the rail."""
        if self.scope.newest is None:
            return 0.0
        if area.name == "targeting":
            return from_micro(self._targets_stake or 0)
        known = self._known
        if known is None:
            return 0.0
        if area.wins is not None:
            return from_micro(known.missed_in(area.wins))
        if area.most is not None:
            return from_micro(known.at_stake(area.most))
        if area.found is not None:
            return from_micro(sum(group.stake for group in known.of_area(area.found)))
        return from_micro(known.overspend) if area.name == "findings" else 0.0

    @cached_property
    def _known(self) -> Findings | None:
        scope = self.scope
        away = away_from(scope.account.id)
        return findings_known(services().facts, scope.selection, away, today_of(scope.account))

    @cached_property
    def name_parts(self) -> list[str]:
        """What campaigns are called in parts of their names, as `part:value`, the most frequent of each part first."""
        if self.scope.newest is None:
            return []
        parsed = names.parsed(services().facts, self.scope.selection)
        if parsed is None:
            return []
        return [f"{part}:{value}" for part, values in parsed.counts.items() for value, _ in values[:_MOST_VALUES]]

    @cached_property
    def gone_through(self) -> frozenset[str]:
        """Areas of the account in scope that this person looked at since it was last loaded, or its audit closed."""
        gone = session.get("gone", {})
        return frozenset(gone.get("areas", ())) if gone.get("of") == self._audit_now else frozenset()

    @cached_property
    def _audit_now(self) -> str:
        """Changes whenever something is loaded into the account, or its audit is closed."""
        scope = self.scope
        closed = closed_audits.newest_id(services().store, scope.account.id)
        return (
            f"{scope.account.id}.{zlib.crc32(repr(services().facts.generation(scope.account.id)).encode()):x}.{closed}"
        )

    def _went_through(self) -> None:
        """Notes that the area in hand was looked at."""
        if self.area in BY_NAME and self.area not in self.gone_through:
            session["gone"] = {"of": self._audit_now, "areas": sorted({*self.gone_through, self.area})}

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
        stops = [
            Stop(
                name=area.name,
                title=area.title,
                href=self.scope.elsewhere(url_for(area.home)),
                here=area.name == here,
                stake=self.figures.short(stake) if (stake := self._stake(area)) >= 1 else "",
                stake_is=area.stake,
                wins=area.wins is not None,
                count=str(waiting) if area.name == "plan" and waiting else "",
                gone=area.name in self.gone_through,
                news=news_known(services().facts, self.scope.account) if area.name == "findings" else 0,
            )
            for area in AREAS
        ]
        if request.method == "GET" and not g.get("erring") and request.endpoint != "bar.rail":
            self._went_through()
        return stops
