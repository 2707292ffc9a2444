"""What makes a sending worth a second look: how much of the account it moves, and who else is at work."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from enum import StrEnum

from nimbus_reef.core.changes import Change
from nimbus_reef.core.projection import total
from nimbus_reef.core.promises import Promise, projected
from nimbus_reef.core.windows import per_month


class GuardKind(StrEnum):
    """What is beyond its limit."""

    SPEND = "spend"
    SALES = "sales"
    OTHERS = "others"


@dataclass(frozen=True, slots=True)
class Guard:
    """A limit that a sending is beyond: its share and the limit (fractions), or who else changed the plan lately."""

    kind: GuardKind
    share: float = 0.0
    limit: float = 0.0
    others: tuple[str, ...] = ()


def beyond(
    sent: Sequence[tuple[Change, Promise]],
    month: tuple[float, float],
    limits: tuple[float, float],
    others: Iterable[str] = (),
) -> list[Guard]:
    """
    The limits that a sending is beyond. month: spend and sales of the account in 30 days, in units; limits: the most
    that its spend may change, and that its sales may be touched, as fractions; others: who else changed the plan.
    """
    spend, sales = month
    most_spend, most_sales = limits
    found = []
    moved = abs(total(projected(change, promise) for change, promise in sent).spend.middle)
    if spend > 0 and (share := moved / spend) > most_spend:
        found.append(Guard(GuardKind.SPEND, share, most_spend))
    if sales > 0 and (share := min(1.0, touched_sales([each for _, each in sent]) / sales)) > most_sales:
        found.append(Guard(GuardKind.SALES, share, most_sales))
    if names := tuple(sorted(set(others))):
        found.append(Guard(GuardKind.OTHERS, others=names))
    return found


def touched_sales(promises: Iterable[Promise]) -> float:
    """Sales in 30 days of the rows that changes are measured on, each row once."""
    rows = {(each.view, each.row_id): per_month(each.sales, each.days) for each in promises if each.sales}
    return float(sum(rows.values()))


def needs_second(rows: int, moved: float, most_rows: int, most_spend: float) -> bool:
    """Whether somebody else has to say yes: more rows, or more spend moved in 30 days, than set; 0 sets no limit."""
    return bool((most_rows and rows > most_rows) or (most_spend and moved > most_spend))
