"""Where the rows of a check open, and where they are accepted."""

from __future__ import annotations

from dataclasses import dataclass

from nimbus_reef.analysis.judged_proposals import FILED_AS
from nimbus_reef.core.checks import Check


@dataclass(frozen=True, slots=True)
class Opens:
    """
    Where rows of a check open: endpoint and view of their table, the drawer's endpoint (empty: the table itself is
    opened), the one that accepts many (empty where nothing can be accepted); key: what of the address says which row.
    """

    table: str
    view: str
    drawer: str = ""
    accepts: str = ""
    key: str = "open"


def opens(check: Check) -> Opens:
    """Where the rows of a check open: in its view, or what their campaign holds where it has none."""
    if not check.view:
        return Opens("targeting.home", "", key="campaign")
    if check.subject in FILED_AS:
        return Opens("targeting.table", check.view, "targeting.evidence_on", "targeting.accept_many")
    area = (check.opens_in or check.area).value
    drawer = f"{area}.evidence" if check.drawer else ""
    accepts = f"{area}.accept_many" if check.accepts else ""
    return Opens(f"{area}.view", check.view, drawer, accepts, key="open" if check.drawer else "")
