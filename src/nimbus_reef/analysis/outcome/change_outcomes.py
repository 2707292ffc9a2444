"""What came of carried-out changes, as verdicts and pages hold it."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import date

from nimbus_reef.analysis.outcome.kinds import OutcomeKind
from nimbus_reef.core import change_periods
from nimbus_reef.core.change_periods import NoVerdict
from nimbus_reef.core.changes import Change
from nimbus_reef.core.control import Control
from nimbus_reef.core.outcome import ClickWorth, OutcomeVerdict, PriceOutcome, Sides, SumPart
from nimbus_reef.core.profit_outcome import ProfitOutcome, WholeFigures
from nimbus_reef.core.response import ClickResponse
from nimbus_reef.core.stopped_spend import StoppedOutcome, StoppedSides
from nimbus_reef.core.windows import Window
from nimbus_reef.store.people.sendings import CarriedOut


@dataclass(frozen=True, slots=True)
class ChangeOutcome:
    """
    What came of a change. day: the first on which it held; before, after: the days compared. promised, result, low,
    high: profit a day in units, or spend that stays away a day; unjudged: why there is no verdict (yet); until: the day
    from which on it can likely be told, where it is too early; price, stopped, chance: what the verdict rests on, by
    kind; within: it was held to sales within the target; control, worth: see `core.outcome`; part: what a sum takes;
    kept: the part of its clicks whose searches no negative of the same day took. whole, wholes: what a campaign, an ad
    group or a family left after ads, and its figures before and after; with_row: the row of the change that bears the
    verdict, where another does.
    """

    done: CarriedOut
    kind: OutcomeKind
    verdict: OutcomeVerdict
    day: date | None = None
    before: Window | None = None
    after: Window | None = None
    unjudged: NoVerdict | None = None
    promised: float = 0.0
    result: float | None = None
    low: float | None = None
    high: float | None = None
    until: date | None = None
    price: PriceOutcome | None = None
    stopped: StoppedOutcome | None = None
    chance: float | None = None
    within: bool = False
    sides: Sides | None = None
    stopped_sides: StoppedSides | None = None
    control: Control | None = None
    worth: ClickWorth | None = None
    ratio: float | None = None
    part: SumPart | None = None
    margin_known: bool = True
    kept: float = 1.0
    whole: ProfitOutcome | None = None
    wholes: tuple[WholeFigures, WholeFigures] | None = None
    with_row: int = 0

    @property
    def change(self) -> Change:
        """The change."""
        return self.done.change


@dataclass(frozen=True, slots=True)
class Outcomes:
    """All carried-out changes with what came of them, and how clicks answer bids in the account."""

    entries: tuple[ChangeOutcome, ...]
    response: ClickResponse
    mature: date | None

    def of(self, change_id: int) -> ChangeOutcome | None:
        """The outcome of a change; None where it was not carried out."""
        return next((each for each in self.entries if each.done.id == change_id), None)


def early(bare: ChangeOutcome, why: NoVerdict) -> ChangeOutcome:
    """One that cannot be judged yet, and why."""
    return replace(bare, verdict=OutcomeVerdict.TOO_EARLY, unjudged=why)


def bounded(bare: ChangeOutcome, moved: Iterable[date], first: date, mature: date) -> ChangeOutcome:
    """
    A change with the days before and after it that are compared: between the days on which the same thing was moved
    otherwise, and those that can be compared. With why, where too few are left before it; without an after where too
    few are left since.
    """
    day, others = bare.day, list(moved)
    assert day is not None
    before = change_periods.before(day, max((each for each in others if each < day), default=None), first)
    if before is None:
        return replace(bare, unjudged=NoVerdict.CHANGED_TWICE)
    after = change_periods.after(day, min((each for each in others if each > day), default=None), mature)
    return replace(bare, before=before, after=after)
