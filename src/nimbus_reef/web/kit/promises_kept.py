"""Sentences on what changes promised and brought, shared by several areas."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Final

from nimbus_reef.analysis.outcome.listed import AWAY, PROFIT, SumLine
from nimbus_reef.core.outcome import OutcomeSum
from nimbus_reef.core.windows import per_month
from nimbus_reef.formats.figures import Figures

MONEY: Final = {PROFIT: "profit", AWAY: "spend that stays away"}


def range_words(low: float, high: float, figures: Figures) -> str:
    """An 80 % range per 30 days."""
    return f"{figures.money(low)} to {figures.money(high)}"


def monthly_range(total: OutcomeSum, figures: Figures) -> str:
    """The 80 % range of a sum of a day's amounts, per 30 days."""
    low, high = (per_month(end, 1) for end in total.range)
    return range_words(low, high, figures)


def promised_and_came(lines: Sequence[SumLine], figures: Figures) -> str:
    """What changes promised and brought, both kinds of money each for itself; empty where nothing has a result yet."""
    said = []
    for line in lines:
        if line.whole and line.total.changes:
            promised, came = (per_month(each, 1) for each in (line.total.promised, line.total.result))
            said.append(
                f"{figures.money(promised)} of {MONEY[line.money]} promised, {figures.money(came)} came"
                f" ({monthly_range(line.total, figures)})"
            )
    return f"{'; '.join(said)}." if said else ""
