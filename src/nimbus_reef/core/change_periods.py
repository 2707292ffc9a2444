"""The days before and after a change that are compared: whole weeks, in which nothing else moved the same thing."""

from __future__ import annotations

from datetime import date, timedelta
from enum import StrEnum
from typing import Final

from nimbus_reef.core.windows import Window

MOST_BEFORE, LEAST_BEFORE = 28, 14
MOST_AFTER, LEAST_AFTER = 84, 7
SEEN_WITHIN: Final = 7
"""Days of settings within which a change is to be seen in them."""
OFTEN: Final = 0.25
"""Out of budget or off on more than this part of the days of a side, a change cannot be judged."""


class NoVerdict(StrEnum):
    """Why a change has no verdict, or none yet."""

    NOT_APPLIED = "not applied"
    CHANGED_TWICE = "changed twice"
    FEW_DAYS = "few days"
    OUT_OF_BUDGET = "out of budget"
    OFF = "off"
    OUT_OF_STOCK = "out of stock"
    NO_CLICKS = "no clicks"
    NO_TERMS = "no terms"
    NO_DAYS = "no days"
    PROMISED_NOTHING = "promised nothing"
    WITH_ANOTHER = "with another change"


def before(day: date, previous: date | None, first_loaded: date) -> Window | None:
    """
    The whole weeks that end the day before a change, at most four, from the previous change of the same thing on and
    not before what is loaded; None where they are fewer than two.
    """
    start = max(previous or first_loaded, first_loaded, day - timedelta(days=MOST_BEFORE))
    weeks = (day - start).days // 7 * 7
    return Window(day - timedelta(days=weeks), day - timedelta(days=1)) if weeks >= LEAST_BEFORE else None


def after(day: date, following: date | None, mature: date) -> Window | None:
    """
    The whole mature weeks from a change on, at most twelve, up to the day before the next change of the same thing;
    None where there is not one.
    """
    last = min(mature, day + timedelta(days=MOST_AFTER - 1))
    if following is not None:
        last = min(last, following - timedelta(days=1))
    days = ((last - day).days + 1) // 7 * 7
    return Window(day, day + timedelta(days=days - 1)) if days >= LEAST_AFTER else None
