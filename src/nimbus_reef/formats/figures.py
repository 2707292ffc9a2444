"""Figures as people read them: one account's currency and locale, fixed decimals, – for nothing."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import date
from functools import lru_cache

from babel import Locale
from babel.dates import format_date
from babel.numbers import NumberPattern, get_currency_symbol, parse_pattern

from nimbus_reef.core.model import from_micro
from nimbus_reef.core.projection import Range
from nimbus_reef.core.windows import Window

NOTHING = "–"
_MINUS = "−"
_JOINED = "\u2060"
"""Between a sign and the currency's, where a line could end; before digits none does."""


_locale = lru_cache(Locale.parse)


@lru_cache
def _pattern(digits: int) -> NumberPattern:
    return parse_pattern("#,##0" + ("." + "0" * digits if digits else ""))


@lru_cache(maxsize=65_536)
def _written(locale: str, value: float, digits: int) -> str:
    """
    A decimal as the locale writes it. Pages repeat few figures; Babel, asked for its pattern each time, takes three
    times as long.
    """
    return str(_pattern(digits).apply(value or 0, _locale(locale))).replace("-", _MINUS)


@lru_cache(maxsize=65_536)
def _money(locale: str, currency: str, value: float, digits: int) -> str:
    """The same after the currency's sign, whatever the locale's usual order: a column of them lines up."""
    sign = f"{_MINUS}{_JOINED}" if value < 0 else ""
    return f"{sign}{_symbol(currency, locale)}\u00a0{_written(locale, abs(value), digits)}"


_symbol = lru_cache(get_currency_symbol)


def _signed(text: str, value: float) -> str:
    if value <= 0:
        return text
    return f"+{text}" if text[:1].isdigit() else f"+{_JOINED}{text}"


@dataclass(frozen=True, slots=True)
class Figures:
    """Writes figures for one account."""

    locale: str
    currency: str

    @property
    def symbol(self) -> str:
        """The currency's sign, for headers."""
        return _symbol(self.currency, self.locale)

    def _decimal(self, value: float, digits: int) -> str:
        return _written(self.locale, round(value, digits), digits)

    def count(self, value: float | None) -> str:
        """A whole number."""
        return NOTHING if value is None else self._decimal(value, 0)

    def counted(self, value: float, thing: str, things: str = "") -> str:
        """A number of things: 1 click, 2 clicks; things: more than one of them, where an s is not enough."""
        return f"{self.count(value)} {thing if value == 1 else things or thing + 's'}"

    def number(self, value: float | None, digits: int = 2) -> str:
        """A number with fixed decimals."""
        return NOTHING if value is None else self._decimal(value, digits)

    def cell(self, value: float | None, digits: int) -> str:
        """A figure in a column, whose unit stands in the header; endless is ∞."""
        return NOTHING if value is None else "∞" if value == math.inf else self._decimal(value, digits)

    def percent(self, value: float | None, digits: int = 1) -> str:
        """A fraction in percent, without the sign: it stands in the header."""
        return NOTHING if value is None else self._decimal(value * 100, digits)

    def rate(self, value: float | None, digits: int = 1) -> str:
        """A fraction in percent, for running text."""
        return NOTHING if value is None else f"{self._decimal(value * 100, digits)}\u00a0%"

    def aim(self, value: float) -> str:
        """A target as it was set: whole percent, or with its one decimal."""
        return self.rate(value, 0 if abs(value * 100 - round(value * 100)) < 0.05 else 1)

    def money(self, value: float | None, digits: int = 0) -> str:
        """Units of currency with its sign."""
        return NOTHING if value is None else _money(self.locale, self.currency, round(value, digits), digits)

    def micro(self, value: float | None, digits: int = 0) -> str:
        """Micro-units as money."""
        return NOTHING if value is None else self.money(from_micro(value), digits)

    def change(self, value: float, digits: int = 0) -> str:
        """Money gained or lost, with its sign."""
        return _signed(self.money(value, digits), round(value, digits))

    def relative(self, value: float, digits: int = 1) -> str:
        """A relative change, with its sign."""
        return _signed(self.rate(value, digits), round(value * 100, digits))

    def signed(self, value: float, digits: int = 0) -> str:
        """A number with its sign; what rounds to nothing has none."""
        return _signed(self.number(value, digits), round(value, digits))

    def span(self, values: Range) -> str:
        """A change as its 80 % range; one figure where the ends are the same to the eye."""
        if abs(values.high - values.low) < 1:
            return self.change(values.middle)
        return f"{self.change(values.low)} to {self.change(values.high)}"

    def short(self, value: float) -> str:
        """A figure for the rail: 2.1k."""
        if abs(value) < 1000:
            return self._decimal(value, 0)
        return f"{self._decimal(value / 1000, 1)}k"

    def one_in(self, chance: float) -> str:
        """A chance as people say it: 1 in 200."""
        if chance <= 0.0005:
            return f"less than 1 in {self._decimal(2000, 0)}"
        if chance > 0.5:
            return self.rate(chance, 0)
        nearest = 1 / chance
        step = 1 if nearest < 20 else 5 if nearest < 100 else 50 if nearest < 1000 else 100
        return f"1 in {self._decimal(max(2, round(nearest / step) * step), 0)}"

    def days(self, window: Window) -> str:
        """17 Sep – 16 Oct 2026."""
        first, last = window.first, window.last
        start = "d MMM" if first.year == last.year else "d MMM y"
        return (
            f"{format_date(first, start, locale=self.locale)}\u2009–\u2009"
            f"{format_date(last, 'd MMM y', locale=self.locale)}"
        )

    def day(self, day: date) -> str:
        """16 Oct 2026."""
        return format_date(day, "d MMM y", locale=self.locale)

    def month(self, day: date) -> str:
        """Oct."""
        return format_date(day, "MMM", locale=self.locale)

    def month_and_year(self, day: date) -> str:
        """October 2026."""
        return format_date(day, "LLLL y", locale=self.locale)
