"""Countries, and what usually goes with one: its currency, time zone, and how figures are written there."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Final

from babel import Locale, localedata
from babel.core import get_global
from babel.languages import get_official_languages
from babel.numbers import get_territory_currencies

_ENGLISH: Final = Locale("en")


@dataclass(frozen=True, slots=True)
class Usual:
    """What usually goes with a country."""

    currency: str
    timezone: str
    locale: str


@cache
def countries() -> tuple[tuple[str, str], ...]:
    """Code and English name of every country that has a currency and a time zone, by name."""
    found = [
        (code, name)
        for code, name in _ENGLISH.territories.items()
        if len(code) == 2 and code.isalpha() and usual(code) is not None
    ]
    return tuple(sorted(found, key=lambda each: each[1]))


@cache
def usual(country: str) -> Usual | None:
    """What goes with a country; None where nothing is known of it."""
    currencies = get_territory_currencies(country)
    zones: dict[str, str] = get_global("zone_territories")  # type: ignore[assignment]  # of this one the values are texts
    own = sorted(zone for zone, territory in zones.items() if territory == country and "/" in zone)
    if not currencies or not own:
        return None
    return Usual(str(currencies[0]), _largest(country, own), _locale(country))


_SEVERAL: Final = {
    "US": "America/New_York",
    "CA": "America/Toronto",
    "AU": "Australia/Sydney",
    "BR": "America/Sao_Paulo",
    "MX": "America/Mexico_City",
    "ES": "Europe/Madrid",
    "DE": "Europe/Berlin",
    "PT": "Europe/Lisbon",
    "CN": "Asia/Shanghai",
    "RU": "Europe/Moscow",
    "NZ": "Pacific/Auckland",
    "ID": "Asia/Jakarta",
    "CL": "America/Santiago",
    "AR": "America/Buenos_Aires",
}
"""The zone in which most people live, of countries with several."""


def _largest(country: str, zones: list[str]) -> str:
    return _SEVERAL.get(country, zones[0])


def _locale(country: str) -> str:
    names = (f"{language.split('_')[0]}_{country}" for language in get_official_languages(country, de_facto=True))
    return next((name for name in names if localedata.exists(name)), "en")
