"""
What can be changed: one table of (kind of thing, field) says how a value is checked, called and written.

A change is one field of one thing. Values are the text of the open change sheet, so what was accepted, what is written
and what is read back compare as they stand.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from enum import StrEnum
from typing import Final

from nimbus_reef.core.model import PLACEMENTS, MatchType, State, Targeting


class Action(StrEnum):
    """What happens to the thing."""

    UPDATE = "update"
    CREATE = "create"


class Entity(StrEnum):
    """What kind of thing a change touches."""

    CAMPAIGN = "campaign"
    AD_GROUP = "ad_group"
    PRODUCT_AD = "product_ad"
    TARGET = "target"
    NEGATIVE = "negative"
    PLACEMENT = "placement"
    BUDGET_BOOST = "budget_boost"
    BID_BOOST = "bid_boost"


class ChangeState(StrEnum):
    """How far a change is: in the plan, in a sheet that left, done or refused there, or taken out of the plan."""

    PLANNED = "planned"
    SENT = "sent"
    DONE = "done"
    FAILED = "failed"
    TAKEN_BACK = "taken back"


@dataclass(frozen=True, slots=True)
class Change:
    """
    One row of the change sheet. `row` is its number there, kept for as long as it is planned. package: the row of the
    first of the changes it was proposed with, which are planned and taken out together; 0 for one that stands alone.
    parent: the row of the change that makes what this one belongs to (an ad group its campaign, a target its ad group);
    0 for one that stands for itself.
    """

    row: int
    action: Action
    entity: Entity
    campaign: str
    field: str
    new_value: str
    old_value: str = ""
    ad_group: str = ""
    target: str = ""
    match_type: str = ""
    sku: str = ""
    placement: str = ""
    days: str = ""
    from_hour: str = ""
    to_hour: str = ""
    reason: str = ""
    finding: str = ""
    package: int = 0
    parent: int = 0


SHEET_COLUMNS: Final = (
    "row",
    "action",
    "entity",
    "campaign",
    "ad_group",
    "target",
    "match_type",
    "sku",
    "placement",
    "days",
    "from_hour",
    "to_hour",
    "field",
    "old_value",
    "new_value",
    "reason",
    "finding",
)
"""The columns of the change sheet, in their order."""
KEY_FIELDS: Final = SHEET_COLUMNS[SHEET_COLUMNS.index("action") : SHEET_COLUMNS.index("old_value")]


class ValueKind(StrEnum):
    """What the values of a field are."""

    AMOUNT = "amount"
    PERCENT = "percent"
    STATE = "state"
    BIDDING = "bidding"
    YES_NO = "yes or no"
    TARGETING = "targeting"
    TEXT = "text"

    @property
    def is_number(self) -> bool:
        """True for what a workbook holds as a number."""
        return self in (ValueKind.AMOUNT, ValueKind.PERCENT)


@dataclass(frozen=True, slots=True)
class Kind:
    """
    One field of one kind of thing. word: what the change is called on the Plan; what, where: the fields of a change
    that name the thing, and where it stands; editable: its value may be chosen by hand.
    """

    word: str
    holds: ValueKind
    what: tuple[str, ...]
    where: tuple[str, ...] = ()
    editable: bool = False


_TARGET: Final = ("match_type", "ad_group")
_BOOSTED: Final = ("days", "from_hour", "to_hour")
KINDS: Final[Mapping[tuple[Entity, str], Kind]] = {
    (Entity.CAMPAIGN, "state"): Kind("state", ValueKind.STATE, ("campaign",)),
    (Entity.CAMPAIGN, "daily_budget"): Kind("daily budget", ValueKind.AMOUNT, ("campaign",), editable=True),
    (Entity.CAMPAIGN, "bidding"): Kind("bidding", ValueKind.BIDDING, ("campaign",)),
    (Entity.CAMPAIGN, "offsite_limited"): Kind("off-site limited", ValueKind.YES_NO, ("campaign",)),
    (Entity.CAMPAIGN, "portfolio"): Kind("portfolio", ValueKind.TEXT, ("campaign",), editable=True),
    (Entity.CAMPAIGN, "name"): Kind("name", ValueKind.TEXT, ("campaign",), editable=True),
    (Entity.CAMPAIGN, "targeting"): Kind("targeting", ValueKind.TARGETING, ("campaign",)),
    (Entity.AD_GROUP, "state"): Kind("state", ValueKind.STATE, ("ad_group",)),
    (Entity.AD_GROUP, "default_bid"): Kind("default bid", ValueKind.AMOUNT, ("ad_group",), editable=True),
    (Entity.PRODUCT_AD, "state"): Kind("product ad", ValueKind.STATE, ("sku",), ("ad_group",)),
    (Entity.TARGET, "bid"): Kind("bid", ValueKind.AMOUNT, ("target",), _TARGET, editable=True),
    (Entity.TARGET, "state"): Kind("state", ValueKind.STATE, ("target",), _TARGET),
    (Entity.NEGATIVE, "state"): Kind("new negative", ValueKind.STATE, ("target",), ("ad_group",)),
    (Entity.PLACEMENT, "adjustment"): Kind("placement", ValueKind.PERCENT, ("placement",), editable=True),
    (Entity.BUDGET_BOOST, "percent"): Kind("budget boost", ValueKind.PERCENT, ("campaign",), _BOOSTED, editable=True),
    (Entity.BID_BOOST, "percent"): Kind("bid boost", ValueKind.PERCENT, ("campaign",), _BOOSTED, editable=True),
}
MOST_PERCENT: Final = 900
MOST_AMOUNT: Final = 1_000_000_000
LONGEST_TEXT: Final = 255
_BIDDING: Final = ("fixed", "down_only", "up_and_down")


def kind_of(change: Change) -> Kind | None:
    """What a change is of; None for a field that things of its kind do not have."""
    return KINDS.get((change.entity, change.field))


def word_of(change: Change) -> str:
    """What kind of change it is, as its column says it."""
    kind = kind_of(change)
    return kind.word if kind else change.field


def named(change: Change) -> tuple[str, str]:
    """What a change is about, and where that stands."""
    kind = kind_of(change)
    if kind is None:
        return change.target or change.campaign, change.ad_group
    what, where = (
        [
            PLACEMENTS.get(change.placement, change.placement)
            if name == "placement"
            else str(getattr(change, name)).replace("_", " ")
            if name == "match_type"
            else str(getattr(change, name))
            for name in names
        ]
        for names in (kind.what, kind.where)
    )
    return " ".join(what), " · ".join(each for each in where if each)


def key(change: Change) -> tuple[str, ...]:
    """What the change is about; two changes of one key contradict each other."""
    return tuple(str(getattr(change, name)) for name in KEY_FIELDS)


def key_digest(change: Change) -> str:
    """The key as a text of 64 characters."""
    return hashlib.sha256("\x1f".join(key(change)).encode()).hexdigest()


def parents(package: Sequence[Change]) -> list[int | None]:
    """
    Of each change of a package the place of the one that makes what it belongs to, None where no other does: what
    stands in an ad group belongs to the row that makes the ad group, that to the first row that makes the campaign.
    """
    campaigns: dict[str, int] = {}
    groups: dict[tuple[str, str], int] = {}
    for place, change in enumerate(package):
        if change.action is Action.CREATE and change.entity is Entity.CAMPAIGN:
            campaigns.setdefault(change.campaign, place)
        if change.action is Action.CREATE and change.entity is Entity.AD_GROUP:
            groups.setdefault((change.campaign, change.ad_group), place)
    found: list[int | None] = []
    for place, change in enumerate(package):
        over = groups.get((change.campaign, change.ad_group), campaigns.get(change.campaign))
        if over == place:
            over = campaigns.get(change.campaign)
        found.append(None if over == place else over)
    return found


def inverse(change: Change) -> Change | None:
    """
    What takes a carried-out change back: the old value, or a stop of what was made; None where nothing does. A campaign
    is made in several rows, of which one stops it.
    """
    plain = replace(change, row=0, action=Action.UPDATE, package=0, parent=0, reason="")
    if change.action is Action.UPDATE:
        if not change.old_value:
            return None
        return replace(plain, old_value=change.new_value, new_value=change.old_value)
    if change.entity in (Entity.BID_BOOST, Entity.BUDGET_BOOST):
        return replace(plain, old_value=change.new_value, new_value="0")
    if change.entity is Entity.CAMPAIGN and change.field != "daily_budget":
        return None
    stopped = State.ARCHIVED if change.entity is Entity.NEGATIVE else State.PAUSED
    return replace(plain, field="state", old_value=State.ENABLED.value, new_value=stopped.value)


def value_problem(change: Change) -> str | None:
    """Why the new value cannot stand, or None when it can."""
    value, kind = change.new_value, kind_of(change)
    if not value:
        return "is empty; delete the row to take the change out of the plan"
    if kind is None:
        return f"is of “{change.field}”, which a {change.entity.replace('_', ' ')} does not have"
    if wrong := _CHECKS[kind.holds](value):
        return wrong
    if change.entity is Entity.NEGATIVE and change.match_type not in _NEGATIVE:
        return "needs the match type negative_exact, negative_phrase or negative_item"
    return "is what it already was" if change.old_value and value == change.old_value else None


def sound(change: Change) -> bool:
    """
    Whether the new value is one that the field can hold. A planned change that is not is shown as it is and computed
    with nowhere.
    """
    kind = kind_of(change)
    return kind is not None and _CHECKS[kind.holds](change.new_value) is None


_NEGATIVE: Final = frozenset(match.value for match in MatchType if match.negative)


_NUMBER: Final = re.compile(r"-?[0-9]{1,20}(?:\.[0-9]{1,20})?")
"""As the change sheet writes numbers: no exponent, no sign that only a program reads."""


def number_of(text: str) -> Decimal | None:
    """A value that is a number; None for one that is not, or that is written otherwise than the change sheet does."""
    return Decimal(text) if _NUMBER.fullmatch(text) else None


def _amount_problem(value: str) -> str | None:
    amount = number_of(value)
    if amount is None:
        return "is not a number; write it like 0.74"
    if amount <= 0:
        return "must be above 0; to stop it, set the state to paused"
    if amount > MOST_AMOUNT:
        return f"is above {MOST_AMOUNT:,}, the most that a bid or budget can be"
    return "has more than two decimals" if -int(amount.as_tuple().exponent) > 2 else None


def _percent_problem(value: str) -> str | None:
    amount = number_of(value)
    if amount is None or amount != amount.to_integral_value() or not 0 <= amount <= MOST_PERCENT:
        return f"is not a whole number of per cent from 0 to {MOST_PERCENT}"
    return None


def _text_problem(value: str) -> str | None:
    if not value.strip():
        return "is empty"
    return f"has more than {LONGEST_TEXT} characters" if len(value) > LONGEST_TEXT else None


def _one_of(words: Sequence[str], text: str) -> str | None:
    return None if text in words else f"is none of {', '.join(words)}"


_CHECKS: Final[Mapping[ValueKind, Callable[[str], str | None]]] = {
    ValueKind.AMOUNT: _amount_problem,
    ValueKind.PERCENT: _percent_problem,
    ValueKind.STATE: lambda value: _one_of(tuple(State), value),
    ValueKind.BIDDING: lambda value: _one_of(_BIDDING, value),
    ValueKind.YES_NO: lambda value: _one_of(("yes", "no"), value),
    ValueKind.TARGETING: lambda value: _one_of(tuple(Targeting), value),
    ValueKind.TEXT: _text_problem,
}
