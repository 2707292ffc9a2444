"""Prices of a click that would rise, in words."""

from __future__ import annotations

from typing import Final

from nimbus_reef.core.boosts import BoostHour
from nimbus_reef.core.click_prices import Rise
from nimbus_reef.web.kit.figures import Figures

PLACES: Final = {
    "top_of_search": "at top of search",
    "elsewhere_in_search": "in the rest of search",
    "product_page": "on product pages",
    "off_site": "off-site",
}
_DAYS: Final = ("", "Mondays", "Tuesdays", "Wednesdays", "Thursdays", "Fridays", "Saturdays", "Sundays")


def rise_words(rise: Rise, figures: Figures) -> str:
    """A price that would rise, with both figures."""
    whose = f"“{rise.target}”" if rise.target else "a click"
    then = figures.money(rise.after, 2)
    today = f"it costs at most {figures.money(rise.before, 2)} today" if rise.before else "it does not run today"
    judged = "and is above target" if rise.target else "and this placement is above target"
    return (
        f"{whose} {PLACES[rise.placement.value]}{_when(rise.moment)} would cost up to {then} a click; {today} {judged}"
    )


def together_words(rise: Rise, figures: Figures) -> str:
    """A price that adjustments or boosts and a bid raise together, each computed without the other."""
    return (
        f"“{rise.target}” {PLACES[rise.placement.value]}{_when(rise.moment)} goes from at most"
        f" {figures.money(rise.before, 2)} to {figures.money(rise.after, 2)} a click: its bid and the adjustment or"
        " boost were planned apart"
    )


def _when(moment: BoostHour | None) -> str:
    if moment is None:
        return ""
    day = f" ({moment.day})" if moment.day else ""
    return f" on {_DAYS[moment.weekday]} from {moment.hour} h{day}"


REMEDY: Final = "Pause it or lower its bid first, then accept this."
