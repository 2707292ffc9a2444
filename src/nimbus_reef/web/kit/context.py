"""What every view is made from: the record, what is looked at, how figures are written, and where links lead."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, fields
from typing import Any

from nimbus_reef.analysis.selection import Selection
from nimbus_reef.core.changes import Change
from nimbus_reef.formats.figures import Figures
from nimbus_reef.store.people import plans
from nimbus_reef.store.people.accounts import Account
from nimbus_reef.store.people.plans import Planned
from nimbus_reef.store.reading.facts import Facts
from nimbus_reef.web.params import Scope


@dataclass(frozen=True, slots=True)
class Context:
    """
    What a view is made from. url: the address of an endpoint, as `flask.url_for` makes it; writes, accounts: whether
    the person who looks may change things, and which accounts that person sees.
    """

    facts: Facts
    scope: Scope
    figures: Figures
    url: Callable[..., str]
    writes: bool = True
    accounts: Sequence[Account] = ()

    @property
    def selection(self) -> Selection:
        """What is asked about."""
        return self.scope.selection

    @property
    def account(self) -> Account:
        """Whose account it is."""
        return self.scope.account

    def days(self, kind: str) -> int:
        """The days of the window that a report holds, from which figures per 30 days are scaled."""
        return self.facts.monthly_days(self.account.id, kind, self.scope.window)

    def planned(self) -> list[Planned]:
        """The plan of the account."""
        return plans.planned(self.facts.store, self.account.id)

    def planned_changes(self) -> list[Change]:
        """The changes in it."""
        return [each.change for each in self.planned()]


def shown(view: Any) -> dict[str, Any]:
    """The fields of a view by name, as its template takes them."""
    return {each.name: getattr(view, each.name) for each in fields(view)}
