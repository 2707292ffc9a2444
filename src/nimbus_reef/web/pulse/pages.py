"""What Pulse says: one line per account, by currency."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from nimbus_reef.analysis.pulse import Beat
from nimbus_reef.core.metrics import ratio
from nimbus_reef.formats.figures import Figures
from nimbus_reef.web.kit.beats import BeatLine, line


@dataclass(frozen=True, slots=True)
class Purse:
    """The accounts of one currency, and what they come to: currencies are never added together."""

    currency: str
    lines: tuple[BeatLine, ...]
    spend: str
    sales: str
    acos: str


def purses(beats: Sequence[Beat], today: date) -> list[Purse]:
    """Accounts by currency, in the order they come."""
    found: dict[str, list[Beat]] = {}
    for each in beats:
        found.setdefault(each.account.currency, []).append(each)
    return [_purse(currency, own, today) for currency, own in found.items()]


def _purse(currency: str, beats: Sequence[Beat], today: date) -> Purse:
    figures = Figures(beats[0].account.locale, currency)
    spend = sum(each.now.spend for each in beats if each.now)
    sales = sum(each.now.sales for each in beats if each.now)
    return Purse(
        currency,
        tuple(line(each, today) for each in beats),
        figures.micro(spend),
        figures.micro(sales),
        figures.rate(ratio(spend, sales)),
    )
